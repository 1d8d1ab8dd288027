import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Audit, EntryDoc, LedgerEntry, Pace, Search, SearchHints, Verified } from "../lib/documents";
import { answering, open } from "./answering";
import type { Asked } from "./answering";

const at = "2026-11-23T02:00:00Z";
const entry: LedgerEntry = {
  seq: 5,
  at,
  actor: "mara",
  action: "edit.put",
  device: "quay",
  change: 7,
  ticket: "TF-1",
  path: "/x/mtu",
  before: "1500",
  after: "9000",
  way: "console",
  address: "198.51.100.7",
  session: "ab12",
  prev: "p",
  hash: "h",
};
const pace: Pace = {
  from: at,
  to: "2026-11-23T04:00:00Z",
  stepSeconds: 3600,
  entries: 5,
  whole: true,
  steps: [
    { at, counts: { mara: 3, joss: 1 } },
    { at: "2026-11-23T03:00:00Z", counts: {} },
    { at: "2026-11-23T04:00:00Z", counts: { service: 1 } },
  ],
};
const kept: Search[] = [{ name: "nights", owner: "joss", line: "kind:commit", shared: true, at }];

let answers: Record<string, unknown>;
let asked: Asked[];

beforeEach(() => {
  asked = [];
  answers = {
    "/me": { account: "mara", may: ["read", "stage", "commit", "approve", "audit"] },
    "/audit": {
      entries: [entry, { ...entry, seq: 4, outcome: "refused", note: "=cmd()\u202eabc" }],
      next: 4,
    } satisfies Audit,
    "/audit/entries/5": {
      ...entry,
      lines: [{ mark: "~", depth: 0, text: "mtu: 1500 → 9000", path: "/x/mtu" }],
    } satisfies EntryDoc,
    "/audit/pace": pace,
    "/searches": kept,
    "/audit/complete": {
      from: 4,
      hints: [{ value: "mara" }, { value: "joss", says: "a person" }],
    } satisfies SearchHints,
    "/audit/verify": {
      answer: "altered",
      entries: 9,
      last: 9,
      intact: false,
      wrong: 1,
      findings: [{ seq: 3, msg: "its content does not match its hash: it was altered" }],
      clockBack: [7],
      held: 5,
      heldAt: at,
    } satisfies Verified,
    "PUT /searches/mine": { ...kept[0], owner: "mara", name: "mine" },
  };
  answering(answers, asked);
});

afterEach(() => {
  vi.unstubAllGlobals();
});

const queries = (path: string) => asked.filter((a) => a.path === path).map((a) => new URLSearchParams(a.query));

describe("audit", () => {
  it("searches by a line that goes on by itself, and takes more pages", async () => {
    open("/audit");
    const line = await screen.findByLabelText("search");
    await screen.findByText("refused");
    fireEvent.change(line, { target: { value: "who:m" } });
    expect(await screen.findByText("a person")).toBeTruthy();
    fireEvent.change(line, { target: { value: "who:mara since:7d" } });
    fireEvent.keyDown(line, { key: "Enter" });
    await waitFor(() => {
      expect(queries("/audit").at(-1)?.get("q")).toBe("who:mara since:7d");
    });
    expect(screen.getByRole("link", { name: "CSV" }).getAttribute("href")).toContain(
      "q=who%3Amara+since%3A7d&format=csv",
    );
    fireEvent.click(await screen.findByRole("button", { name: "Older ones" }));
    await waitFor(() => {
      expect(queries("/audit").at(-1)?.get("before")).toBe("4");
    });
  });

  it("opens an entry with its before and after as every difference looks, and how the person came in", async () => {
    open("/audit?q=lamps&entry=5");
    const rows = within(await screen.findByRole("table", { name: "difference" }));
    expect(rows.getByRole("row", { name: /changed: mtu/ })).toBeTruthy();
    expect(screen.getByText("console, 198.51.100.7, session ab12")).toBeTruthy();
  });

  it("draws when things happened, and narrows to a column", async () => {
    open("/audit?q=who:mara");
    fireEvent.click(await screen.findByRole("button", { name: /: 4 \(mara 3, joss 1\)/ }));
    await waitFor(() => {
      expect(queries("/audit").at(-1)?.get("q")).toBe(`who:mara since:${at} until:2026-11-23T03:00:00.000Z`);
    });
  });

  it("keeps a search, uses another's, and says what the whole ledger is", async () => {
    open("/audit?q=lamps");
    fireEvent.click(await screen.findByRole("button", { name: "Save this search…" }));
    fireEvent.change(await screen.findByLabelText("name of the search"), { target: { value: "mine" } });
    fireEvent.click(screen.getByRole("checkbox"));
    fireEvent.click(screen.getByRole("button", { name: "Save it" }));
    await waitFor(() => {
      expect(asked.find((a) => a.method === "PUT")?.body).toEqual({ line: "lamps", shared: true });
    });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "saved searches" }));
    fireEvent.click(await screen.findByText("nights (joss)"));
    await waitFor(() => {
      expect(queries("/audit").at(-1)?.get("q")).toBe("kind:commit");
    });
    fireEvent.click(screen.getByRole("button", { name: "Check the whole record" }));
    expect(await screen.findByText(/entry 3: its content does not match/)).toBeTruthy();
    expect(screen.getByText(/set back before entry 7/)).toBeTruthy();
  });
});
