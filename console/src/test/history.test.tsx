import { fireEvent, screen, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Change, Device } from "../lib/documents";
import type {
  Archive,
  Blame,
  BroughtBack,
  Carried,
  Comparison,
  Copy,
  HostKey,
  ImportedBundle,
  Job,
  Moment,
  RevisionDoc,
  Snapshot,
  Standing,
} from "../lib/documents";
import { answering, open } from "./answering";
import type { Asked } from "./answering";
import { calm } from "./documents";

const at = "2026-11-23T02:00:00Z";
const revision = (number: number, more: Partial<RevisionDoc> = {}): RevisionDoc => ({
  number,
  at,
  source: "change",
  change: number,
  title: `Work ${String(number)}`,
  author: "mara",
  digest: "d",
  ...more,
});
const moments: Moment[] = [
  { at, kind: "snapshot", text: "Before winter", actor: "joss", snapshot: 4 },
  { at, kind: "outside", text: "changed, not by this service", revision: 3 },
  { at, kind: "change", text: "Lamps", actor: "mara", revision: 2, change: 2 },
  { at: "2026-11-22T02:00:00Z", kind: "first", text: "seen for the first time", revision: 1 },
];
const compared: Comparison = {
  a: "quay@rev:2",
  b: "quay@running",
  count: 2,
  items: [],
  lines: [
    { mark: " ", depth: 0, text: "system" },
    { mark: "~", depth: 1, text: "contact: x → y", before: "contact: x", after: "contact: y", path: "/system/contact" },
    { mark: "+", depth: 1, text: "location: z", path: "/system/location" },
  ],
};
const brought: BroughtBack = {
  change: 9,
  title: "Restore",
  parts: [
    {
      device: "quay",
      count: 1,
      edits: [],
      lines: [],
      takes: [{ revision: 3, source: "outside", at, places: 2 }],
      left: [],
      notes: [],
    },
  ],
};
const blame: Blame = {
  device: "quay",
  path: "/",
  revision: 3,
  revisions: [
    { number: 3, at, source: "outside", digest: "d" },
    revision(2, { ticket: "TF-2" }),
    { number: 1, at, source: "first", digest: "d" },
  ],
  lines: [
    { depth: 0, text: "system", path: "/system" },
    { depth: 1, text: "contact: y", path: "/system/contact", revision: 2 },
    { depth: 1, text: "hostname: quay", path: "/system/hostname", revision: 1 },
  ],
  gone: [{ path: "/vlans/vlan=40", was: "vlan [40]", revision: 2 }],
};
const device: Device = {
  name: "quay",
  address: "a:830",
  account: "u",
  auth: "password",
  trusted: true,
  guard: "device",
  unsaved: false,
  save: true,
  model: "Box",
  serial: "S-1",
};
const snapshot: Snapshot = {
  number: 4,
  name: "Before winter",
  actor: "joss",
  at,
  devices: 1,
  unclean: true,
  items: [{ device: "quay", revision: 3, at, unclean: ["its startup does not hold what runs"] }],
};
const kept: Change = {
  number: 2,
  title: "Lamps",
  author: "mara",
  state: "confirmed",
  opened: at,
  updated: at,
  devices: ["quay"],
  edits: 1,
};
const archives: Archive[] = [
  {
    name: "away",
    kind: "sftp",
    place: "h:22/a",
    position: 1,
    trusted: true,
    afterChange: true,
    copies: 3,
    damaged: 1,
    caveat: "it is on this machine, and goes with it: no backup",
  },
];
const standing: Standing[] = [
  { device: "quay", revision: 3, changed: at, saved: at, unsaved: true, behind: ["startup", "copy"] },
];

let answers: Record<string, unknown>;
let asked: Asked[];

beforeEach(() => {
  asked = [];
  answers = {
    "/me": { account: "mara", may: ["read", "stage", "commit", "approve", "audit"] },
    "/attention": { ...calm, archives, uncopied: standing },
    "/devices": [device],
    "/devices/quay": device,
    "/devices/quay/timeline": moments,
    "/devices/quay/blame": blame,
    "/devices/quay/revisions": [revision(3), revision(2)],
    "/snapshots": [snapshot, { ...snapshot, number: 3, name: "Before change 2: Lamps", change: 2 }],
    "/snapshots/4": snapshot,
    "/compare": compared,
    "POST /restore": brought,
    "POST /undo": brought,
    "/changes/2": kept,
    "/changes/2/preview": { change: kept, empty: false, ready: false, against: "commit", parts: [], steps: [] },
    "/archives": archives,
    "/standing": standing,
    "POST /archives/away/verify": {
      id: 5,
      kind: "archive verify",
      actor: "mara",
      begun: at,
      state: "running",
      done: 0,
      total: 3,
    } satisfies Job,
    "/jobs/5": {
      id: 5,
      kind: "archive verify",
      actor: "mara",
      begun: at,
      state: "done",
      done: 3,
      total: 3,
      result: { archive: "away", whole: 2, copies: 3, wrong: ["copy 2, a.xml: its SHA-256 is another"] },
    } satisfies Job,
  };
  answering(answers, asked);
});

afterEach(() => {
  vi.unstubAllGlobals();
});

const asAdmin = () => {
  answers["/me"] = { account: "abel", may: ["read", "stage", "commit", "approve", "audit", "administer"] };
};

const sent = (method: string, path: string) => asked.find((a) => a.method === method && a.path === path);

describe("history", () => {
  it("draws what happened in lanes, the newest chosen, and compares from there", async () => {
    open("/devices/quay?view=timeline");
    const strip = within(await screen.findByRole("listbox", { name: "timeline" }));
    expect(strip.getAllByRole("option").map((o) => o.getAttribute("aria-label")?.split(":")[0]?.slice(2))).toEqual([
      "changes",
      "changes",
      "outside",
      "snapshots",
    ]);
    expect(strip.getByText("2026-11-22")).toBeTruthy();
    fireEvent.click(strip.getByRole("option", { name: /changes: Lamps/ }));
    expect(screen.getByText("change 2: Lamps")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "What it changed" }));
    await screen.findByRole("table", { name: "side by side" });
    expect(asked.filter((a) => a.path === "/compare").at(-1)?.query).toContain("a=quay%40rev%3A1&b=quay%40rev%3A2");
  });

  it("shows two sides, and brings back what is picked, with a word on what that takes away", async () => {
    open("/devices/quay?view=compare&a=rev:2&b=running");
    const row = within(await screen.findByRole("row", { name: /^changed: contact: x/ }));
    expect(row.getByText("contact: x")).toBeTruthy();
    expect(row.getByText("contact: y")).toBeTruthy();
    const bring = screen.getByRole<HTMLButtonElement>("button", { name: "Bring back what is picked (0)" });
    expect(bring.disabled).toBe(true);
    fireEvent.click(screen.getByRole("checkbox", { name: "pick /system/location" }));
    fireEvent.click(screen.getByRole("button", { name: "Bring back what is picked (1)" }));
    expect(await screen.findByText("change 9: Restore")).toBeTruthy();
    expect(screen.getByText(/revision 3, .*changed outside of this service \(2 places\)/)).toBeTruthy();
    expect(sent("POST", "/restore")?.body).toEqual({ from: "rev:2", devices: ["quay"], paths: ["/system/location"] });
  });

  it("stages a file as it is, and says what it is from", async () => {
    answers["POST /import"] = {
      ...brought,
      parts: [{ ...brought.parts[0], notes: ["xml file of quay, as of yesterday"] }],
    };
    const { container } = open("/devices/quay?view=compare");
    await screen.findByText("Download what runs");
    const input = container.querySelector("input[type=file]");
    if (!input) throw new Error("no file can be given");
    const file = new File(["<config/>"], "quay.xml");
    Object.defineProperty(file, "text", { value: () => Promise.resolve("<config/>") });
    fireEvent.change(input, { target: { files: [file] } });
    expect(await screen.findByText("quay: xml file of quay, as of yesterday")).toBeTruthy();
    expect(sent("POST", "/import")?.body).toEqual({ device: "quay", name: "quay.xml", text: "<config/>" });
  });

  it("says who last set each line, and what was removed", async () => {
    open("/devices/quay?view=blame");
    await screen.findByText("contact: y");
    const table = within(screen.getByRole("table", { name: "blame" }));
    const rows = table.getAllByRole("row").map((r) => r.textContent);
    expect(rows[0]).toBe("system");
    expect(rows[1]).toMatch(/^rev 2 .*mara {2}change 2 TF-2contact: y$/);
    expect(rows[2]).toMatch(/^rev 1 .*first readhostname: quay$/);
    fireEvent.click(screen.getByText("removed (1)"));
    expect(await screen.findByText("− /vlans/vlan=40")).toBeTruthy();
  });

  it("lists snapshots without those before commits, and says that a moment was not clean", async () => {
    answers["PATCH /snapshots/4"] = { ...snapshot, protected: true };
    open("/snapshots");
    expect(await screen.findByText("Before winter")).toBeTruthy();
    expect(screen.queryByText("Before change 2: Lamps")).toBeNull();
    fireEvent.click(screen.getByRole("switch"));
    expect(screen.getByText("Before change 2: Lamps")).toBeTruthy();
    fireEvent.click(screen.getByText("Before winter"));
    expect(await screen.findByText("The moment was not clean")).toBeTruthy();
    expect(screen.getByText("its startup does not hold what runs")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Protect" }));
    await vi.waitFor(() => {
      expect(sent("PATCH", "/snapshots/4")?.body).toEqual({ protected: true });
    });
    answers["/compare/fleet"] = {
      from: "snapshot:4",
      to: "running",
      same: 3,
      devices: [{ device: "quay", added: 1, removed: 0, changed: 2, moved: 0, changes: [2], outside: 1 }],
    };
    fireEvent.click(screen.getByRole("button", { name: "What moved since" }));
    expect(await screen.findByText("1 of 4 devices differ from what the snapshot holds.")).toBeTruthy();
    expect(screen.getByText("change 2, 1 outside")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("name of the snapshot"), { target: { value: "Vor der Übergabe" } });
    fireEvent.click(screen.getByRole("button", { name: "Take it" }));
    await vi.waitFor(() => {
      expect(sent("POST", "/snapshots")?.body).toEqual({ name: "Vor der Übergabe", all: true });
    });
  });

  it("undoes a kept change in a change of its own", async () => {
    open("/changes/2");
    fireEvent.click(await screen.findByRole("button", { name: "Undo this change…" }));
    expect(await screen.findByText("change 9: Restore")).toBeTruthy();
    expect(sent("POST", "/undo")?.body).toEqual({ change: 2 });
  });

  it("tells how safe it is, on the first page too, and reads an archive back", async () => {
    open("/");
    expect(await screen.findByText("1 of its copies did not read back whole")).toBeTruthy();
    fireEvent.click(screen.getByText("Backups"));
    expect(await screen.findByText("it is on this machine, and goes with it: no backup")).toBeTruthy();
    expect(screen.getByText("copy behind")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Read all of it back" }));
    expect(await screen.findByText("2 of 3 copies read back whole")).toBeTruthy();
    expect(screen.getByText("copy 2, a.xml: its SHA-256 is another")).toBeTruthy();
  });

  it("carries from another device, and says what is to be looked at", async () => {
    answers["/devices"] = [device, { ...device, name: "slip" }];
    answers["POST /carry"] = {
      ...brought,
      own: [
        { path: "/system/hostname", from: "slip", kept: "quay", why: "it names the device" },
        { path: "/system/banner", from: "This is slip", why: "it holds the name slip" },
      ],
    } satisfies Carried;
    open("/devices/quay?view=compare");
    const pick = await screen.findByRole("combobox", { name: "device to carry from" });
    fireEvent.mouseDown(pick);
    expect(screen.queryByTitle("quay")).toBeNull();
    fireEvent.click(await screen.findByTitle("slip"));
    fireEvent.change(screen.getByLabelText("place to carry"), { target: { value: "rev:2" } });
    fireEvent.click(screen.getByRole("button", { name: "Stage it on quay" }));
    expect(await screen.findByText(/Look at one place: carried as on slip/)).toBeTruthy();
    expect(screen.getByText(/stays quay \(slip has slip\): it names the device/)).toBeTruthy();
    expect(sent("POST", "/carry")?.body).toEqual({ from: "slip", place: "rev:2", onto: "quay" });
  });

  it("lets only an administrator put another box in a place, and shows its new host key before anything is read", async () => {
    const first = open("/devices/quay");
    await screen.findByText("Box, serial number S-1");
    expect(screen.queryByRole("button", { name: /Another box/ })).toBeNull();
    first.unmount();
    asAdmin();
    answers["POST /devices/quay/replace"] = { ...device, address: "b:830", trusted: false };
    answers["/devices/quay"] = { ...device, trusted: false };
    answers["/devices/quay/host-key"] = {
      device: "quay",
      type: "ssh-ed25519",
      fingerprint: "SHA256:new",
      accepted: "SHA256:old",
    } satisfies HostKey;
    answers["POST /devices/quay/trust"] = {
      device: "quay",
      type: "ssh-ed25519",
      fingerprint: "SHA256:new",
      accepted: "SHA256:new",
    } satisfies HostKey;
    open("/devices/quay");
    fireEvent.click(await screen.findByRole("button", { name: /Another box/ }));
    fireEvent.change(screen.getByLabelText("Address, host:port"), { target: { value: "b:830" } });
    fireEvent.click(screen.getByRole("button", { name: "Put it in the place of quay" }));
    expect(await screen.findByText("it is kept sealed")).toBeTruthy();
    expect(sent("POST", "/devices/quay/replace")).toBeUndefined();
    fireEvent.change(screen.getByLabelText("Password"), { target: { value: "secret" } });
    fireEvent.click(screen.getByRole("button", { name: "Put it in the place of quay" }));
    fireEvent.click(await screen.findByRole("button", { name: "Ask it for its host key" }));
    expect(await screen.findByText("SHA256:new")).toBeTruthy();
    expect(screen.getByText("SHA256:old")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: /accept it/ }));
    await screen.findByText(/is accepted\./);
    expect(sent("POST", "/devices/quay/trust")?.body).toEqual({ fingerprint: "SHA256:new" });
    expect(sent("POST", "/devices/quay/replace")?.body).toEqual({
      name: "quay",
      address: "b:830",
      account: "u",
      password: "secret",
    });
  });

  it("adds and retires archives, lists their copies and reads one back", async () => {
    asAdmin();
    const copy: Copy = {
      id: 7,
      archive: "away",
      device: "quay",
      revision: 3,
      name: "Saltern/quay-3.xml",
      bytes: 12,
      sha256: "0123456789abcdef0123",
      at,
      why: "hand",
      read: at,
    };
    Object.assign(answers, {
      "POST /archives": archives[0],
      "PATCH /archives/away": archives[0],
      "/copies": [copy, { ...copy, id: 8, trouble: "its SHA-256 is another" }],
      "/copies/7": { ...copy, text: "<config/>" },
    });
    open("/backups");
    fireEvent.click(await screen.findByRole("button", { name: "Its copies" }));
    expect(await screen.findByText("its SHA-256 is another")).toBeTruthy();
    expect(screen.getAllByRole("link", { name: "Compare with now" })[0]?.getAttribute("href")).toBe(
      "/devices/quay?view=compare&a=archive:7&b=running",
    );
    fireEvent.click(screen.getAllByRole("button", { name: "Read it" })[0] ?? document.body);
    expect(await screen.findByText("<config/>")).toBeTruthy();
    fireEvent.click(screen.getByText("SFTP"));
    for (const [label, value] of [
      ["Name", "vault"],
      ["Place", "vault.example.net:22/net"],
      ["Account", "oak"],
      ["Password", "pw"],
      ["Also every", "6"],
      ["Keep of each device", "20"],
    ]) {
      fireEvent.change(screen.getByLabelText(label ?? ""), { target: { value } });
    }
    fireEvent.click(screen.getByRole("button", { name: "Add it" }));
    await vi.waitFor(() => {
      expect(sent("POST", "/archives")?.body).toEqual({
        name: "vault",
        kind: "sftp",
        place: "vault.example.net:22/net",
        account: "oak",
        password: "pw",
        afterChange: true,
        everySeconds: 21600,
        keepLast: 20,
      });
    });
    fireEvent.click(screen.getByRole("button", { name: "Retire…" }));
    fireEvent.click(await screen.findByRole("button", { name: "Retire it" }));
    await vi.waitFor(() => {
      expect(sent("PATCH", "/archives/away")?.body).toEqual({ retired: true });
    });
  });

  it("takes a snapshot of a site, and imports a bundle as it is", async () => {
    answers["/devices"] = [
      { ...device, site: "Saltern" },
      { ...device, name: "hall", site: "Gannet" },
    ];
    answers["POST /snapshots"] = snapshot;
    answers["POST /import/bundle"] = {
      ...brought,
      refused: ['hall.xml: there is no device "hall"'],
    } satisfies ImportedBundle;
    const { container } = open("/snapshots");
    fireEvent.change(await screen.findByLabelText("name of the snapshot"), { target: { value: "Winter" } });
    fireEvent.mouseDown(screen.getByRole("combobox", { name: "site of the snapshot" }));
    fireEvent.click(await screen.findByTitle("Saltern"));
    fireEvent.click(screen.getByRole("button", { name: "Take it" }));
    await vi.waitFor(() => {
      expect(sent("POST", "/snapshots")?.body).toEqual({ name: "Winter", site: "Saltern" });
    });
    const file = new File(["tar"], "b.tar");
    fireEvent.change(container.querySelector("input[type=file]") ?? document.body, { target: { files: [file] } });
    expect(await screen.findByText(/Not staged: hall\.xml/)).toBeTruthy();
    expect(screen.getByText(/Later work that it takes away/)).toBeTruthy();
  });
});
