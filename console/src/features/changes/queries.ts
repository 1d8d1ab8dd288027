import { keepPreviousData, useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { answer, api, given, ifTag } from "../../lib/api";
import type { Decide, NewChange, NewCommit, NewSchedule, NewEdit, NewLoad } from "../../lib/documents";
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
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/changes", {
          params: { query: given({ limit: changesAtOnce, before: pageParam, ...wanted }) },
        }),
      ),
    placeholderData: keepPreviousData,
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length < changesAtOnce ? undefined : last.at(-1)?.number),
  });

export const useChange = (number: number) =>
  useQuery({
    queryKey: ["changes", number],
    queryFn: () => answer(api.GET("/changes/{number}", { params: { path: { number } } })),
    retry: false,
  });

/** How a preview is wanted: what is left out is the usual. */
export interface PreviewOptions {
  context?: number;
  device?: string;
  by?: string;
  as?: string;
  validate?: boolean;
}

/** The preview of a change as it was last updated; asked for again when that moves. */
export const usePreview = (number: number, updated: string | undefined, options: PreviewOptions = {}, wanted = true) =>
  useQuery({
    queryKey: ["preview", number, updated, options],
    queryFn: () =>
      answer(api.GET("/changes/{number}/preview", { params: { path: { number }, query: { context: 2, ...options } } })),
    enabled: wanted && updated !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    meta: readsDevice,
  });

export const useOpenChange = () =>
  useAct((v: { title: string; ticket: string }) => answer(api.POST("/changes", { body: v })));

/** What the devices of an unsettled change hold: they are read. */
export const useUnsettled = (number: number, wanted: boolean) =>
  useQuery({
    queryKey: ["unsettled", number],
    queryFn: () => answer(api.GET("/changes/{number}/unsettled", { params: { path: { number } } })),
    enabled: wanted,
    retry: false,
    meta: readsDevice,
  });

export const useSettle = (number: number) =>
  useAct((devices: string[]) =>
    answer(api.POST("/changes/{number}/settle", { params: { path: { number } }, body: { devices } })),
  );

export const useSendBack = (number: number) =>
  useAct((devices: string[]) =>
    answer(
      api.POST("/undo", {
        body: { change: number, devices, title: `Revert change ${String(number)} after a restore` },
      }),
    ),
  );

export const useStage = (number: number) =>
  useAct((v: NewEdit) => answer(api.POST("/changes/{number}/edits", { params: { path: { number } }, body: v })));

export const useLoad = (number: number) =>
  useAct((v: NewLoad & { tag?: string }) => {
    const { tag, ...load } = v;
    return answer(api.POST("/changes/{number}/load", { params: { path: { number }, header: ifTag(tag) }, body: load }));
  });

export const useBind = () =>
  useAct(
    (v: { stencil: string; change: number; devices: string[]; blanks?: Record<string, string>; off?: boolean }) => {
      const { stencil, ...bind } = v;
      return answer(api.POST("/stencils/{name}/bind", { params: { path: { name: stencil } }, body: bind }));
    },
  );

/** Takes staged edits back: one by its number, or those that the filter names. */
export const useUnstage = (number: number) =>
  useAct((v: { id: number } | { device?: string; by?: string; path?: string }) =>
    "id" in v
      ? answer(api.DELETE("/changes/{number}/edits/{id}", { params: { path: { number, id: v.id } } }))
      : answer(api.DELETE("/changes/{number}/edits", { params: { path: { number }, query: v } })),
  );

/** What is done to a change beside staging: people, notes, decisions, rebase. */
export type DeskAct =
  | { decide: Decide }
  | { rebase: string[] }
  | { add: string }
  | { takeOff: string }
  | { note: string }
  | { rename: NewChange };

export const useDesk = (number: number) =>
  useAct((v: DeskAct): Promise<unknown> => {
    const path = { number };
    if ("decide" in v) return answer(api.POST("/changes/{number}/decide", { params: { path }, body: v.decide }));
    if ("rebase" in v)
      return answer(api.POST("/changes/{number}/rebase", { params: { path }, body: { devices: v.rebase } }));
    if ("add" in v)
      return answer(api.POST("/changes/{number}/coworkers", { params: { path }, body: { account: v.add } }));
    if ("takeOff" in v)
      return answer(
        api.DELETE("/changes/{number}/coworkers/{account}", { params: { path: { number, account: v.takeOff } } }),
      );
    if ("note" in v) return answer(api.POST("/changes/{number}/notes", { params: { path }, body: { text: v.note } }));
    return answer(api.PATCH("/changes/{number}", { params: { path }, body: v.rename }));
  });

/** A part as text, for being edited. */
export const fetchPart = (number: number, device: string, path: string) =>
  answer(api.GET("/changes/{number}/parts/{name}", { params: { path: { number, name: device }, query: { path } } }));

/** How a path goes on, by the device's schema. */
export const useHints = (device: string | undefined, path: string, change: number) =>
  useQuery({
    queryKey: ["paths", device, path, change],
    queryFn: () =>
      answer(api.GET("/devices/{name}/paths", { params: { path: { name: device ?? "" }, query: { path, change } } })),
    enabled: device !== undefined,
    retry: false,
    staleTime: 30_000,
    placeholderData: keepPreviousData,
    meta: readsDevice, // it does not, but need not be asked for again with every event
  });

export const useCommit = (number: number) =>
  useAct((how: NewCommit) => answer(api.POST("/changes/{number}/commit", { params: { path: { number } }, body: how })));

export const useScheduleCommit = (number: number) =>
  useAct((due: NewSchedule) =>
    answer(api.POST("/changes/{number}/schedule", { params: { path: { number } }, body: due })),
  );

/** A person's word to a commit. */
export type Word = "begin" | "confirm" | "revert" | "drop";

export const useSay = (number: number) =>
  useAct((v: { word: Word; despite?: boolean }): Promise<unknown> => {
    const params = { path: { number } };
    switch (v.word) {
      case "begin":
        return answer(api.POST("/changes/{number}/begin", { params }));
      case "confirm":
        return answer(api.POST("/changes/{number}/confirm", { params, body: { despite: v.despite ?? false } }));
      case "revert":
        return answer(api.POST("/changes/{number}/revert", { params }));
      case "drop":
        return answer(api.POST("/changes/{number}/drop", { params }));
    }
  });

export const useHold = (number: number) =>
  useAct((addSeconds: number) =>
    answer(api.POST("/changes/{number}/hold", { params: { path: { number } }, body: { addSeconds } })),
  );

export const useAccept = (number: number) =>
  useAct((device: string) =>
    answer(api.POST("/changes/{number}/accept-device", { params: { path: { number } }, body: { device } })),
  );

export const useAsk = (change: number) =>
  useAct((text: string) =>
    answer(api.POST("/changes/{number}/ask", { params: { path: { number: change } }, body: { text } })),
  );

export const useApprove = (change: number) =>
  useAct((v: { digest: string; note?: string }) =>
    answer(api.POST("/changes/{number}/approval", { params: { path: { number: change } }, body: v })),
  );

export const useUnapprove = (change: number) =>
  useAct(() => answer(api.DELETE("/changes/{number}/approval", { params: { path: { number: change } } })));

export const useReview = () =>
  useAct((v: { number: number; text: string }) =>
    answer(api.POST("/emergencies/{id}/review", { params: { path: { id: v.number } }, body: { text: v.text } })),
  );

export const useReaddress = (change: number) =>
  useAct((v: { device: string; address: string; seenAs?: string }) =>
    answer(api.POST("/changes/{number}/readdress", { params: { path: { number: change } }, body: v })),
  );

/** Asks at once how a change stands; what is shown of holds is asked for again, too. */
export function useAskAgain(number: number) {
  const client = useQueryClient();
  return useCallback(async () => {
    const found = await answer(api.GET("/changes/{number}", { params: { path: { number } } }));
    void client.invalidateQueries({ queryKey: ["attention"] });
    return found;
  }, [client, number]);
}
