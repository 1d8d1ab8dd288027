import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { call } from "./api";
import type { Device } from "./api";
import type { Archive, Blame, BroughtBack, Carried, Comparison, Copy, FleetComparison, HostKey, ImportedBundle, Job, Moment, NewArchive, NewSnapshot, RevisionDoc, Snapshot, Standing } from "./pastApi";
import { useAct } from "./queries";

const devicePath = (name: string) => `/devices/${encodeURIComponent(name)}`;

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

export const useCarry = () => useAct((v: { from: string; place: string; onto: string }) => call<Carried>("POST", "/carry", v));

export const useReplaceBox = (name: string) =>
  useAct((v: { name: string; address: string; account: string; password?: string; privateKey?: string }) => call<Device>("POST", `${devicePath(name)}/replace`, v));

/** The host key that what stands at a path of the API shows now; asked for by hand. */
export const useHostKey = (of: string) =>
  useQuery({ queryKey: ["host-key", of], queryFn: () => call<HostKey>("GET", `${of}/host-key`), enabled: false, retry: false });

/** Accepts it; what is answered is the key as it is accepted now. */
export function useTrust(of: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (fingerprint: string) => call<HostKey>("POST", `${of}/trust`, { fingerprint }),
    onSuccess: (_, fingerprint) => {
      client.setQueryData<HostKey>(["host-key", of], (k) => k && { ...k, accepted: fingerprint });
      void client.invalidateQueries();
    },
  });
}

export const useRestore = () => useAct((v: { from: string; devices?: string[]; paths?: string[] }) => call<BroughtBack>("POST", "/restore", v));

export const useUndo = () => useAct((change: number) => call<BroughtBack>("POST", "/undo", { change }));

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
