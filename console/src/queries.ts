import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ApiError, call } from "./api";
import type { Attention, Change, Config, Device, Due, Hint, Loaded, NewCommit, NewDue, NewEdit, NewLoad, Part, Preview, Reservation, Saved, Session, Shared, Staged, Stencil, StoreDifference, Unsettled, Visitor } from "./api";
import type { BroughtBack } from "./pastApi";
import { happened, touches, type Happened } from "./touched";

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
  useQuery({ queryKey: ["attention"], queryFn: () => call<Attention>("GET", "/attention"), refetchInterval: 30_000 });

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

/** How many changes are asked for at a time. */
const changesAtOnce = 200;

/** Which changes are asked for: what is left out is any. */
export interface ChangesWanted {
  state?: string;
  text?: string;
}

export const useChanges = (wanted: ChangesWanted) =>
  useInfiniteQuery({
    queryKey: ["changes", "list", wanted],
    queryFn: ({ pageParam }) => {
      const q = new URLSearchParams({ limit: String(changesAtOnce) });
      if (pageParam) q.set("before", String(pageParam));
      if (wanted.state) q.set("state", wanted.state);
      if (wanted.text) q.set("text", wanted.text);
      return call<Change[]>("GET", `/changes?${q.toString()}`);
    },
    placeholderData: keepPreviousData,
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length < changesAtOnce ? undefined : last.at(-1)?.number),
  });

export const useChange = (number: number) =>
  useQuery({ queryKey: ["changes", number], queryFn: () => call<Change>("GET", `/changes/${String(number)}`), retry: false });

/** How a preview is wanted: what is left out is the usual. */
export interface PreviewOptions {
  context?: number;
  device?: string;
  by?: string;
  as?: string;
  validate?: boolean;
}

/** The preview of a change as it was last updated; asked for anew when that moves. */
export const usePreview = (number: number, updated: string | undefined, options: PreviewOptions = {}, wanted = true) =>
  useQuery({
    queryKey: ["preview", number, updated, options],
    queryFn: () => {
      const q = new URLSearchParams({ context: String(options.context ?? 2) });
      if (options.device) q.set("device", options.device);
      if (options.by) q.set("by", options.by);
      if (options.as) q.set("as", options.as);
      if (options.validate) q.set("validate", "true");
      return call<Preview>("GET", `/changes/${String(number)}/preview?${q.toString()}`);
    },
    enabled: wanted && updated !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    meta: readsDevice,
  });

/** A request that changes something; everything shown is asked for anew after it. */
export function useAct<V, R = unknown>(act: (v: V) => Promise<R>) {
  const client = useQueryClient();
  return useMutation({ mutationFn: act, onSettled: () => client.invalidateQueries() });
}

export const useOpenChange = () => useAct((v: { title: string; ticket: string }) => call<Change>("POST", "/changes", v));

const changePath = (number: number) => `/changes/${String(number)}`;

/** What the devices of an unsettled change hold: they are read. */
export const useUnsettled = (number: number, wanted: boolean) =>
  useQuery({ queryKey: ["unsettled", number], queryFn: () => call<Unsettled[]>("GET", `${changePath(number)}/unsettled`), enabled: wanted, retry: false, meta: readsDevice });

export const useSettle = (number: number) => useAct((devices: string[]) => call<Change>("POST", `${changePath(number)}/settle`, { devices }));

export const useSendBack = (number: number) =>
  useAct((devices: string[]) => call<BroughtBack>("POST", "/undo", { change: number, devices, title: `Send back change ${String(number)} after a restore` }));

export const useLookedAfter = () => useAct((change: number) => call("DELETE", `/lost-holds/${String(change)}`));

export const useStage = (number: number) =>
  useAct((v: NewEdit) => call<Staged[]>("POST", `${changePath(number)}/edits`, v));

export const useLoad = (number: number) =>
  useAct((v: NewLoad & { tag?: string }) => {
    const { tag, ...load } = v;
    return call<Loaded[]>("POST", `${changePath(number)}/load`, load, tag);
  });

export const useBind = () =>
  useAct((v: { stencil: string; change: number; devices: string[]; blanks?: Record<string, string>; off?: boolean }) => {
    const { stencil, ...bind } = v;
    return call<Loaded[]>("POST", `/stencils/${encodeURIComponent(stencil)}/bind`, bind);
  });

/** Takes staged edits back: one by its number, or those that the filter names. */
export const useUnstage = (number: number) =>
  useAct((v: { id: number } | { device?: string; by?: string; path?: string }) =>
    "id" in v
      ? call<unknown>("DELETE", `${changePath(number)}/edits/${String(v.id)}`)
      : call<unknown>("DELETE", `${changePath(number)}/edits?${new URLSearchParams(v).toString()}`));

/** What is done to a change beside staging: people, notes, decisions, rebase. */
export const useDesk = (number: number) =>
  useAct((v: { method: "POST" | "PATCH" | "DELETE"; path: string; body?: unknown }) => call<unknown>(v.method, `${changePath(number)}${v.path}`, v.body));

/** A part as text, for being edited. */
export const fetchPart = (number: number, device: string, path: string) =>
  call<Part>("GET", `${changePath(number)}/parts/${encodeURIComponent(device)}?path=${encodeURIComponent(path)}`);

/** How a path goes on, by the device's schema. */
export const useHints = (device: string | undefined, path: string, change: number) =>
  useQuery({
    queryKey: ["paths", device, path, change],
    queryFn: () => call<Hint[]>("GET", `/devices/${encodeURIComponent(device ?? "")}/paths?path=${encodeURIComponent(path)}&change=${String(change)}`),
    enabled: device !== undefined,
    retry: false,
    staleTime: 30_000,
    placeholderData: keepPreviousData,
    meta: readsDevice, // it does not, but need not be asked for anew with every event
  });

export const useStencils = () => useQuery({ queryKey: ["stencils"], queryFn: () => call<Stencil[]>("GET", "/stencils") });

export const useStencil = (name: string | undefined, device?: string) =>
  useQuery({
    queryKey: ["stencils", name, device],
    queryFn: () => call<Stencil>("GET", `/stencils/${encodeURIComponent(name ?? "")}${device ? `?device=${encodeURIComponent(device)}` : ""}`),
    enabled: name !== undefined,
    retry: false,
  });

export const useSaveStencil = () =>
  useAct((v: { name: string; text: string; note: string; from: number | undefined }) =>
    call<Saved>("PUT", `/stencils/${encodeURIComponent(v.name)}`, { text: v.text, note: v.note }, v.from === undefined ? undefined : `v${String(v.from)}`));

export const useShared = () => useQuery({ queryKey: ["shared"], queryFn: () => call<Shared[]>("GET", "/shared") });

export const useSaveShared = () =>
  useAct((v: { name: string; items: string[] }) => call<Saved>("PUT", `/shared/${encodeURIComponent(v.name)}`, { items: v.items }));

export const useReserve = (device: string) =>
  useAct((v: { reason: string; seconds: number }) => call<Reservation>("POST", `/devices/${encodeURIComponent(device)}/reservation`, v));

export const useRelease = (device: string) =>
  useAct(() => call<undefined>("DELETE", `/devices/${encodeURIComponent(device)}/reservation`));

export const useAskFor = (device: string) =>
  useAct((text: string) => call<Reservation>("POST", `/devices/${encodeURIComponent(device)}/reservation/asks`, { text }));

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
 * Asks anew for what is shown of what something that is written to the ledger touched. Only
 * a page that is looked at holds a stream: browsers allow few connections to
 * one server, and open tabs must not use them up.
 */
export function useLive(signedIn: boolean) {
  const client = useQueryClient();
  useEffect(() => {
    if (!signedIn) return;
    let events: EventSource | undefined;
    let pending: number | undefined;
    let since: Happened[] | undefined = []; // undefined is anything
    const refresh = (what: Happened | undefined) => {
      since = what === undefined ? undefined : since && [...since, what];
      pending ??= window.setTimeout(() => {
        const all = since;
        [pending, since] = [undefined, []];
        void client.invalidateQueries({
          predicate: (q) => q.meta?.["readsDevice"] !== true && (all === undefined || all.some((h) => touches(q.queryKey, h))),
        });
      }, 150);
    };
    const told = (e: MessageEvent<string>) => {
      refresh(happened(e.data));
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
        events.addEventListener("entry", told);
        events.addEventListener("moved", told);
        let opened = false; // by itself, after it broke off: what happened meanwhile is asked for
        events.addEventListener("open", () => {
          if (opened) refresh(undefined);
          opened = true;
        });
        refresh(undefined);
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
