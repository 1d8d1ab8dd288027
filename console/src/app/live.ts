import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { happened, touches, type Happened } from "../lib/touched";

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
          predicate: (q) =>
            q.meta?.["readsDevice"] !== true && (all === undefined || all.some((h) => touches(q.queryKey, h))),
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
