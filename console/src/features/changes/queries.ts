import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { call } from "../../lib/api";
import type { BroughtBack, Change, Due, Hint, Loaded, NewCommit, NewDue, NewEdit, NewLoad, Part, Preview, Staged, Unsettled } from "../../lib/documents";
import { readsDevice, useAct } from "../../lib/query";

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

export const useOpenChange = () => useAct((v: { title: string; ticket: string }) => call<Change>("POST", "/changes", v));

const changePath = (number: number) => `/changes/${String(number)}`;

/** What the devices of an unsettled change hold: they are read. */
export const useUnsettled = (number: number, wanted: boolean) =>
  useQuery({ queryKey: ["unsettled", number], queryFn: () => call<Unsettled[]>("GET", `${changePath(number)}/unsettled`), enabled: wanted, retry: false, meta: readsDevice });

export const useSettle = (number: number) => useAct((devices: string[]) => call<Change>("POST", `${changePath(number)}/settle`, { devices }));

export const useSendBack = (number: number) =>
  useAct((devices: string[]) => call<BroughtBack>("POST", "/undo", { change: number, devices, title: `Send back change ${String(number)} after a restore` }));

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

export const useAsk = (change: number) => useAct((text: string) => call<undefined>("POST", `/changes/${String(change)}/ask`, { text }));

export const useApprove = (change: number) => useAct((v: { digest: string; note?: string }) => call<undefined>("POST", `/changes/${String(change)}/approval`, v));

export const useUnapprove = (change: number) => useAct(() => call<undefined>("DELETE", `/changes/${String(change)}/approval`));

export const useReview = () => useAct((v: { number: number; text: string }) => call<undefined>("POST", `/emergencies/${String(v.number)}/review`, { text: v.text }));
