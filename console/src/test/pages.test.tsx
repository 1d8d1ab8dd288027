import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { App } from "../app/App";
import type { Audit } from "../lib/documents";
import type { Attention, Change, Device, Scheduled, PartPreview, Preview, Session } from "../lib/documents";
import { answering, type Asked } from "./answering";
import { calm, quietPart } from "./documents";

const draft: Change = {
  number: 7,
  title: "Bigger frames",
  ticket: "TF-2",
  author: "mara",
  state: "draft",
  opened: "2026-11-23T02:00:00Z",
  updated: "2026-11-23T02:00:00Z",
  devices: ["northmole-harbour"],
  edits: 1,
};

const part: PartPreview = {
  ...quietPart,
  device: "northmole-harbour",
  edits: [
    {
      id: 4,
      device: "northmole-harbour",
      op: "put",
      path: "/x/mtu",
      value: "9000",
      lines: 1,
      actor: "mara",
      at: "2026-11-23T02:00:00Z",
    },
  ],
  lines: [{ mark: "~", depth: 0, text: "mtu: 1500 → 9000" }],
};

const device: Device = {
  name: "northmole-harbour",
  address: "127.64.1.1:2830",
  account: "harbour",
  auth: "password",
  site: "Northmole",
  role: "router",
  trusted: true,
  guard: "device",
  unsaved: false,
  save: true,
  revision: 3,
  modules: 10,
  seen: "2026-11-23T02:00:00Z",
  unread: ["gone: not handed out"],
};

const due: Scheduled = {
  id: 3,
  kind: "commit",
  change: 7,
  title: "Bigger frames",
  devices: ["northmole-harbour"],
  at: "2026-11-24T01:00:00Z",
  zone: "Europe/Paris",
  latenessSeconds: 60,
  actor: "mara",
  state: "waiting",
};

let answers: Record<string, unknown>;
let asked: Asked[];

/** Serves the API from the table of answers; what is not in it is a 404. */
beforeEach(() => {
  asked = [];
  answers = {
    "/me": { account: "mara", may: ["read", "stage", "commit", "approve", "audit"] } satisfies Session,
    "/attention": calm,
    "/devices": [device],
    "/devices/northmole-harbour": device,
    "/changes": [draft],
    "/changes/7": draft,
    "/changes/7/preview": {
      change: draft,
      empty: false,
      ready: true,
      against: "running",
      parts: [part],
    } satisfies Preview,
    "/devices/northmole-harbour/config": {
      device: "northmole-harbour",
      from: "running",
      read: "",
      outline: "interfaces\n  interface [mgmt0]\n",
      xml: "",
    },
    "/audit": {
      entries: [
        {
          seq: 5,
          at: "2026-11-23T02:00:00Z",
          actor: "mara",
          action: "config.changed",
          device: "northmole-harbour",
          change: 7,
          path: "/x/mtu",
          before: "1500",
          after: "9000",
          prev: "",
          hash: "h",
        },
      ],
    } satisfies Audit,
  };
  answering(answers, asked);
});

afterEach(() => {
  vi.unstubAllGlobals();
});

function open(path: string) {
  return render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MemoryRouter initialEntries={[path]}>
        <App />
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

describe("sign in", () => {
  it("is asked for, and says what is wrong", async () => {
    delete answers["/me"];
    vi.stubGlobal("fetch", () =>
      Promise.resolve(
        new Response(
          JSON.stringify({
            type: "t",
            title: "Wrong",
            status: 401,
            detail: "wrong account or password",
            next: [{ text: "try again" }],
          }),
          { status: 401 },
        ),
      ),
    );
    open("/");
    fireEvent.change(await screen.findByLabelText("Account"), { target: { value: "mara" } });
    fireEvent.change(screen.getByLabelText("Password"), { target: { value: "nope" } });
    fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
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
      ...calm,
      records: "the disk of the records is full",
      unsaved: [device],
      trouble: [{ ...device, name: "gannet-hall", trouble: "no answer" }],
      outside: [
        {
          number: 3,
          device: "saltern-quay",
          revision: 4,
          before: 3,
          since: "2026-11-23T01:00:00Z",
          found: "2026-11-23T02:00:00Z",
          who: "not named by the device: it does not tell",
          told: [],
          places: 2,
          state: "open",
        },
      ],
      untold: [
        {
          name: "loghost",
          kind: "syslog",
          place: "udp://192.0.2.5:514",
          line: "",
          added: "2026-11-23T01:00:00Z",
          addedBy: "admin",
          told: 3,
          behind: 9,
          trouble: "it does not answer",
          since: "2026-11-23T02:00:00Z",
        },
      ],
      drafts: [draft],
      scheduled: [due],
    } satisfies Attention;
    open("/");
    for (const text of [
      "Not saved (1)",
      "Trouble (1)",
      "Changed outside (1)",
      "Your drafts (1)",
      "On the schedule (1)",
      "no answer",
      "saltern-quay, 2 places",
      "! to be decided",
      "not named by the device: it does not tell",
      "Not told (1)",
      "it does not answer",
      "Nothing new can be begun: the records cannot be written",
      "the disk of the records is full",
    ]) {
      expect(await screen.findByText(text)).toBeTruthy();
    }
  });
});

describe("a change", () => {
  it("is staged on, previewed and committed on hold", async () => {
    answers["POST /changes/7/edits"] = [{ edit: part.edits[0], notes: ["search keeps several values"] }];
    answers["POST /changes/7/commit"] = { ...draft, state: "applying" };
    open("/changes/7");
    expect(await screen.findByRole("row", { name: "changed: mtu: 1500 → 9000" })).toBeTruthy();
    expect(screen.getByText("Ready to commit on hold.")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Stage…" }));
    fireEvent.change(await screen.findByLabelText("path"), { target: { value: "/x/mtu" } });
    fireEvent.change(screen.getByLabelText("value"), { target: { value: "9000" } });
    fireEvent.click(screen.getByRole("button", { name: "Stage" }));
    expect(await screen.findByText("search keeps several values")).toBeTruthy();
    expect(asked.find((a) => a.path.endsWith("/edits"))?.body).toEqual({
      devices: ["northmole-harbour"],
      op: "put",
      path: "/x/mtu",
      value: "9000",
    });
    fireEvent.click(screen.getByRole("button", { name: "Commit on hold" }));
    await waitFor(() => {
      expect(asked.find((a) => a.path.endsWith("/commit"))?.body).toEqual({
        holdSeconds: 600,
        probes: [],
        probeWithinSeconds: 10,
        byProbes: false,
        revertOnProbe: false,
      });
    });
  });
  it("is committed as it is wanted, in plain words", async () => {
    const two = { ...draft, devices: ["northmole-harbour", "saltern-quay"] };
    answers["/changes/7"] = two;
    answers["/changes/7/preview"] = {
      change: two,
      empty: false,
      ready: true,
      against: "running",
      parts: [
        part,
        {
          ...part,
          device: "saltern-quay",
          guard: "service",
          guardWhy: "it has no confirmed commit",
          risk: "only this service can revert it",
          untried: "it takes effect at once",
        },
      ],
    } satisfies Preview;
    answers["POST /changes/7/commit"] = { ...two, state: "applying" };
    answers["POST /changes/7/schedule"] = {
      ...due,
      clocks: [{ device: "saltern-quay", aheadSeconds: -95, off: true }],
    } satisfies Scheduled;
    open("/changes/7");
    expect(await screen.findByRole("img", { name: "reverting it is not tested" })).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "How…" }));
    fireEvent.change(await screen.findByLabelText("probes"), { target: { value: "tcp 192.0.2.12:22" } });
    for (const choice of [
      "by itself, once every probe passes",
      "revert at once",
      "no",
      "prepare now, commit at my word (within 2 h)",
    ])
      fireEvent.click(screen.getByLabelText(choice));
    fireEvent.click(screen.getByRole("button", { name: "Prepare, and wait…" }));
    expect(await screen.findByText("saltern-quay: reverting is not tested: it takes effect at once")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Prepare, and wait" }));
    await waitFor(() => {
      expect(asked.find((a) => a.path.endsWith("/commit"))?.body).toEqual({
        holdSeconds: 600,
        probes: ["tcp 192.0.2.12:22"],
        probeWithinSeconds: 10,
        byProbes: true,
        revertOnProbe: true,
        save: false,
        aheadSeconds: 7200,
      });
    });
    fireEvent.click(screen.getByLabelText(/^at a time/));
    expect(screen.getByRole("button", { name: "Put on the schedule…" }).hasAttribute("disabled")).toBe(true);
    fireEvent.change(screen.getByLabelText("time"), { target: { value: "2026-11-24T02:00" } });
    fireEvent.click(screen.getByRole("button", { name: "Put on the schedule…" }));
    fireEvent.click(await screen.findByRole("button", { name: "Put on the schedule" }));
    expect(await screen.findByText(/On the schedule: it goes on hold at 24 Nov 2026, 02:00:00/)).toBeTruthy();
    expect(screen.getByText(/1 min 35 s behind/)).toBeTruthy();
  });
  it("tells what somebody else did while it was on hold", async () => {
    answers["/changes/7"] = {
      ...draft,
      state: "partly",
      reason: "left so by mara",
      meanwhile: [
        {
          number: 3,
          device: "saltern-quay",
          revision: 5,
          before: 4,
          since: draft.opened,
          found: draft.opened,
          who: "joss, in session 12",
          told: [],
          places: 1,
          during: 7,
          state: "open",
        },
      ],
    } satisfies Change;
    open("/changes/7");
    expect(await screen.findByText("Its devices do not all hold the same")).toBeTruthy();
    expect(screen.getByText("While it was on hold, somebody else changed 1 place of saltern-quay")).toBeTruthy();
    expect(screen.getByText(/joss, in session 12. It may have been lost/)).toBeTruthy();
    expect(screen.getByRole("link", { name: "See it and decide" }).getAttribute("href")).toBe("/outside?number=3");
  });
  it("that waits on the schedule is taken off first", async () => {
    answers["/changes/7"] = { ...draft, state: "scheduled", scheduled: due } satisfies Change;
    answers["DELETE /schedule/3"] = null;
    open("/changes/7");
    fireEvent.click(await screen.findByRole("button", { name: "Take it off" }));
    await waitFor(() => {
      expect(asked.some((a) => a.method === "DELETE" && a.path === "/schedule/3")).toBe(true);
    });
    expect(screen.queryByRole("button", { name: "Stage" })).toBeNull();
  });
  it("cannot be committed before it is ready, nor edited by others", async () => {
    answers["/changes/7/preview"] = {
      change: draft,
      empty: false,
      ready: false,
      against: "running",
      parts: [{ ...part, read: false, trouble: "no answer" }],
    } satisfies Preview;
    const { unmount } = open("/changes/7");
    expect(await screen.findByText("Not ready: see what must be fixed first.")).toBeTruthy();
    expect(screen.getByRole("button", { name: "Commit on hold" }).hasAttribute("disabled")).toBe(true);
    unmount();
    answers["/me"] = { account: "joss", may: ["read", "stage", "commit", "approve", "audit"] } satisfies Session;
    open("/changes/7");
    await screen.findByText(/mtu: 1500/);
    expect(screen.queryByRole("button", { name: "Stage" })).toBeNull();
    expect(screen.queryByRole("button", { name: "remove" })).toBeNull();
  });
  it("shows why it reverted, and every device's last word", async () => {
    const reverted: Change = {
      ...draft,
      state: "reverted",
      reason: "the hold ended without a confirm",
      commit: {
        actor: "mara",
        started: "2026-11-23T02:00:00Z",
        phase: "done",
        holdSeconds: 60,
        secondsLeft: 0,
        devices: [{ name: "northmole-harbour", keeper: "device", standing: "reverted", said: "its word" }],
      },
    };
    answers["/changes/7"] = reverted;
    open("/changes/7?view=commit");
    expect(await screen.findByText("It was reverted")).toBeTruthy();
    expect(screen.getByText("the hold ended without a confirm")).toBeTruthy();
    expect(screen.getByText("its word")).toBeTruthy();
  });
  it("that is not there is told as that", async () => {
    open("/changes/9");
    expect(await screen.findByText("there is no /changes/9")).toBeTruthy();
  });
});

describe("a device's configuration", () => {
  it("is shown by the record, and read from the device when that is asked for", async () => {
    const asked: Asked[] = [];
    answering(answers, asked);
    open("/devices/northmole-harbour");
    const from = () => asked.filter((a) => a.path.endsWith("/config")).map((a) => a.query);
    expect(await screen.findByText(/interface \[mgmt0\]/)).toBeTruthy();
    expect(screen.getByText(/As it was when revision 3 was read/)).toBeTruthy();
    expect(from()).toEqual(["from=rev%3A3"]);
    fireEvent.click(screen.getByText("read running"));
    expect(await screen.findByText(/Read from the device/)).toBeTruthy();
    expect(from()).toEqual(["from=rev%3A3", "from=running"]);
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
  });
  it("shows the schedule, and takes off what waits", async () => {
    answers["/schedule"] = [
      due,
      { ...due, id: 2, kind: "restart", state: "missed", note: "missed: it was due at", devices: ["saltern-quay"] },
    ] satisfies Scheduled[];
    answers["DELETE /schedule/3"] = null;
    open("/schedule");
    expect(await screen.findAllByText("24 Nov 2026, 02:00:00 CET")).toHaveLength(2);
    expect(screen.getByText("restart saltern-quay")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Take off" }));
    fireEvent.click(await screen.findByRole("button", { name: "Take it off" }));
    await waitFor(() => {
      expect(asked.some((a) => a.method === "DELETE")).toBe(true);
    });
  });
  it("cares for a device: saves it, tells who is on it, restarts it", async () => {
    const lines = [{ mark: "+", depth: 0, text: "contact: nobody" }];
    answers["/me"] = {
      account: "admin",
      may: ["read", "stage", "commit", "approve", "audit", "administer"],
    } satisfies Session;
    answers["/devices/northmole-harbour"] = {
      ...device,
      unsaved: true,
      clock: { aheadSeconds: 200, off: true, read: "2026-11-23T02:00:00Z" },
    } satisfies Device;
    answers["/devices/northmole-harbour/difference"] = {
      device: "northmole-harbour",
      from: "startup",
      to: "running",
      count: 1,
      lines,
    };
    answers["/devices/northmole-harbour/sessions"] = [
      {
        id: "12",
        account: "joss",
        source: "198.51.100.7",
        locks: [{ datastore: "running", since: "2026-11-23T02:00:00Z" }],
      },
    ];
    answers["POST /devices/northmole-harbour/save"] = device;
    answers["POST /devices/northmole-harbour/restart"] = null;
    answers["PATCH /devices/northmole-harbour"] = device;
    answers["DELETE /devices/northmole-harbour/sessions/12"] = null;
    open("/devices/northmole-harbour");
    expect(await screen.findByRole("row", { name: "added: contact: nobody" })).toBeTruthy();
    expect(screen.getByText(/3 min 20 s ahead of/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Save it to startup" }));
    fireEvent.click(screen.getByLabelText("save to startup"));
    fireEvent.click(screen.getByRole("button", { name: "Who is on it" }));
    expect(await screen.findByText("198.51.100.7")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "End" }));
    fireEvent.click(await screen.findByRole("button", { name: "End it" }));
    fireEvent.click(screen.getByRole("button", { name: "Restart…" }));
    fireEvent.click(await screen.findByRole("button", { name: "Restart it" }));
    await waitFor(() => {
      const acts = asked
        .filter((a) => a.method !== "GET")
        .map((a) => `${a.method} ${a.path.replace("/devices/northmole-harbour", "")}`);
      expect(acts).toEqual(["POST /save", "PATCH ", "DELETE /sessions/12", "POST /restart"]);
    });
  });
  it("opens a change", async () => {
    answers["POST /changes"] = draft;
    open("/changes");
    fireEvent.click(await screen.findByRole("button", { name: "Open a change" }));
    fireEvent.change(await screen.findByLabelText("What is it for?"), { target: { value: "Bigger frames" } });
    fireEvent.click(screen.getByRole("button", { name: "Open" }));
    expect(await screen.findByText("Change 7: Bigger frames")).toBeTruthy();
  });
});
