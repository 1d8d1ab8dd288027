import { useQuery } from "@tanstack/react-query";
import { answer, api } from "../../lib/api";
import type { NewArchive } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useArchives = () => useQuery({ queryKey: ["archives"], queryFn: () => answer(api.GET("/archives")) });

export const useAddArchive = () => useAct((v: NewArchive) => answer(api.POST("/archives", { body: v })));

export const useSetArchive = (name: string) =>
  useAct((v: { retired?: boolean; position?: number }) =>
    answer(api.PATCH("/archives/{name}", { params: { path: { name } }, body: v })),
  );

export const useCopies = (archive: string) =>
  useQuery({
    queryKey: ["copies", archive],
    queryFn: () => answer(api.GET("/copies", { params: { query: { archive } } })),
  });

export const useCopyText = (id: number) =>
  useQuery({
    queryKey: ["copies", "one", id],
    queryFn: () => answer(api.GET("/copies/{id}", { params: { path: { id } } })),
    retry: false,
    meta: { readsDevice: true },
  });

export const useStanding = () => useQuery({ queryKey: ["standing"], queryFn: () => answer(api.GET("/standing")) });

export const useVerifyArchive = () =>
  useAct((name: string) => answer(api.POST("/archives/{name}/verify", { params: { path: { name } } })));

export const useCopyNow = () => useAct((archive: string) => answer(api.POST("/copies", { body: { archive } })));

/** Long work, looked at until it is over. */
export const useJob = (id: number | undefined) =>
  useQuery({
    queryKey: ["jobs", id],
    queryFn: () => answer(api.GET("/jobs/{id}", { params: { path: { id: id ?? 0 } } })),
    enabled: id !== undefined,
    refetchInterval: (q) => (q.state.data && q.state.data.state !== "running" ? false : 700),
  });

export const useStopJob = () => useAct((id: number) => answer(api.DELETE("/jobs/{id}", { params: { path: { id } } })));

/** Makes devices and revisions again from nothing but an archive. */
export const useRebuild = () =>
  useAct((name: string) => answer(api.POST("/archives/{name}/rebuild", { params: { path: { name } } })));
