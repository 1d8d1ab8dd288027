import { useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Blame, BroughtBack, Comparison, FleetComparison, ImportedBundle, Moment, NewSnapshot, RevisionDoc, Snapshot } from "../../lib/documents";
import { devicePath } from "../../lib/paths";
import { useAct } from "../../lib/query";

export const useRevisions = (name: string, line: "running" | "startup") =>
  useQuery({ queryKey: ["revisions", name, line], queryFn: () => call<RevisionDoc[]>("GET", `${devicePath(name)}/revisions?line=${line}`) });

export const useTimeline = (name: string) =>
  useQuery({ queryKey: ["timeline", name], queryFn: () => call<Moment[]>("GET", `${devicePath(name)}/timeline`) });

export const useBlame = (name: string, path: string) =>
  useQuery({ queryKey: ["blame", name, path], queryFn: () => call<Blame>("GET", `${devicePath(name)}/blame?path=${encodeURIComponent(path)}`), retry: false });

/** Any two configurations; places such as running may make the service read the device. */
export const useComparison = (a: string, b: string, path: string, context: number) =>
  useQuery({
    queryKey: ["compare", a, b, path, context],
    queryFn: () => call<Comparison>("GET", `/compare?${new URLSearchParams({ a, b, path, context: String(context) }).toString()}`),
    retry: false,
    meta: { readsDevice: true },
  });

export const useSnapshots = (device?: string) =>
  useQuery({ queryKey: ["snapshots", device], queryFn: () => call<Snapshot[]>("GET", `/snapshots${device ? `?device=${encodeURIComponent(device)}` : ""}`) });

export const useSnapshot = (number: number | undefined) =>
  useQuery({ queryKey: ["snapshots", "one", number], queryFn: () => call<Snapshot>("GET", `/snapshots/${String(number)}`), enabled: number !== undefined });

export const useTakeSnapshot = () => useAct((v: NewSnapshot) => call<Snapshot>("POST", "/snapshots", v));

export const useRelabel = (number: number) =>
  useAct((v: { name?: string; note?: string; protected?: boolean; retired?: boolean }) => call<Snapshot>("PATCH", `/snapshots/${String(number)}`, v));

/** What moved on many devices between two moments; asked for only while wanted. */
export const useMoved = (from: string, to: string, wanted: boolean) =>
  useQuery({
    queryKey: ["moved", from, to],
    queryFn: () => call<FleetComparison>("GET", `/compare/fleet?${new URLSearchParams({ from, to }).toString()}`),
    enabled: wanted,
    retry: false,
    meta: { readsDevice: true },
  });

export const useImport = () => useAct((v: { device: string; name: string; text: string }) => call<BroughtBack>("POST", "/import", v));

export const useImportBundle = () => useAct((file: Blob) => call<ImportedBundle>("POST", "/import/bundle", file));

export const useRestore = () => useAct((v: { from: string; devices?: string[]; paths?: string[] }) => call<BroughtBack>("POST", "/restore", v));

export const useUndo = () => useAct((change: number) => call<BroughtBack>("POST", "/undo", { change }));
