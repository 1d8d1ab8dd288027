import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { CommitRecord, Outside, Pushed, Receiver, Silence } from "../lib/documents";
import { answering, open } from "./answering";
import type { Asked } from "./answering";
import { calm } from "./documents";

const at = "2026-11-23T02:00:00Z";
const outside: Outside = {
  number: 3,
  device: "quay",
  revision: 4,
  before: 3,
  since: "2026-11-23T01:00:00Z",
  found: at,
  deviceAt: at,
  clockOff: true,
  who: "named by the device: ops from 198.51.100.7\u202e",
  told: ["running was changed: ops"],
  places: 1,
  state: "open",
};
const commit: CommitRecord = {
  number: 5,
  change: 7,
  title: "Lamps",
  ticket: "TF-1",
  author: "mara",
  staged: ["mara", "joss"],
  committed: "mara",
  confirmed: "wren",
  started: at,
  ended: "2026-11-23T02:03:00Z",
  seconds: 180,
  holdSeconds: 600,
  outcome: "confirmed",
  newest: true,
  devices: ["quay"],
};
const receiver: Receiver = {
  name: "loghost",
  kind: "syslog",
  place: "udp://192.0.2.5:514",
  line: "who:mara",
  added: at,
  addedBy: "admin",
  told: 3,
  behind: 0,
};
const silence: Silence = { number: 2, path: "/system/ntp", device: "quay", actor: "mara", at, note: "it moves" };

let answers: Record<string, unknown>;
let asked: Asked[];

beforeEach(() => {
  asked = [];
  answers = {
    "/me": { account: "mara", may: ["read", "stage", "commit", "approve", "audit", "administer"] },
    "/attention": { ...calm, outside: [outside] },
    "/devices": [
      {
        name: "quay",
        address: "a",
        account: "x",
        auth: "password",
        trusted: true,
        guard: "device",
        unsaved: false,
        save: true,
      },
    ],
    "/outside": [outside],
    "/outside/3": {
      ...outside,
      lines: [{ mark: "~", depth: 0, text: "contact: a → b", path: "/system/contact" }],
      listened: "it tells of its events",
    } satisfies Outside,
    "/silences": [silence],
    "POST /outside/3/adopt": { ...outside, state: "adopted" },
    "POST /outside/3/push-back": { outside, change: 9, title: "Push back", parts: [] } satisfies Pushed,
    "POST /outside/3/open": { outside, change: 10, title: "Go on", parts: [] } satisfies Pushed,
    "POST /silences": silence,
    "DELETE /silences/2": {},
    "/commits": { commits: [commit], next: 5 },
    "/commits/5": {
      ...commit,
      notes: [{ actor: "wren", at, text: "seen from the pier" }],
      parts: [{ device: "quay", count: 1, items: [], lines: [{ mark: "+", depth: 0, text: "vlan [40]" }] }],
      steps: [{ seq: 12, at, actor: "mara", action: "commit.confirm", prev: "", hash: "h" }],
    } satisfies CommitRecord,
    "/receivers": [receiver],
    "POST /receivers": receiver,
    "POST /receivers/loghost/try": {},
    "/audit": { entries: [] },
    "/audit/pace": { from: at, to: at, stepSeconds: 1, steps: [], entries: 0, whole: true },
    "/searches": [],
    "/audit/complete": { from: 0, hints: [] },
  };
  answering(answers, asked);
});

afterEach(() => {
  vi.unstubAllGlobals();
});

const sent = (method: string, path: string) => asked.find((a) => a.method === method && a.path === path)?.body;

describe("outside changes", () => {
  it("shows what changed, by whom as the device tells it, and that its clock is wrong", async () => {
    open("/outside?number=3");
    const page = within(await screen.findByRole("dialog"));
    expect(await page.findByRole("row", { name: /changed: contact/ })).toBeTruthy();
    expect(page.getByText("that clock is wrong")).toBeTruthy();
    expect(page.getByText("running was changed: ops")).toBeTruthy();
  });

  it("is adopted with a note, and not without", async () => {
    open("/outside?number=3");
    const take = await screen.findByRole<HTMLButtonElement>("button", { name: "Take it as it is" });
    expect(take.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText("note"), { target: { value: "it was Joss" } });
    fireEvent.click(take);
    await waitFor(() => {
      expect(sent("POST", "/outside/3/adopt")).toEqual({ note: "it was Joss" });
    });
  });

  it("is pushed back by a change, gone on from, and its path silenced", async () => {
    open("/outside?number=3");
    fireEvent.click(await screen.findByRole("button", { name: "Push it back…" }));
    expect(await screen.findByText("change 9: Push back")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Open a change from it…" }));
    await waitFor(() => {
      expect(sent("POST", "/outside/3/open")).toEqual({ devices: [] });
    });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "path that always moves" }));
    fireEvent.click(await screen.findByText("/system/contact", { selector: ".ant-select-item-option-content" }));
    fireEvent.click(screen.getByRole("button", { name: "It always moves…" }));
    fireEvent.click(await screen.findByRole("button", { name: "Silence it" }));
    await waitFor(() => {
      expect(sent("POST", "/silences")).toEqual({
        device: "quay",
        path: "/system/contact",
        note: "from outside change 3",
      });
    });
  });

  it("lists all there were, and the paths that always move", async () => {
    open("/outside");
    fireEvent.click(await screen.findByText("all there were"));
    await waitFor(() => {
      expect(asked.some((a) => a.path === "/outside" && a.query === "all=true")).toBe(true);
    });
    fireEvent.click(await screen.findByRole("button", { name: "Remove it" }));
    await waitFor(() => {
      expect(asked.some((a) => a.method === "DELETE" && a.path === "/silences/2")).toBe(true);
    });
  });
});

describe("commits", () => {
  it("lists who had a hand in each, narrows by person, and takes more pages", async () => {
    open("/commits?device=quay");
    for (const text of ["mara, joss", "wren", "3 min", "confirmed"]) expect(await screen.findByText(text)).toBeTruthy();
    expect(screen.getByRole("link", { name: "PDF" }).getAttribute("href")).toBe(
      "/api/v1/report?since=30d&device=quay&format=pdf",
    );
    const who = screen.getByLabelText("person");
    fireEvent.change(who, { target: { value: "joss" } });
    fireEvent.keyDown(who, { key: "Enter" });
    await waitFor(() => {
      expect(asked.some((a) => a.path === "/commits" && a.query === "who=joss&device=quay")).toBe(true);
    });
    fireEvent.click(await screen.findByRole("button", { name: "Older ones" }));
    await waitFor(() => {
      expect(asked.some((a) => a.path === "/commits" && a.query.includes("before=5"))).toBe(true);
    });
  });

  it("opens one: what it made, its steps, notes that came later, and a comparison with now", async () => {
    open("/commits/5");
    expect(await screen.findByRole("row", { name: /added: vlan/ })).toBeTruthy();
    expect(screen.getByText("seen from the pier")).toBeTruthy();
    expect(screen.getByRole("link", { name: "entry 12" }).getAttribute("href")).toBe("/audit?entry=12");
    expect(screen.getByRole("link", { name: "Compare with now" }).getAttribute("href")).toBe(
      "/devices/quay?view=compare&a=change%3A7&b=running",
    );
  });
});

describe("receivers", () => {
  it("are listed, tried and added", async () => {
    open("/audit?receivers=true");
    fireEvent.click(await screen.findByRole("button", { name: "Try" }));
    expect(await screen.findByText("loghost took it.")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Name"), { target: { value: "pier" } });
    fireEvent.change(screen.getByLabelText("Place"), { target: { value: "tcp://192.0.2.6:514" } });
    fireEvent.click(screen.getByRole("button", { name: "Start sending" }));
    await waitFor(() => {
      expect(sent("POST", "/receivers")).toEqual({
        name: "pier",
        kind: "syslog",
        place: "tcp://192.0.2.6:514",
        line: "",
      });
    });
  });
});
