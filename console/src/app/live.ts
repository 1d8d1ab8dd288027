import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { hear, lose, silence } from "../lib/contact";
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
    let quiet: number | undefined; // fires where nothing was heard for too long
    let again: number | undefined; // tries once more
    let asking: AbortController | undefined;
    let gone = false; // contact was lost; what happened meanwhile is asked for once it is back
    const heard = () => {
      hear();
      if (gone) {
        refresh(undefined);
        void client.refetchQueries({ predicate: (q) => q.state.status === "error" });
      }
      gone = false;
    };
    const alive = () => {
      window.clearTimeout(quiet);
      quiet = window.setTimeout(broken, silence);
      heard();
    };
    const close = () => {
      window.clearTimeout(quiet);
      window.clearTimeout(again);
      asking?.abort();
      events?.close();
      events = undefined;
    };
    const broken = () => {
      close();
      gone = true;
      lose();
      again = window.setTimeout(listen, 1000);
    };
    // A stream that is refused is an answer: who may not read, or has too many streams, has contact. So the service is
    // asked a few times whether it lives, then for the stream again.
    const ask = (times: number) => {
      const own = (asking = new AbortController());
      fetch("/healthz", { cache: "no-store", signal: AbortSignal.any([own.signal, AbortSignal.timeout(silence)]) })
        .then((res) => {
          if (!res.ok) throw new Error(res.statusText);
          if (own.signal.aborted) return;
          heard();
          again = window.setTimeout(() => {
            if (times > 0) ask(times - 1);
            else {
              refresh(undefined); // nobody tells what happened
              listen();
            }
          }, 2000);
        })
        .catch(() => {
          if (!own.signal.aborted) broken();
        });
    };
    const listen = () => {
      events = new EventSource("/api/v1/events?pulse=1");
      quiet = window.setTimeout(broken, silence);
      for (const kind of ["entry", "moved"])
        events.addEventListener(kind, (e: MessageEvent<string>) => {
          told(e);
          alive();
        });
      events.addEventListener("pulse", alive);
      events.addEventListener("open", alive);
      events.addEventListener("error", () => {
        // What let it in may have ended: then it is for the page to sign in.
        void client.invalidateQueries({ queryKey: ["me"] });
        const refused = events?.readyState === EventSource.CLOSED;
        close();
        if (refused) ask(10);
        else broken();
      });
    };
    const look = () => {
      if (document.visibilityState !== "visible") {
        close();
      } else if (!events) {
        listen();
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
