import { Alert, Button } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Token } from "../accessApi";
import type { Session } from "../api";
import { when } from "../time";

const key = "oaken-latch-others";

/** Keeps what a sign-in said of the account's other sessions, until it was read. */
export function tellOthers(s: Session) {
  if (s.others?.length) sessionStorage.setItem(key, JSON.stringify(s.others));
  else sessionStorage.removeItem(key);
}

/** Says after a sign-in where else the account is signed in: it may be somebody else. */
export function Others() {
  const [list, setList] = useState(() => JSON.parse(sessionStorage.getItem(key) ?? "[]") as Token[]);
  if (list.length === 0) return null;
  const last = list.slice(0, 3);
  return (
    <Alert
      type="info" showIcon style={{ marginBottom: 12 }}
      title={list.length === 1 ? "You are signed in elsewhere, too" : `You are signed in ${String(list.length)} times elsewhere, too`}
      description={(
        <>
          {last.map((t) => <div key={t.id}>since {when(t.created)}, from {t.source}{t.used && <>, last used {when(t.used)}</>}</div>)}
          <div>If that is not you: <Link to="/access">end it, and change your password</Link>.</div>
        </>
      )}
      action={<Button size="small" onClick={() => { sessionStorage.removeItem(key); setList([]); }}>It is me</Button>}
    />
  );
}
