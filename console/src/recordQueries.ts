import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { call } from "./api";
import { useAct } from "./queries";
import type { CommitRecord, CommitRecords, NewReceiver, Outside, Pushed, Receiver, Silence } from "./recordApi";

export const useOutsides = (all: boolean, device?: string) =>
  useQuery({ queryKey: ["outside", all, device], queryFn: () => call<Outside[]>("GET", `/outside?${new URLSearchParams({ ...(all ? { all: "true" } : {}), ...(device ? { device } : {}) }).toString()}`) });

export const useOutside = (number: number | undefined) =>
  useQuery({ queryKey: ["outside", number], queryFn: () => call<Outside>("GET", `/outside/${String(number)}?context=1`), enabled: number !== undefined, retry: false });

export const useAdopt = (number: number) => useAct((note: string) => call<Outside>("POST", `/outside/${String(number)}/adopt`, { note }));

export const usePushBack = (number: number) => useAct<undefined, Pushed>(() => call<Pushed>("POST", `/outside/${String(number)}/push-back`, {}));

export const useGoOn = (number: number) => useAct((devices: string[]) => call<Pushed>("POST", `/outside/${String(number)}/open`, { devices }));

export const useSilences = () => useQuery({ queryKey: ["silences"], queryFn: () => call<Silence[]>("GET", "/silences") });

export const useSilence = () => useAct((v: { device: string; path: string; note: string }) => call<Silence>("POST", "/silences", v));

export const useUnsilence = () => useAct((number: number) => call<undefined>("DELETE", `/silences/${String(number)}`));

/** Every commit, newest first; by a person, of a device, of a change. */
export const useCommits = (filter: Record<string, string>) =>
  useInfiniteQuery({
    queryKey: ["commits", filter],
    queryFn: ({ pageParam }) => call<CommitRecords>("GET", `/commits?${new URLSearchParams({ ...filter, ...(pageParam ? { before: String(pageParam) } : {}) }).toString()}`),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    retry: false,
  });

export const useCommitRecord = (number: number) =>
  useQuery({ queryKey: ["commits", number], queryFn: () => call<CommitRecord>("GET", `/commits/${String(number)}`), retry: false });

export const useReceivers = (wanted: boolean) => useQuery({ queryKey: ["receivers"], queryFn: () => call<Receiver[]>("GET", "/receivers"), enabled: wanted });

export const useAddReceiver = () => useAct((v: NewReceiver) => call<Receiver>("POST", "/receivers", v));

export const useTryReceiver = () => useAct((name: string) => call<undefined>("POST", `/receivers/${encodeURIComponent(name)}/try`));

export const useRetireReceiver = () => useAct((name: string) => call<undefined>("DELETE", `/receivers/${encodeURIComponent(name)}`));
