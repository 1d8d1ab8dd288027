import { Button } from "antd";
import { Suspense, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import type { Session } from "../lib/documents";
import { page } from "../parts/page";
import { keysOn } from "./keys";

const Find = page(() => import("./Find").then((m) => m.Find));
const Keys = page(() => import("./Keys").then((m) => m.Keys));

/** Pages that a letter after g goes to. */
const goes: Record<string, string> = {
  n: "/",
  c: "/changes",
  m: "/commits",
  d: "/devices",
  o: "/outside",
  s: "/snapshots",
  b: "/backups",
  a: "/audit",
};

const typing = (target: EventTarget | null): boolean =>
  target instanceof HTMLElement &&
  (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName));

/** Finding anything, from every page: a button, and keys. */
export function Palette({ session }: { session: Session }) {
  const [shown, setShown] = useState<"find" | "keys">();
  const go = useNavigate();
  useEffect(() => {
    let after = 0; // when g was pressed
    const pressed = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setShown("find");
        return;
      }
      if (e.ctrlKey || e.metaKey || e.altKey || typing(e.target) || !keysOn()) return;
      const to = Date.now() - after < 1500 ? goes[e.key] : undefined;
      after = e.key === "g" ? Date.now() : 0;
      if (to !== undefined) void go(to);
      else if (e.key === "/") setShown("find");
      else if (e.key === "?") setShown("keys");
      else return;
      e.preventDefault();
    };
    document.addEventListener("keydown", pressed);
    return () => {
      document.removeEventListener("keydown", pressed);
    };
  }, [go]);
  const close = () => {
    setShown(undefined);
  };
  return (
    <>
      <Button
        size="small"
        aria-label="find"
        title="Find anything: Ctrl+K"
        onClick={() => {
          setShown("find");
        }}
      >
        Find…
      </Button>
      <Suspense fallback={null}>
        {shown === "find" && (
          <Find
            session={session}
            close={close}
            keys={() => {
              setShown("keys");
            }}
          />
        )}
        {shown === "keys" && <Keys close={close} />}
      </Suspense>
    </>
  );
}
