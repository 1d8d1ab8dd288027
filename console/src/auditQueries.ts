import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { call } from "./api";
import type { Audit, EntryDoc, Pace, Search, SearchHints, Verified } from "./auditApi";
import { useAct } from "./queries";

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
