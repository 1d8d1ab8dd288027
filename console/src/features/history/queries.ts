import { useQuery } from "@tanstack/react-query";
import { answer, api, given } from "../../lib/api";
import type { NewSnapshot } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useRevisions = (name: string, line: "running" | "startup") =>
  useQuery({
    queryKey: ["revisions", name, line],
    queryFn: () => answer(api.GET("/devices/{name}/revisions", { params: { path: { name }, query: { line } } })),
  });

export const useTimeline = (name: string) =>
  useQuery({
    queryKey: ["timeline", name],
    queryFn: () => answer(api.GET("/devices/{name}/timeline", { params: { path: { name } } })),
  });

export const useBlame = (name: string, path: string) =>
  useQuery({
    queryKey: ["blame", name, path],
    queryFn: () => answer(api.GET("/devices/{name}/blame", { params: { path: { name }, query: { path } } })),
    retry: false,
  });

/** What happened at a path and below it. */
export const useLife = (name: string, path: string) =>
  useQuery({
    queryKey: ["life", name, path],
    queryFn: () => answer(api.GET("/devices/{name}/history", { params: { path: { name }, query: { path } } })),
    enabled: path !== "",
    retry: false,
  });

/** Any two configurations; places such as running may make the service read the device. */
export const useComparison = (a: string, b: string, path: string, context: number) =>
  useQuery({
    queryKey: ["compare", a, b, path, context],
    queryFn: () => answer(api.GET("/compare", { params: { query: { a, b, path, context } } })),
    retry: false,
    meta: { readsDevice: true },
  });

export const useSnapshots = (device?: string) =>
  useQuery({
    queryKey: ["snapshots", device],
    queryFn: () => answer(api.GET("/snapshots", { params: { query: given({ device }) } })),
  });

export const useSnapshot = (number: number | undefined) =>
  useQuery({
    queryKey: ["snapshots", "one", number],
    queryFn: () => answer(api.GET("/snapshots/{ref}", { params: { path: { ref: String(number ?? "") } } })),
    enabled: number !== undefined,
  });

export const useTakeSnapshot = () => useAct((v: NewSnapshot) => answer(api.POST("/snapshots", { body: v })));

export const useRelabel = (number: number) =>
  useAct((v: { name?: string; note?: string; protected?: boolean; retired?: boolean }) =>
    answer(api.PATCH("/snapshots/{ref}", { params: { path: { ref: String(number) } }, body: v })),
  );

/** What moved on many devices between two moments; asked for only while wanted. */
export const useMoved = (from: string, to: string, wanted: boolean) =>
  useQuery({
    queryKey: ["moved", from, to],
    queryFn: () => answer(api.GET("/compare/fleet", { params: { query: { from, to } } })),
    enabled: wanted,
    retry: false,
    meta: { readsDevice: true },
  });

export const useImport = () =>
  useAct((v: { device: string; name: string; text: string }) => answer(api.POST("/import", { body: v })));

export const useImportBundle = () =>
  useAct((file: Blob) =>
    answer(
      api.POST("/import/bundle", {
        body: file,
        bodySerializer: () => file,
        headers: { "Content-Type": "application/x-tar" },
      }),
    ),
  );

export const useRestore = () =>
  useAct((v: { from: string; devices?: string[]; paths?: string[] }) => answer(api.POST("/restore", { body: v })));

export const useUndo = () => useAct((change: number) => answer(api.POST("/undo", { body: { change } })));
