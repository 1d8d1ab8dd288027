import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { answer, api, given } from "../../lib/api";
import type { NewReceiver, Verified } from "../../lib/documents";
import { useAct } from "../../lib/query";

const page = 100;

/** What a line finds, newest first, as many pages as were asked for. */
export const useAudit = (line: string) =>
  useInfiniteQuery({
    queryKey: ["audit", line],
    queryFn: ({ pageParam }) =>
      answer(api.GET("/audit", { params: { query: given({ q: line, limit: page, before: pageParam }) } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    retry: false,
  });

export const useEntry = (seq: number | undefined) =>
  useQuery({
    queryKey: ["audit", "entry", seq],
    queryFn: () => answer(api.GET("/audit/entries/{number}", { params: { path: { number: seq ?? 0 } } })),
    enabled: seq !== undefined,
  });

export const usePace = (line: string) =>
  useQuery({
    queryKey: ["audit", "pace", line],
    queryFn: () => answer(api.GET("/audit/pace", { params: { query: { q: line } } })),
    retry: false,
    placeholderData: keepPreviousData,
  });

export const useSearchHints = (line: string) =>
  useQuery({
    queryKey: ["audit", "hints", line],
    queryFn: () => answer(api.GET("/audit/complete", { params: { query: { q: line } } })),
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    meta: { readsDevice: true },
  });

export const useSearches = () => useQuery({ queryKey: ["searches"], queryFn: () => answer(api.GET("/searches")) });

export const useSaveSearch = () =>
  useAct(({ name, ...v }: { name: string; line: string; shared: boolean }) =>
    answer(api.PUT("/searches/{name}", { params: { path: { name } }, body: v })),
  );

export const useForgetSearch = () =>
  useAct((name: string) => answer(api.DELETE("/searches/{name}", { params: { path: { name } } })));

export const useVerify = () => useAct<undefined, Verified>(() => answer(api.GET("/audit/verify")));

/** Every commit, newest first; by a person, of a device, of a change. */
export const useCommits = (filter: Record<string, string>) =>
  useInfiniteQuery({
    queryKey: ["commits", filter],
    queryFn: ({ pageParam }) =>
      answer(api.GET("/commits", { params: { query: given({ ...filter, before: pageParam }) } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    retry: false,
  });

export const useCommitRecord = (number: number) =>
  useQuery({
    queryKey: ["commits", number],
    queryFn: () => answer(api.GET("/commits/{number}", { params: { path: { number } } })),
    retry: false,
  });

export const useReceivers = (wanted: boolean) =>
  useQuery({ queryKey: ["receivers"], queryFn: () => answer(api.GET("/receivers")), enabled: wanted });

export const useAddReceiver = () => useAct((v: NewReceiver) => answer(api.POST("/receivers", { body: v })));

export const useTryReceiver = () =>
  useAct((name: string) => answer(api.POST("/receivers/{name}/try", { params: { path: { name } } })));

export const useRetireReceiver = () =>
  useAct((name: string) => answer(api.DELETE("/receivers/{name}", { params: { path: { name } } })));

/** Signs what the record is now, to be kept elsewhere. */
export const useSignCheckpoint = () => useAct(() => answer(api.POST("/audit/checkpoint")));
