import { Alert, Button } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Token } from "../../lib/documents";
import type { Session } from "../../lib/documents";
import { when } from "../../lib/time";

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
  const newest = list[list.length - 1] as Token;
  return (
    <Alert
      type="info"
      style={{ marginBottom: 12, padding: "4px 12px" }}
      title={
        <>
          You are signed in elsewhere, too: since {when(newest.created)}, from {newest.source}
          {newest.used && <>, last used {when(newest.used)}</>}
          {list.length > 1 && `, and ${String(list.length - 1)} more`}. If that is not you:{" "}
          <Link to="/access">end it, and change your password</Link>.
        </>
      }
      action={
        <Button
          size="small"
          onClick={() => {
            sessionStorage.removeItem(key);
            setList([]);
          }}
        >
          It is me
        </Button>
      }
    />
  );
}
