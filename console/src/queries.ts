import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ApiError, call } from "./api";
import type { Attention, Audit, Change, Config, Device, Preview, Session, Staged } from "./api";

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
  useAct((holdSeconds: number) => call<Change>("POST", `/changes/${String(number)}/commit`, { holdSeconds }));

export const useSay = (number: number) =>
  useAct((word: "confirm" | "revert" | "drop") => call<Change>("POST", `/changes/${String(number)}/${word}`));

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
