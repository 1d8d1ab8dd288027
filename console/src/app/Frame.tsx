import { Alert, Button, ConfigProvider, Flex, Spin, Typography, theme } from "antd";
import { Suspense, useEffect, useRef, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import type { Session } from "../lib/documents";
import { useAct } from "../lib/query";
import { useAttention } from "../features/now/queries";
import { answer, api } from "../lib/api";
import { page } from "../parts/page";
import { Others } from "../features/access/Others";
import { may } from "../lib/may";
import { useLost } from "../lib/contact";
import { when } from "../lib/time";
import { drafts, dropDrafts, setDraftOwner } from "../lib/draft";
import { footID } from "../parts/Foot";
import { places } from "./places";

const HoldBar = page(() => import("../features/changes/HoldBar").then((m) => m.HoldBar));
const Menu = page(() => import("./Menu").then((m) => m.Menu));
const AskToLeave = page(() => import("./Menu").then((m) => m.AskToLeave));
const Palette = page(() => import("./Palette").then((m) => m.Palette));

/** Every page's frame: the board at the top, the page, the next step and the holds at the foot. */
export function Frame({ session, look, setLook }: { session: Session; look: string; setLook: (l: string) => void }) {
  const { token } = theme.useToken();
  setDraftOwner(session.account);
  const attention = useAttention();
  const lost = useLost();
  const out = useAct(() => answer(api.POST("/logout")));
  const [menu, setMenu] = useState(false);
  const main = useFocus();
  const [asking, setAsking] = useState(0);
  const leave = () => {
    dropDrafts();
    out.mutate(undefined);
  };
  const signOut = () => {
    if (drafts() > 0) setAsking(drafts());
    else leave();
  };
  const other = look === "dark" ? "light" : "dark";
  const looks = (
    <Button
      size="small"
      onClick={() => {
        setLook(other);
      }}
    >
      {other}
    </Button>
  );
  const shown = places.filter((p) => !p.may || p.may.some((m) => may(session, m)));
  return (
    <Flex vertical style={{ minHeight: "100vh", background: token.colorBgLayout, color: token.colorText }}>
      <a className="skip" href="#page">
        To the page
      </a>
      <header className="board">
        <img src="/latch.svg" alt="" width={26} height={26} />
        <Typography.Text strong className="name" style={{ color: "#f3e7d3", fontSize: 16, whiteSpace: "nowrap" }}>
          Oaken Latch
        </Typography.Text>
        <nav aria-label="places">
          {shown.map((p) => (
            <NavLink key={p.to} to={p.to} end={p.to === "/"}>
              {p.label}
            </NavLink>
          ))}
        </nav>
        <Suspense fallback={null}>
          <Palette session={session} />
        </Suspense>
        <span className="look">{looks}</span>
        <span
          className="whose"
          title={`${session.account} may: ${session.may.join(" ")}`}
          style={{ whiteSpace: "nowrap", maxWidth: 110, flexShrink: 0, overflow: "hidden", textOverflow: "ellipsis" }}
        >
          {session.account}
        </span>
        <Button size="small" className="out" onClick={signOut}>
          Sign out
        </Button>
        <Button
          className="menu"
          aria-label="menu"
          aria-expanded={menu}
          onClick={() => {
            setMenu(true);
          }}
        >
          ☰
        </Button>
      </header>
      <Suspense fallback={null}>
        {menu && (
          <Menu
            account={session.account}
            places={shown}
            look={looks}
            signOut={signOut}
            close={() => {
              setMenu(false);
            }}
          />
        )}
        {asking > 0 && (
          <AskToLeave
            texts={asking}
            leave={leave}
            stay={() => {
              setAsking(0);
            }}
          />
        )}
      </Suspense>
      {lost && (
        <div style={{ position: "sticky", top: 0, zIndex: 20 }}>
          <Alert
            banner
            type="error"
            role="alert"
            title={`No contact with the service since ${when(lost.toISOString())}`}
            description="What is shown is as it was then. Nothing can be changed here until the service answers. Commits on hold are reverted at their time by their devices, or by the service, unless somebody confirmed them."
          />
        </div>
      )}
      <ConfigProvider componentDisabled={lost !== undefined}>
        <main id="page" ref={main} tabIndex={-1} className="page">
          {attention.data?.records && (
            <Alert
              type="error"
              showIcon
              style={{ marginBottom: 16 }}
              title="Nothing new can be begun: the records cannot be written"
              description={attention.data.records}
            />
          )}
          <Others />
          <Suspense fallback={<Spin style={{ display: "block", margin: "64px auto" }} />}>
            <Outlet />
          </Suspense>
        </main>
        <div className="foot">
          <div id={footID} />
          <Suspense fallback={null}>
            {attention.data?.holding.map((c) => (
              <HoldBar
                key={c.number}
                change={c}
                mayDecide={
                  may(session, "administer") ||
                  session.account === c.author ||
                  (c.coworkers ?? []).includes(session.account)
                }
              />
            ))}
          </Suspense>
        </div>
      </ConfigProvider>
    </Flex>
  );
}

/**
 * Keeps the focus somewhere sensible: on the page when another one was gone to, and also when what had the focus is no
 * longer there, as a button that did its work.
 */
function useFocus() {
  const main = useRef<HTMLElement>(null);
  const { pathname } = useLocation();
  const first = useRef(true);
  useEffect(() => {
    if (first.current) first.current = false;
    else main.current?.focus({ preventScroll: true });
  }, [pathname]);
  useEffect(() => {
    let had: Element | null = null;
    const got = (e: FocusEvent) => {
      had = e.target as Element;
    };
    const watch = new MutationObserver(() => {
      if (!had || had.isConnected || document.activeElement !== document.body) return;
      had = null;
      main.current?.focus({ preventScroll: true });
    });
    document.addEventListener("focusin", got);
    watch.observe(document.body, { childList: true, subtree: true });
    return () => {
      document.removeEventListener("focusin", got);
      watch.disconnect();
    };
  }, []);
  return main;
}
