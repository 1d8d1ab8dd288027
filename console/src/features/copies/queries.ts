import { useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Archive, Copy, Job, NewArchive, Standing } from "../../lib/documents";
import { useAct } from "../../lib/query";

export const useArchives = () => useQuery({ queryKey: ["archives"], queryFn: () => call<Archive[]>("GET", "/archives") });

const archivePath = (name: string) => `/archives/${encodeURIComponent(name)}`;

export const useAddArchive = () => useAct((v: NewArchive) => call<Archive>("POST", "/archives", v));

export const useSetArchive = (name: string) => useAct((v: { retired?: boolean; position?: number }) => call<Archive>("PATCH", archivePath(name), v));

export const useCopies = (archive: string) =>
  useQuery({ queryKey: ["copies", archive], queryFn: () => call<Copy[]>("GET", `/copies?archive=${encodeURIComponent(archive)}`) });

export const useCopyText = (id: number) =>
  useQuery({ queryKey: ["copies", "one", id], queryFn: () => call<Copy & { text: string }>("GET", `/copies/${String(id)}`), retry: false, meta: { readsDevice: true } });

export const useStanding = () => useQuery({ queryKey: ["standing"], queryFn: () => call<Standing[]>("GET", "/standing") });

export const useVerifyArchive = () => useAct((name: string) => call<Job>("POST", `${archivePath(name)}/verify`));

export const useCopyNow = () => useAct((archive: string) => call<Job>("POST", "/copies", { archive }));

/** Long work, looked at until it is over. */
export const useJob = (id: number | undefined) =>
  useQuery({
    queryKey: ["jobs", id],
    queryFn: () => call<Job>("GET", `/jobs/${String(id)}`),
    enabled: id !== undefined,
    refetchInterval: (q) => (q.state.data && q.state.data.state !== "running" ? false : 700),
  });

export const useStopJob = () => useAct((id: number) => call<undefined>("DELETE", `/jobs/${String(id)}`));
