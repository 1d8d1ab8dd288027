import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Change, Device, Edit, Hint, PartPreview, Preview, Stencil } from "../lib/documents";
import { answering, open } from "./answering";
import type { Asked } from "./answering";
import { calm, quietPart } from "./documents";

// The editor measures what jsdom does not lay out.
vi.mock("../parts/TextEditor", () => ({
  TextEditor: ({ label, value, onChange }: { label: string; value: string; onChange: (t: string) => void }) => (
    <textarea
      aria-label={label}
      value={value}
      onChange={(e) => {
        onChange(e.target.value);
      }}
    />
  ),
}));

const at = "2026-11-23T02:00:00Z";
const edit = (id: number, device: string, more: Partial<Edit> = {}): Edit => ({
  id,
  device,
  op: "put",
  path: "/ietf-system:system/contact",
  value: "x",
  lines: 1,
  actor: "mara",
  at,
  ...more,
});
const part = (device: string, more: Partial<PartPreview> = {}): PartPreview => ({
  ...quietPart,
  device,
  edits: [edit(4, device)],
  lines: [{ mark: "~", depth: 0, text: "contact: y → x", path: "/system/contact", edit: 4 }],
  ...more,
});
const change: Change = {
  number: 7,
  title: "Lamps",
  author: "mara",
  coworkers: ["joss"],
  state: "draft",
  opened: at,
  updated: at,
  devices: ["quay", "slip"],
  edits: 2,
  notes: [{ actor: "joss", at, text: "on Monday" }],
};
const preview = (parts: PartPreview[], ready = false): Preview => ({
  change,
  empty: false,
  ready,
  against: "running",
  parts,
  digest: "abc123",
  steps: ["prepare: lock"],
  estimateSeconds: 2,
});
const device = (name: string): Device => ({
  name,
  address: "a:830",
  account: "u",
  auth: "password",
  trusted: true,
  guard: "device",
  unsaved: false,
  save: true,
});
const stencil: Stencil = {
  name: "clock",
  version: 2,
  text: "system\n",
  actor: "mara",
  at,
  blanks: [
    { name: "place", lines: [1], type: "string" },
    { name: "servers", shared: true, lines: [2] },
  ],
  uses: [
    {
      stencil: "clock",
      device: "slip",
      version: 1,
      newest: 2,
      change: 3,
      blanks: { place: "hut" },
      strayed: [{ path: "/system/location", set: "hut", now: "shed" }],
    },
  ],
  versions: [{ version: 2, actor: "mara", at, text: "" }],
};

let answers: Record<string, unknown>;
let asked: Asked[];

beforeEach(() => {
  asked = [];
  answers = {
    "/me": { account: "mara", may: ["read", "stage", "commit", "approve", "audit"] },
    "/attention": calm,
    "/devices": [device("quay"), device("slip"), device("hall")],
    "/changes/7": change,
    "/changes/7/preview": preview([part("quay"), part("slip")], true),
    "/devices/quay/paths": [
      {
        path: "/system/dns-resolver/search",
        kind: "leaf-list",
        type: "domain-name",
        several: true,
        exists: true,
        current: "a.example",
        help: "Domains.",
      },
    ] satisfies Hint[],
    "/stencils": [stencil],
    "/stencils/clock": stencil,
    "/shared": [{ name: "servers", version: 1, items: ["203.0.113.1"], actor: "mara", at }],
  };
  answering(answers, asked);
});

afterEach(() => {
  vi.unstubAllGlobals();
});

/** Opens the ways to stage. */
const staging = async () => {
  fireEvent.click(await screen.findByRole("button", { name: "Stage…" }));
};

const sent = (method: string, path: string) => asked.find((a) => a.method === method && a.path === path);

describe("the change desk", () => {
  it("looks at one device at a time, and takes back edits and lines", async () => {
    answers["DELETE /changes/7/edits"] = [];
    answers["DELETE /changes/7/edits/4"] = {};
    open("/changes/7?device=slip");
    const devices = within(await screen.findByRole("navigation", { name: "devices of the change" }));
    expect(devices.getByText("slip").closest("button")?.getAttribute("aria-current")).toBe("true");
    fireEvent.click(devices.getByText("quay"));
    await waitFor(() => {
      expect(devices.getByText("quay").closest("button")?.getAttribute("aria-current")).toBe("true");
    });
    fireEvent.click(screen.getByRole("button", { name: "remove /system/contact" }));
    await waitFor(() => {
      expect(sent("DELETE", "/changes/7/edits")?.query).toBe("device=quay&path=%2Fsystem%2Fcontact");
    });
    fireEvent.click(screen.getByRole("checkbox", { name: "who staged it" }));
    expect(screen.getByText(/mara, edit 4/)).toBeTruthy();
    fireEvent.click(screen.getByRole("tab", { name: "Edits (1)" }));
    fireEvent.click(await screen.findByRole("button", { name: "remove edit 4" }));
    await waitFor(() => {
      expect(sent("DELETE", "/changes/7/edits/4")).toBeTruthy();
    });
  });
  it("lists the newest changes, and older ones when they are asked for", async () => {
    answers["/changes"] = Array.from({ length: 200 }, (_, i) => ({ ...change, number: 300 - i }));
    open("/changes");
    fireEvent.click(await screen.findByText("Older ones"));
    await waitFor(() => {
      expect(sent("GET", "/changes")?.query).toBe("limit=200");
    });
    await waitFor(() => {
      expect(asked.filter((a) => a.path === "/changes").at(-1)?.query).toBe("limit=200&before=101");
    });
  });
  it("asks whether one more value or the only one is meant", async () => {
    answers["POST /changes/7/edits"] = [];
    open("/changes/7");
    await staging();
    fireEvent.change(await screen.findByLabelText("path"), { target: { value: "/system/dns-resolver/search" } });
    fireEvent.change(screen.getByLabelText("value"), { target: { value: "b.example" } });
    fireEvent.click(await screen.findByLabelText("the only one, the others go"));
    fireEvent.click(screen.getByRole("button", { name: "Stage" }));
    await waitFor(() => {
      expect(sent("POST", "/changes/7/edits")?.body).toEqual({
        devices: ["quay"],
        op: "put",
        path: "/system/dns-resolver/search",
        value: "b.example",
        several: "only",
      });
    });
  });
  it("shows each side of a conflict, and keeps the one that is chosen", async () => {
    const moved = preview([
      part("quay", {
        behind: true,
        blocker: "quay moved on",
        moved: [],
        since: [
          { number: 4, at, source: "change", digest: "d", change: 6, title: "Other", author: "joss" },
          { number: 5, at, source: "outside", digest: "d" },
        ],
        conflicts: [
          {
            path: "/system/contact",
            base: "was it",
            mine: "mine it",
            theirs: "theirs it",
            why: "changed here and on the device",
          },
        ],
        decided: [
          { path: "/system/location", base: "a", mine: "b", theirs: "c", why: "", keep: "theirs", actor: "joss", at },
        ],
      }),
    ]);
    answers["/changes/7/preview"] = {
      ...moved,
      trouble: [
        { stops: true, device: "quay", path: "/system/contact", text: "conflict: changed here and on the device" },
      ],
    };
    answers["POST /changes/7/decide"] = {};
    open("/changes/7?view=details");
    fireEvent.click(await screen.findByRole("button", { name: "Decide the conflict…" }));
    for (const text of [
      "was it",
      "mine it",
      "theirs it",
      "Decided by joss: /system/location",
      /change 6 of joss: Other/,
      /by whom is not known/,
    ])
      expect(await screen.findByText(text)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "keep mine at /system/contact" }));
    await waitFor(() => {
      expect(sent("POST", "/changes/7/decide")?.body).toEqual({
        device: "quay",
        path: "/system/contact",
        keep: "mine",
      });
    });
  });
  it("rebases, asks the device, and says what is foretold", async () => {
    answers["/changes/7/preview"] = preview([
      part("quay", {
        behind: true,
        moved: [],
        reserved: { device: "quay", holder: "joss", reason: "winch", made: at, until: at },
        unchecked: 1,
        forecasts: [
          { device: "quay", answer: "unknown", because: "it touches /x", path: "/x" },
          { device: "slip", answer: "cuts", because: "port is shut" },
        ],
      }),
    ]);
    answers["POST /changes/7/rebase"] = [];
    open("/changes/7?view=details");
    expect(await screen.findByText(/it is not known whether it keeps management access/)).toBeTruthy();
    expect(screen.getByText(/cuts management access to slip, behind it/)).toBeTruthy();
    expect(screen.getByText(/Reserved by joss/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Rebase onto what it holds now" }));
    await waitFor(() => {
      expect(sent("POST", "/changes/7/rebase")?.body).toEqual({ devices: ["quay"] });
    });
    fireEvent.click(screen.getByRole("button", { name: "Ask the device itself" }));
    await waitFor(() => {
      expect(asked.some((a) => a.path === "/changes/7/preview" && a.query.includes("validate=true"))).toBe(true);
    });
  });
  it("commits what was previewed, and what would be cut off only in words", async () => {
    answers["/changes/7/preview"] = preview(
      [part("quay", { helpless: true, forecasts: [{ device: "quay", answer: "cuts", because: "shut down" }] })],
      true,
    );
    answers["POST /changes/7/commit"] = { ...change, state: "applying" };
    open("/changes/7");
    fireEvent.click(await screen.findByRole("button", { name: "Commit on hold…" }));
    expect(await screen.findByText(/nobody could revert it. If that is meant, write the name/)).toBeTruthy();
    expect(screen.getByRole("button", { name: "Commit on hold" }).hasAttribute("disabled")).toBe(true);
    expect(sent("POST", "/changes/7/commit")).toBeUndefined();
    fireEvent.change(screen.getByLabelText("name of what is cut off"), { target: { value: "quay" } });
    fireEvent.click(screen.getByRole("button", { name: "Commit on hold" }));
    await waitFor(() => {
      expect(sent("POST", "/changes/7/commit")?.body).toMatchObject({ preview: "abc123", cutOff: ["quay"] });
    });
  });
  it("edits as text, by the part as it was seen", async () => {
    answers["/changes/7/parts/quay"] = {
      device: "quay",
      path: "/system",
      base: 3,
      tag: "tag1",
      outline: "system\n  contact: x\n",
    };
    answers["POST /changes/7/load"] = [
      {
        device: "quay",
        edit: edit(9, "quay", { op: "load" }),
        count: 1,
        lines: [],
        notes: ["only what is at /system changes"],
        tag: "u",
      },
    ];
    open("/changes/7");
    await staging();
    fireEvent.click(await screen.findByRole("tab", { name: "Edit as text" }));
    fireEvent.change(await screen.findByLabelText("path to edit"), { target: { value: "/system" } });
    fireEvent.click(screen.getByRole("button", { name: "Edit as text" }));
    fireEvent.change(await screen.findByLabelText("outline"), { target: { value: "system\n  contact: z\n" } });
    fireEvent.click(screen.getByRole("button", { name: "Stage the text" }));
    expect(await screen.findByText("only what is at /system changes")).toBeTruthy();
    expect(sent("POST", "/changes/7/load")).toMatchObject({
      tag: '"tag1"',
      body: { devices: ["quay"], mode: "replace-at", path: "/system", text: "system\n  contact: z\n" },
    });
  });
  it("loads a text, and binds a stencil", async () => {
    answers["POST /changes/7/load"] = [];
    answers["POST /stencils/clock/bind"] = [];
    open("/changes/7");
    await staging();
    fireEvent.click(await screen.findByRole("tab", { name: "File or copy" }));
    fireEvent.change(await screen.findByLabelText("text"), { target: { value: "vlans" } });
    fireEvent.click(screen.getByRole("button", { name: "Stage on quay" }));
    await waitFor(() => {
      expect(sent("POST", "/changes/7/load")?.body).toEqual({
        devices: ["quay"],
        mode: "merge",
        text: "vlans",
        name: "a text",
      });
    });
    fireEvent.click(screen.getByRole("tab", { name: "Stencil" }));
    fireEvent.mouseDown(await screen.findByLabelText("stencil"));
    fireEvent.click(await screen.findByText("clock, version 2"));
    fireEvent.change(await screen.findByLabelText("place"), { target: { value: "hut" } });
    fireEvent.click(screen.getAllByRole("button", { name: "Stage on quay" }).pop() as HTMLElement);
    await waitFor(() => {
      expect(sent("POST", "/stencils/clock/bind")?.body).toEqual({
        change: 7,
        devices: ["quay"],
        blanks: { place: "hut" },
      });
    });
  });
  it("draws only what is in sight of a very long difference, and finds one device of many", async () => {
    const lines = Array.from({ length: 5000 }, (_, i) => ({
      mark: "+",
      depth: 0,
      text: `line ${String(i)}`,
      path: `/l=${String(i)}`,
      edit: 4,
    }));
    answers["/changes/7/preview"] = preview(
      Array.from({ length: 40 }, (_, i) => part(`dev-${String(i)}`, { count: 5000, lines })),
    );
    open("/changes/7");
    expect(await screen.findByText("line 0")).toBeTruthy();
    expect(screen.getAllByRole("row").length).toBeLessThan(200);
    fireEvent.change(screen.getByLabelText("find a device"), { target: { value: "dev-33" } });
    const devices = within(screen.getByRole("navigation", { name: "devices of the change" }));
    fireEvent.click(devices.getByText("dev-33"));
    await waitFor(() => {
      expect(devices.getByText("dev-33").closest("button")?.getAttribute("aria-current")).toBe("true");
    });
  });
  it("is shared, noted on and renamed", async () => {
    for (const k of [
      "POST /changes/7/coworkers",
      "POST /changes/7/notes",
      "PATCH /changes/7",
      "DELETE /changes/7/edits",
      "DELETE /changes/7/coworkers/joss",
    ])
      answers[k] = change;
    open("/changes/7");
    fireEvent.click(await screen.findByRole("button", { name: "People and notes (1)" }));
    expect(await screen.findByText("on Monday")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("account"), { target: { value: "wren" } });
    fireEvent.click(screen.getByRole("button", { name: "Add" }));
    fireEvent.change(screen.getByLabelText("note"), { target: { value: "told them" } });
    fireEvent.click(screen.getByRole("button", { name: "Write it down" }));
    fireEvent.click(screen.getByRole("button", { name: "remove all that joss staged" }));
    fireEvent.click(screen.getByRole("button", { name: "take off" }));
    fireEvent.change(screen.getByLabelText("title"), { target: { value: "Lamps, all" } });
    fireEvent.click(screen.getByRole("button", { name: "Rename" }));
    await waitFor(() => {
      expect(sent("PATCH", "/changes/7")?.body).toEqual({ title: "Lamps, all", ticket: "" });
    });
    expect(sent("POST", "/changes/7/coworkers")?.body).toEqual({ account: "wren" });
    expect(sent("POST", "/changes/7/notes")?.body).toEqual({ text: "told them" });
    expect(sent("DELETE", "/changes/7/edits")?.query).toBe("by=joss");
    expect(sent("DELETE", "/changes/7/coworkers/joss")).toBeTruthy();
  });
});

describe("stencils and reservations", () => {
  it("saves a version, and names the change that follows", async () => {
    answers["PUT /stencils/clock"] = { version: 3, change: 12, devices: ["slip"] };
    answers["PUT /shared/servers"] = { version: 2 };
    open("/stencils");
    fireEvent.click(await screen.findByRole("button", { name: /clock, version 2/ }));
    expect(await screen.findByText("Changed by hand since: /system/location")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("stencil text"), { target: { value: "system\n  contact: {who}\n" } });
    fireEvent.change(screen.getByLabelText("what is new"), { target: { value: "contact" } });
    fireEvent.click(screen.getByRole("button", { name: "Save a version" }));
    expect(await screen.findByText("change 12")).toBeTruthy();
    expect(sent("PUT", "/stencils/clock")?.tag).toBe('"v2"');
    fireEvent.click(screen.getByText("203.0.113.1", { exact: false }));
    fireEvent.change(screen.getByLabelText("items"), { target: { value: "203.0.113.1\n203.0.113.2\n" } });
    fireEvent.click(screen.getByRole("button", { name: "Save" }));
    await waitFor(() => {
      expect(sent("PUT", "/shared/servers")?.body).toEqual({ items: ["203.0.113.1", "203.0.113.2"] });
    });
  });
  it("reserves a device, and asks whoever has it", async () => {
    answers["/devices/quay"] = device("quay");
    answers["/devices/quay/config"] = { device: "quay", from: "running", read: at, outline: "", xml: "" };
    answers["POST /devices/quay/reservation"] = {};
    const first = open("/devices/quay");
    fireEvent.change(await screen.findByLabelText("reason"), { target: { value: "winch" } });
    fireEvent.click(screen.getByRole("button", { name: "Reserve it for me" }));
    await waitFor(() => {
      expect(sent("POST", "/devices/quay/reservation")?.body).toEqual({ reason: "winch", seconds: 7200 });
    });
    first.unmount();
    answers["/devices/quay"] = {
      ...device("quay"),
      reserved: {
        device: "quay",
        holder: "joss",
        reason: "winch",
        made: at,
        until: at,
        asks: [{ actor: "wren", at, text: "when?" }],
      },
    };
    answers["POST /devices/quay/reservation/asks"] = {};
    open("/devices/quay");
    expect(await screen.findByText(/when\?/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText("ask"), { target: { value: "soon?" } });
    fireEvent.click(screen.getByRole("button", { name: "Ask" }));
    await waitFor(() => {
      expect(sent("POST", "/devices/quay/reservation/asks")?.body).toEqual({ text: "soon?" });
    });
  });
});
