import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { Audit, CommitRecord, CommitRecords, EntryDoc, NewReceiver, Pace, Receiver, Search, SearchHints, Verified } from "../../lib/documents";
import { useAct } from "../../lib/query";

const page = 100;

/** What a line finds, newest first, as many pages as were asked for. */
export const useAudit = (line: string) =>
  useInfiniteQuery({
    queryKey: ["audit", line],
    queryFn: ({ pageParam }) => call<Audit>("GET", `/audit?${new URLSearchParams({ q: line, limit: String(page), ...(pageParam ? { before: String(pageParam) } : {}) }).toString()}`),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    retry: false,
  });

export const useEntry = (seq: number | undefined) =>
  useQuery({ queryKey: ["audit", "entry", seq], queryFn: () => call<EntryDoc>("GET", `/audit/entries/${String(seq)}`), enabled: seq !== undefined });

export const usePace = (line: string) =>
  useQuery({ queryKey: ["audit", "pace", line], queryFn: () => call<Pace>("GET", `/audit/pace?${new URLSearchParams({ q: line }).toString()}`), retry: false, placeholderData: keepPreviousData });

export const useSearchHints = (line: string) =>
  useQuery({ queryKey: ["audit", "hints", line], queryFn: () => call<SearchHints>("GET", `/audit/complete?${new URLSearchParams({ q: line }).toString()}`), placeholderData: keepPreviousData, staleTime: 30_000, meta: { readsDevice: true } });

export const useSearches = () => useQuery({ queryKey: ["searches"], queryFn: () => call<Search[]>("GET", "/searches") });

export const useSaveSearch = () => useAct(({ name, ...v }: { name: string; line: string; shared: boolean }) => call<Search>("PUT", `/searches/${encodeURIComponent(name)}`, v));

export const useForgetSearch = () => useAct((name: string) => call<undefined>("DELETE", `/searches/${encodeURIComponent(name)}`));

export const useVerify = () => useAct<undefined, Verified>(() => call<Verified>("GET", "/audit/verify"));

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
