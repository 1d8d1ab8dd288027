import { Input, Modal, Typography, theme } from "antd";
import { useQuery } from "@tanstack/react-query";
import type { InputRef } from "antd";
import { useDeferredValue, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { answer, api } from "../lib/api";
import type { Session } from "../lib/documents";
import { may } from "../lib/may";
import { readsDevice } from "../lib/query";
import { places } from "./places";

/** Something that was found, and what choosing it does. */
interface Found {
  kind: string;
  name: string;
  says?: string;
  to?: string;
  act?: () => void;
}

const most = 6;

/** Everything that has a name, asked for once as long as it is looked for. */
function useNames(text: string) {
  const meta = readsDevice; // it does not, but need not be asked for again with every event
  const devices = useQuery({
    queryKey: ["find", "devices"],
    queryFn: () => answer(api.GET("/devices")),
    meta,
    staleTime: 10_000,
  });
  const snapshots = useQuery({
    queryKey: ["find", "snapshots"],
    queryFn: () => answer(api.GET("/snapshots")),
    meta,
    staleTime: 10_000,
  });
  const stencils = useQuery({
    queryKey: ["find", "stencils"],
    queryFn: () => answer(api.GET("/stencils")),
    meta,
    staleTime: 10_000,
  });
  const changes = useQuery({
    queryKey: ["find", "changes", text],
    queryFn: () => answer(api.GET("/changes", { params: { query: { limit: most, ...(text && { text }) } } })),
    meta,
    staleTime: 10_000,
    placeholderData: (was) => was,
  });
  return { devices: devices.data, snapshots: snapshots.data, stencils: stencils.data, changes: changes.data };
}

/** One search over devices, changes, snapshots, stencils, people, paths, pages and what can be done. */
export function Find({ session, close, keys }: { session: Session; close: () => void; keys: () => void }) {
  const { token } = theme.useToken();
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const field = useRef<InputRef>(null);
  const go = useNavigate();
  const wanted = useDeferredValue(text.trim());
  const names = useNames(/^\d+$/.test(wanted) || wanted.startsWith("/") ? "" : wanted);
  const found = search(wanted, names, session, keys);
  const chosen = Math.min(at, found.length - 1);
  const take = (f: Found | undefined) => {
    if (!f) return;
    close();
    if (f.to !== undefined) void go(f.to);
    f.act?.();
  };
  return (
    <Modal
      open
      title="Find anything"
      onCancel={close}
      footer={null}
      destroyOnHidden
      style={{ top: 60 }}
      afterOpenChange={(shown) => {
        if (shown) field.current?.focus();
      }}
    >
      <Input
        ref={field}
        role="combobox"
        aria-label="what to find"
        aria-expanded={found.length > 0}
        aria-controls="found"
        aria-activedescendant={found[chosen] ? `found-${String(chosen)}` : undefined}
        placeholder="a device, a change, a snapshot, a person, /a/path, a page"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          const by = { ArrowDown: 1, ArrowUp: -1 }[e.key];
          if (by !== undefined && found.length > 0) {
            e.preventDefault();
            setAt((chosen + by + found.length) % found.length);
          }
          if (e.key === "Enter") take(found[chosen]);
        }}
      />
      <ul
        id="found"
        role="listbox"
        aria-label="found"
        style={{ listStyle: "none", margin: "8px 0 0", padding: 0, maxHeight: "55vh", overflowY: "auto" }}
      >
        {found.map((f, i) => (
          <li
            key={f.kind + f.name + (f.to ?? "")}
            id={`found-${String(i)}`}
            role="option"
            aria-selected={i === chosen}
            onMouseEnter={() => {
              setAt(i);
            }}
            onClick={() => {
              take(f);
            }}
            style={{
              padding: "6px 8px",
              cursor: "pointer",
              overflowWrap: "anywhere",
              background: i === chosen ? token.colorFillSecondary : undefined,
              borderLeft: `3px solid ${i === chosen ? token.colorPrimary : "transparent"}`,
            }}
          >
            <Typography.Text type="secondary">{f.kind}</Typography.Text> <bdi>{f.name}</bdi>{" "}
            {f.says && <Typography.Text type="secondary">{f.says}</Typography.Text>}
          </li>
        ))}
      </ul>
      <div role="status">{found.length === 0 && "Nothing has that name."}</div>
    </Modal>
  );
}

/** What is found for a text, the nearest first. */
function search(text: string, names: ReturnType<typeof useNames>, session: Session, keys: () => void): Found[] {
  const q = (params: Record<string, string>) => new URLSearchParams(params).toString();
  if (text.startsWith("/"))
    return [
      { kind: "commits", name: text, says: "that made a difference there", to: `/commits?${q({ path: text })}` },
      { kind: "audit", name: text, says: "what was done there", to: `/audit?${q({ q: `path:${text}` })}` },
      ...(names.devices ?? []).slice(0, most).map((d) => ({
        kind: "its life on",
        name: d.name,
        to: `/devices/${d.name}?${q({ view: "life", path: text })}`,
      })),
    ];
  const has = (name: string) => name.toLowerCase().includes(text.toLowerCase());
  const out: Found[] = [];
  if (/^\d+$/.test(text)) {
    out.push({ kind: "change", name: text, to: `/changes/${text}` });
    out.push({ kind: "commit", name: text, to: `/commits/${text}` });
  }
  for (const c of (names.changes ?? []).slice(0, most))
    if (text !== "" || out.length < 4)
      out.push({
        kind: "change",
        name: `${String(c.number)} ${c.title}`,
        says: `${c.state}, by ${c.author}`,
        to: `/changes/${String(c.number)}`,
      });
  for (const d of (names.devices ?? []).filter((x) => has(`${x.name} ${x.site ?? ""}`)).slice(0, most))
    out.push({ kind: "device", name: d.name, ...(d.site && { says: d.site }), to: `/devices/${d.name}` });
  if (text === "") return [...out, ...acts(session, keys)];
  for (const s of (names.snapshots ?? []).filter((x) => has(x.name ?? "")).slice(0, most))
    out.push({ kind: "snapshot", name: s.name ?? "", to: `/snapshots?${q({ open: String(s.number) })}` });
  for (const s of (names.stencils ?? []).filter((x) => has(x.name)).slice(0, most))
    out.push({ kind: "stencil", name: s.name, to: "/stencils" });
  const people = new Set((names.changes ?? []).map((c) => c.author).concat(session.account));
  for (const p of [...people].filter(has))
    out.push({ kind: "person", name: p, says: "what they did", to: `/audit?${q({ q: `who:${p}` })}` });
  out.push(...acts(session, keys).filter((a) => has(a.name)));
  out.push({ kind: "audit", name: text, says: "entries that hold these words", to: `/audit?${q({ q: `"${text}"` })}` });
  return out;
}

/** The pages, and what can be done from everywhere. */
function acts(session: Session, keys: () => void): Found[] {
  return [
    ...(may(session, "stage") ? [{ kind: "do", name: "Open a change", to: "/changes?new=1" }] : []),
    ...places
      .filter((p) => !p.may || p.may.some((r) => may(session, r)))
      .map((p) => ({ kind: "page", name: p.label, to: p.to })),
    { kind: "do", name: "Show the keys", act: keys },
  ];
}
