import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { App } from "../App";
import type { Attention, Audit, Change, Device, PartPreview, Preview, Session } from "../api";

const draft: Change = {
  number: 7, title: "Bigger frames", ticket: "TF-2", author: "mara", state: "draft", opened: "2026-11-23T02:00:00Z", updated: "2026-11-23T02:00:00Z",
  devices: ["northmole-harbour"], edits: 1,
};

const part: PartPreview = {
  device: "northmole-harbour", base: 3, count: 1, read: true, behind: false, unchecked: 0, guard: "device", unsaved: false,
  edits: [{ id: 4, device: "northmole-harbour", op: "put", path: "/x/mtu", value: "9000", actor: "mara", at: "2026-11-23T02:00:00Z" }],
  lines: [{ mark: "~", depth: 0, text: "mtu: 1500 → 9000" }],
};

const device: Device = {
  name: "northmole-harbour", address: "127.64.1.1:2830", account: "harbour", auth: "password", site: "Northmole", role: "router",
  trusted: true, guard: "device", unsaved: false, revision: 3, modules: 10, seen: "2026-11-23T02:00:00Z", unread: ["gone: not handed out"],
};

const calm: Attention = { holding: [], unsaved: [], trouble: [], outside: [], drafts: [] };

let answers: Record<string, unknown>;
let asked: { method: string; path: string; body: unknown }[];

/** Serves the API from the table of answers; what is not in it is a 404. */
beforeEach(() => {
  asked = [];
  answers = {
    "/me": { account: "mara", role: "operator" } satisfies Session,
    "/attention": calm, "/devices": [device], "/devices/northmole-harbour": device, "/changes": [draft], "/changes/7": draft,
    "/changes/7/preview": { change: draft, empty: false, ready: true, against: "running", parts: [part] } satisfies Preview,
    "/devices/northmole-harbour/config": { device: "northmole-harbour", from: "running", read: "", outline: "interfaces\n  interface [mgmt0]\n", xml: "" },
    "/audit": { entries: [{ seq: 5, at: "2026-11-23T02:00:00Z", actor: "mara", action: "config.changed", device: "northmole-harbour", change: 7, path: "/x/mtu", before: "1500", after: "9000" }] } satisfies Audit,
  };
  vi.stubGlobal("fetch", (url: string, init?: RequestInit) => {
    const path = url.replace("/api/v1", "").replace(/\?.*/, "");
    const method = init?.method ?? "GET";
    asked.push({ method, path, body: typeof init?.body === "string" ? JSON.parse(init.body) : undefined });
    const key = method === "GET" ? path : `${method} ${path}`;
    if (!(key in answers)) {
      return Promise.resolve(new Response(JSON.stringify({ type: "t", title: "No", status: 404, detail: `there is no ${key}` }), { status: 404 }));
    }
    const doc = answers[key];
    return Promise.resolve(doc === null ? new Response(null, { status: 204 }) : new Response(JSON.stringify(doc), { status: 200 }));
  });
  vi.stubGlobal("EventSource", class { addEventListener() { return undefined; } close() { return undefined; } });
});

afterEach(() => { vi.unstubAllGlobals(); });

function open(path: string) {
  return render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MemoryRouter initialEntries={[path]}><App /></MemoryRouter>
    </QueryClientProvider>,
  );
}

describe("sign in", () => {
  it("is asked for, and says what is wrong", async () => {
    delete answers["/me"];
    vi.stubGlobal("fetch", () => Promise.resolve(new Response(JSON.stringify({ type: "t", title: "Wrong", status: 401, detail: "wrong account or password", next: "try again" }), { status: 401 })));
    open("/");
    await userEvent.type(await screen.findByLabelText("Account"), "mara");
    await userEvent.type(screen.getByLabelText("Password"), "nope");
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    expect(await screen.findByText("wrong account or password")).toBeTruthy();
  });
});

describe("what needs a decision now", () => {
  it("is nothing when all is calm", async () => {
    open("/");
    expect(await screen.findByText(/Nothing waits for you/)).toBeTruthy();
  });
  it("piles up what waits", async () => {
    answers["/attention"] = {
      holding: [], unsaved: [device], trouble: [{ ...device, name: "gannet-hall", trouble: "no answer" }],
      outside: [{ seq: 3, at: "2026-11-23T02:00:00Z", actor: "service", action: "revision.outside", device: "saltern-quay", note: "found changed" }], drafts: [draft],
    } satisfies Attention;
    open("/");
    for (const text of ["Not saved (1)", "Trouble (1)", "Changed behind our back (1)", "Your drafts (1)", "no answer", "found changed"]) {
      expect(await screen.findByText(text)).toBeTruthy();
    }
  });
});

describe("a change", () => {
  it("is staged on, previewed and committed on hold", async () => {
    answers["POST /changes/7/edits"] = { edit: part.edits[0], notes: ["search keeps several values"] };
    answers["POST /changes/7/commit"] = { ...draft, state: "applying" };
    open("/changes/7");
    expect(await screen.findByRole("row", { name: "changed: mtu: 1500 → 9000" })).toBeTruthy();
    expect(screen.getByText("Ready to commit on hold.")).toBeTruthy();
    await userEvent.type(screen.getByLabelText("path"), "/x/mtu");
    await userEvent.type(screen.getByLabelText("value"), "9000");
    await userEvent.click(screen.getByRole("button", { name: "Stage" }));
    expect(await screen.findByText("search keeps several values")).toBeTruthy();
    expect(asked.find((a) => a.path.endsWith("/edits"))?.body).toEqual({ device: "northmole-harbour", op: "put", path: "/x/mtu", value: "9000" });
    await userEvent.click(screen.getByRole("button", { name: "Commit on hold" }));
    await waitFor(() => { expect(asked.find((a) => a.path.endsWith("/commit"))?.body).toEqual({ holdSeconds: 600 }); });
  });
  it("cannot be committed before it is ready, nor edited by others", async () => {
    answers["/changes/7/preview"] = { change: draft, empty: false, ready: false, against: "running", parts: [{ ...part, read: false, trouble: "no answer" }] } satisfies Preview;
    const { unmount } = open("/changes/7");
    expect(await screen.findByText("Not ready: see what must be mended first.")).toBeTruthy();
    expect(screen.getByRole("button", { name: "Commit on hold" }).hasAttribute("disabled")).toBe(true);
    unmount();
    answers["/me"] = { account: "joss", role: "operator" } satisfies Session;
    open("/changes/7");
    await screen.findByText(/mtu: 1500/);
    expect(screen.queryByRole("button", { name: "Stage" })).toBeNull();
    expect(screen.queryByRole("button", { name: "take back" })).toBeNull();
  });
  it("shows why it went back, and every device's last word", async () => {
    const reverted: Change = {
      ...draft, state: "reverted", reason: "the hold ended without a confirm",
      commit: { actor: "mara", started: "2026-11-23T02:00:00Z", phase: "done", holdSeconds: 60, secondsLeft: 0, devices: [{ name: "northmole-harbour", standing: "reverted", said: "its word" }] },
    };
    answers["/changes/7"] = reverted;
    open("/changes/7");
    expect(await screen.findByText("It went back")).toBeTruthy();
    expect(screen.getByText("the hold ended without a confirm")).toBeTruthy();
    expect(screen.getByText(/: its word/)).toBeTruthy();
  });
  it("that is not there is told as that", async () => {
    open("/changes/9");
    expect(await screen.findByText("there is no /changes/9")).toBeTruthy();
  });
});

describe("lists", () => {
  it("shows changes, devices and the ledger", async () => {
    const first = open("/changes");
    expect(await screen.findByText("Bigger frames")).toBeTruthy();
    first.unmount();
    const second = open("/devices");
    expect(await screen.findByText("127.64.1.1:2830")).toBeTruthy();
    second.unmount();
    const third = open("/devices/northmole-harbour");
    expect(await screen.findByText(/interface \[mgmt0\]/)).toBeTruthy();
    expect(screen.getByText(/gone: not handed out/)).toBeTruthy();
    third.unmount();
    open("/audit");
    expect(await screen.findByText("config.changed")).toBeTruthy();
    await userEvent.type(screen.getByLabelText("person"), "joss{Enter}");
    await waitFor(() => { expect(asked.filter((a) => a.path === "/audit").length).toBeGreaterThan(1); });
  });
  it("opens a change", async () => {
    answers["POST /changes"] = draft;
    open("/changes");
    await userEvent.click(await screen.findByRole("button", { name: "Open a change" }));
    await userEvent.type(await screen.findByLabelText("What is it for?"), "Bigger frames");
    await userEvent.click(screen.getByRole("button", { name: "Open" }));
    expect(await screen.findByText("Change 7: Bigger frames")).toBeTruthy();
  });
});
