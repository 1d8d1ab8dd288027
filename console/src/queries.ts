import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ApiError, call } from "./api";
import type { Attention, Audit, Change, Config, Device, Due, NewCommit, NewDue, Preview, Session, Staged, StoreDifference, Visitor } from "./api";

/**
 * Marks queries that make the service read devices. They are not asked anew for
 * every event: a device that is polled too often may never get to its own work.
 */
const readsDevice = { readsDevice: true };

/** Who is signed in; null where nobody is. */
export function useSession() {
  return useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      try {
        return await call<Session>("GET", "/me");
      } catch (err) {
        if (err instanceof ApiError && err.problem.status === 401) return null;
        throw err;
      }
    },
    staleTime: 60_000,
  });
}

export const useAttention = () =>
  useQuery({ queryKey: ["attention"], queryFn: () => call<Attention>("GET", "/attention"), refetchInterval: 5_000 });

export const useDevices = () => useQuery({ queryKey: ["devices"], queryFn: () => call<Device[]>("GET", "/devices") });

export const useDevice = (name: string) =>
  useQuery({ queryKey: ["devices", name], queryFn: () => call<Device>("GET", `/devices/${encodeURIComponent(name)}`) });

export const useConfig = (name: string, from: string) =>
  useQuery({
    queryKey: ["config", name, from],
    queryFn: () => call<Config>("GET", `/devices/${encodeURIComponent(name)}/config?from=${encodeURIComponent(from)}`),
    retry: false,
    meta: readsDevice,
  });

export const useChanges = () => useQuery({ queryKey: ["changes"], queryFn: () => call<Change[]>("GET", "/changes") });

export const useChange = (number: number) =>
  useQuery({ queryKey: ["changes", number], queryFn: () => call<Change>("GET", `/changes/${String(number)}`), retry: false });

/** The preview of a change as it was last updated; asked for anew when that moves. */
export const usePreview = (number: number, updated: string | undefined) =>
  useQuery({
    queryKey: ["preview", number, updated],
    queryFn: () => call<Preview>("GET", `/changes/${String(number)}/preview?context=2`),
    enabled: updated !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    meta: readsDevice,
  });

export const useAudit = (filter: string) =>
  useQuery({ queryKey: ["audit", filter], queryFn: () => call<Audit>("GET", `/audit?limit=200${filter}`) });

/** A request that changes something; everything shown is asked for anew after it. */
export function useAct<V, R = unknown>(act: (v: V) => Promise<R>) {
  const client = useQueryClient();
  return useMutation({ mutationFn: act, onSettled: () => client.invalidateQueries() });
}

export const useOpenChange = () => useAct((v: { title: string; ticket: string }) => call<Change>("POST", "/changes", v));

export const useStage = (number: number) =>
  useAct((v: { device: string; op: string; path: string; value?: string | undefined }) =>
    call<Staged>("POST", `/changes/${String(number)}/edits`, v),
  );

export const useUnstage = (number: number) =>
  useAct((id: number) => call<undefined>("DELETE", `/changes/${String(number)}/edits/${String(id)}`));

export const useCommit = (number: number) =>
  useAct((how: NewCommit) => call<Change>("POST", `/changes/${String(number)}/commit`, how));

export const useScheduleCommit = (number: number) =>
  useAct((due: NewDue) => call<Due>("POST", `/changes/${String(number)}/schedule`, due));

/** A person's word to a commit. */
export type Word = "begin" | "confirm" | "revert" | "drop";

export const useSay = (number: number) =>
  useAct((v: { word: Word; despite?: boolean }) =>
    call<Change>("POST", `/changes/${String(number)}/${v.word}`, v.word === "confirm" ? { despite: v.despite ?? false } : undefined));

export const useHold = (number: number) =>
  useAct((addSeconds: number) => call<Change>("POST", `/changes/${String(number)}/hold`, { addSeconds }));

export const useLeave = (number: number) =>
  useAct((device: string) => call<Change>("POST", `/changes/${String(number)}/leave`, { device }));

export const useSchedule = () => useQuery({ queryKey: ["schedule"], queryFn: () => call<Due[]>("GET", "/schedule") });

export const useUnschedule = () => useAct((id: number) => call<undefined>("DELETE", `/schedule/${String(id)}`));

const devicePath = (name: string) => `/devices/${encodeURIComponent(name)}`;

/** Two of a device's configurations compared; asked for only while wanted. */
export const useStoreDifference = (name: string, from: string, to: string, wanted: boolean) =>
  useQuery({
    queryKey: ["difference", name, from, to],
    queryFn: () => call<StoreDifference>("GET", `${devicePath(name)}/difference?from=${from}&to=${to}`),
    enabled: wanted,
    retry: false,
    staleTime: 0,
    meta: readsDevice,
  });

export const useVisitors = (name: string, wanted: boolean) =>
  useQuery({ queryKey: ["sessions", name], queryFn: () => call<Visitor[]>("GET", `${devicePath(name)}/sessions`), enabled: wanted, retry: false, meta: readsDevice });

/** What is done to a device beside commits. */
export const useCare = (name: string) =>
  useAct((v: { method: "POST" | "PATCH" | "DELETE" | "GET"; path: string; body?: unknown }) => call<unknown>(v.method, `${devicePath(name)}${v.path}`, v.body));

/**
 * Asks anew for what is shown whenever something is written to the ledger. Only
 * a page that is looked at holds a stream: browsers allow few connections to
 * one server, and open tabs must not use them up.
 */
export function useLive(signedIn: boolean) {
  const client = useQueryClient();
  useEffect(() => {
    if (!signedIn) return;
    let events: EventSource | undefined;
    let pending: number | undefined;
    const refresh = () => {
      pending ??= window.setTimeout(() => {
        pending = undefined;
        void client.invalidateQueries({ predicate: (q) => q.meta?.["readsDevice"] !== true });
      }, 150);
    };
    const close = () => {
      events?.close();
      events = undefined;
    };
    const look = () => {
      if (document.visibilityState !== "visible") {
        close();
      } else if (!events) {
        events = new EventSource("/api/v1/events");
        events.addEventListener("entry", refresh);
        refresh();
      }
    };
    look();
    document.addEventListener("visibilitychange", look);
    window.addEventListener("pagehide", close);
    return () => {
      document.removeEventListener("visibilitychange", look);
      window.removeEventListener("pagehide", close);
      window.clearTimeout(pending);
      close();
    };
  }, [client, signedIn]);
}
