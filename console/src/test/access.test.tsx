import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Account, Approval, ApprovalRule, Emergency, Token } from "../lib/documents";
import type { Change, Preview, Problem } from "../lib/documents";
import { may, mayEverywhere, on } from "../lib/may";
import { SignIn } from "../features/access/SignIn";
import { Refusals, answering, open } from "./answering";
import type { Asked } from "./answering";
import { calm, quietPart } from "./documents";

const at = "2026-11-23T02:00:00Z";
const everything = ["read", "stage", "commit", "approve", "audit", "administer", "reveal"];
const accounts: Account[] = [
  { name: "admin", may: everything, created: at },
  { name: "hanna", may: ["read", "stage@site=Saltern"], created: at, issuer: "https://id.example.net" },
  { name: "gone", may: ["read"], created: at, closed: at },
];
const tokens: Token[] = [
  {
    id: "0a1b2c3d",
    account: "admin",
    kind: "session",
    created: at,
    expires: at,
    idleUntil: at,
    used: at,
    source: "198.51.100.7",
    own: true,
  },
  { id: "4e5f6071", account: "admin", kind: "machine", name: "nightly", may: ["read"], created: at, expires: at },
];
const rule: ApprovalRule = {
  number: 1,
  scope: "tag=edge",
  path: "/acls",
  needed: 1,
  emergency: true,
  note: "two persons",
  actor: "admin",
  at,
};
const emergency: Emergency = {
  number: 3,
  change: 7,
  title: "At night",
  actor: "mara",
  reason: "the quay is on fire",
  digest: "d1g",
  at,
};
const change: Change = {
  number: 7,
  title: "Slip",
  author: "mara",
  state: "draft",
  opened: at,
  updated: at,
  devices: ["hall"],
  edits: 1,
};
const approval: Approval = {
  needed: 1,
  missing: 1,
  rules: [rule],
  have: [],
  fallen: [{ actor: "otto", digest: "old", at }],
  askedBy: "mara",
  askedAt: at,
  askedNote: "it sails at six",
  emergency: true,
};
const preview: Preview = {
  change,
  empty: false,
  ready: false,
  against: "running",
  digest: "d1g",
  approval,
  parts: [{ ...quietPart, device: "hall", lines: [{ mark: "+", depth: 0, text: "ace [slip]" }] }],
};

let answers: Record<string, unknown>;
let asked: Asked[];

const as = (account: string, roles: string[]) => {
  answers["/me"] = { account, may: roles };
};

beforeEach(() => {
  asked = [];
  answers = {
    "/attention": {
      ...calm,
      approve: [change],
      emergencies: [emergency],
      proposals: [
        {
          number: 4,
          says: "rule 1 goes: all devices, 1",
          actor: "joss",
          at: "2026-11-23T01:00:00Z",
          agreed: [],
          missing: 1,
        },
      ],
      denied: [
        {
          name: "tidewell/saltern",
          url: "http://192.0.2.9",
          trouble: "it saw 9 entries, and the record has 7: the end was cut off",
          denies: true,
        },
      ],
    },
    "/login/ways": {},
    "/accounts": accounts,
    "/tokens": tokens,
    "/rules": [rule],
    "/changes": [change],
    "/changes/7": change,
    "/changes/7/preview": preview,
    "/changes/7/edits": [],
    "/devices": [],
    "POST /accounts": accounts[1],
    "PATCH /accounts/hanna": accounts[1],
    "DELETE /accounts/hanna": {},
    "DELETE /tokens/4e5f6071": {},
    "POST /tokens": { ...tokens[1], token: "SHOWN-ONCE" },
    "POST /rules": rule,
    "DELETE /rules/1": {},
    "POST /me/password": {},
    "POST /proposals/4/agreement": { done: true, missing: 0 },
    "POST /changes/7/ask": {},
    "POST /changes/7/approval": {},
    "DELETE /changes/7/approval": {},
    "POST /emergencies/3/review": {},
    "POST /changes/7/commit": change,
  };
  as("admin", everything);
  answering(answers, asked);
});

afterEach(() => {
  vi.unstubAllGlobals();
});

const did = (what: string) =>
  waitFor(() => {
    expect(asked.map((a) => `${a.method} ${a.path}`)).toContain(what);
  });
const sent = (method: string, path: string) => asked.find((a) => a.method === method && a.path === path)?.body;

const asks = (anew: boolean, ticket: string): Problem => ({
  type: "urn:oaken-latch:problem:second-factor",
  title: "Show your second factor",
  status: anew ? 403 : 401,
  detail: anew ? "this is grave" : "the password is right",
  second: { anew, ticket, ways: ["code", "recovery"] },
});
const wrong: Problem = {
  type: "urn:oaken-latch:problem:wrong-factor",
  title: "That was not it",
  status: 401,
  detail: "the second factor is wrong, or was used before",
};

describe("access", () => {
  it("knows what an account may", () => {
    const session = { account: "x", may: ["stage@site=Saltern", "audit"] };
    expect([
      may(session, "read"),
      may(session, "stage"),
      may(session, "commit"),
      mayEverywhere(session, "stage"),
      may({ account: "y", may: ["audit"] }, "read"),
    ]).toEqual([true, true, false, false, false]);
  });

  it("knows what it may on one device", () => {
    const session = {
      account: "x",
      may: ["read", "stage@site=Saltern", "commit@tag=a=b", "administer@device=saltern-quay", "reveal@role=quay"],
    };
    const at = (d?: Parameters<typeof on>[1]) => on(session, d).may;
    expect(at({ name: "saltern-quay", site: "Saltern", role: "quay", tags: ["night", "a=b"] })).toEqual([
      "read",
      "stage",
      "commit",
      "administer",
      "reveal",
    ]);
    expect(at({ name: "gannet-hall", site: "Gannet", role: "hall" })).toEqual(["read"]);
    expect(at()).toEqual([]);
  });

  it("lists accounts, sessions, tokens and rules, and changes them", async () => {
    open("/access");
    expect(await screen.findByText("stage@site=Saltern")).toBeTruthy();
    for (const text of [
      "vouched for by https://id.example.net",
      "this one",
      "nightly",
      "possible, for a reason",
      "two persons",
    ])
      expect(await screen.findByText(text)).toBeTruthy();
    expect(screen.getByText(/^closed/)).toBeTruthy();
    fireEvent.click(screen.getAllByText("Change…")[1] as HTMLElement);
    fireEvent.click(await screen.findByText("Keep it so"));
    await did("PATCH /accounts/hanna");
    expect(sent("PATCH", "/accounts/hanna")).toEqual({ may: ["read", "stage@site=Saltern"] });
    fireEvent.click(screen.getAllByText("End…")[1] as HTMLElement);
    fireEvent.click(await screen.findByText("End it"));
    await did("DELETE /tokens/4e5f6071");
    fireEvent.change(screen.getByLabelText("New token for the machine"), { target: { value: "nightly" } });
    fireEvent.click(screen.getByText("Make a token of admin"));
    await did("POST /tokens");
    expect(await screen.findByText("SHOWN-ONCE")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Devices"), { target: { value: "site=Saltern" } });
    fireEvent.click(screen.getByText("Make the rule…"));
    fireEvent.click(await screen.findByText("Make it"));
    await did("POST /rules");
    expect(sent("POST", "/rules")).toEqual({ scope: "site=Saltern", needed: 1, emergency: true });
    fireEvent.change(screen.getByLabelText("As it is"), { target: { value: "old password" } });
    fireEvent.change(screen.getByLabelText("As it is to be"), { target: { value: "new password" } });
    fireEvent.click(screen.getByText("Change it"));
    expect(await screen.findByText(/your other sessions have ended/)).toBeTruthy();
  });

  it("keeps accounts from who does not administer", async () => {
    as("wren", ["read", "audit"]);
    open("/access");
    expect(await screen.findByText("nightly")).toBeTruthy();
    expect(screen.queryByText("Accounts")).toBeNull();
    expect(screen.queryByText("Make the rule…")).toBeNull();
  });

  it("asks others to agree, and lets an emergency go for a reason", async () => {
    as("mara", ["read", "stage", "commit", "approve"]);
    open("/changes/7?view=approval");
    expect(await screen.findByText("It needs 1 who did not work on it: 1 missing.")).toBeTruthy();
    expect(screen.getByText(/otto agreed/)).toBeTruthy();
    expect(screen.queryByText("Approve what is shown…")).toBeNull();
    fireEvent.click(screen.getByText("Ask again"));
    await did("POST /changes/7/ask");
    fireEvent.click(screen.getByRole("button", { name: "Commit as an emergency…" }));
    const commit = await screen.findByRole("button", { name: "Commit as an emergency" });
    expect(commit.hasAttribute("disabled")).toBe(true);
    fireEvent.change(screen.getByLabelText("reason of the emergency"), { target: { value: "on fire" } });
    fireEvent.click(commit);
    await did("POST /changes/7/commit");
    expect(sent("POST", "/changes/7/commit")).toMatchObject({ emergency: "on fire", preview: "d1g" });
  });

  it("agrees to what is shown and to nothing else", async () => {
    as("otto", ["read", "approve"]);
    open("/changes/7");
    fireEvent.click(await screen.findByRole("button", { name: "To the approval" }));
    fireEvent.click(await screen.findByText("Approve what is shown…"));
    fireEvent.click(await screen.findByText("Approve"));
    await did("POST /changes/7/approval");
    expect(sent("POST", "/changes/7/approval")).toEqual({ digest: "d1g" });
  });

  it("has emergencies stand out until somebody looked", async () => {
    open("/");
    expect(await screen.findByText("the quay is on fire")).toBeTruthy();
    expect(screen.getByText("To be approved (1)")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("what you found of emergency 3"), { target: { value: "it was right" } });
    fireEvent.click(screen.getByText("I looked at it"));
    await did("POST /emergencies/3/review");
    expect(sent("POST", "/emergencies/3/review")).toEqual({ text: "it was right" });
    expect(screen.getByText("rule 1 goes: all devices, 1")).toBeTruthy();
    fireEvent.click(screen.getByText("Approve…"));
    fireEvent.click(await screen.findByText("Approve"));
    await did("POST /proposals/4/agreement");
    expect(screen.getByText(/it saw 9 entries, and the record has 7/)).toBeTruthy();
  });

  it("offers to sign in elsewhere", async () => {
    answers["/login/ways"] = { elsewhere: "https://id.example.net" };
    render(
      <QueryClientProvider client={new QueryClient()}>
        <SignIn />
      </QueryClientProvider>,
    );
    expect(await screen.findByText("Sign in at id.example.net")).toBeTruthy();
  });

  it("asks for the second factor at sign-in, tells what was wrong, and says afterwards where else the account is signed in", async () => {
    answers["/me"] = new Refusals(
      Array<Problem>(20).fill({ type: "t", title: "No", status: 401, detail: "sign in" }),
      {},
    );
    answers["POST /login"] = new Refusals([asks(false, "t1")], {});
    answers["POST /login/second"] = new Refusals([wrong], {
      account: "admin",
      may: everything,
      others: [{ ...tokens[0], own: false, source: "203.0.113.66" }],
    });
    open("/access");
    fireEvent.change(await screen.findByLabelText("Account"), { target: { value: "admin" } });
    fireEvent.change(screen.getByLabelText("Password"), { target: { value: "secret" } });
    fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
    const show = async (code: string) => {
      fireEvent.change(await screen.findByLabelText("Code of your app, or a recovery code"), {
        target: { value: code },
      });
      fireEvent.click(screen.getByRole("button", { name: "Show it" }));
    };
    await show("000000");
    await screen.findByText("the second factor is wrong, or was used before");
    as("admin", everything);
    await show("123456");
    await screen.findByText(/203\.0\.113\.66/);
    expect(asked.filter((a) => a.path === "/login/second").map((a) => a.body)).toEqual([
      { ticket: "t1", code: "000000" },
      { ticket: "t1", code: "123456" },
    ]);
    fireEvent.click(screen.getByRole("button", { name: "It is me" }));
    await waitFor(() => {
      expect(screen.queryByText(/203\.0\.113\.66/)).toBeNull();
    });
  });

  it("asks for it anew before what is grave, and does nothing where it is not shown", async () => {
    answers["/me/factors"] = {
      list: [{ id: "0a", kind: "code", name: "phone", created: at }],
      recovery: 9,
      required: true,
    };
    answers["DELETE /rules/1"] = new Refusals([asks(true, "t2"), asks(true, "t3")], {});
    answers["POST /me/proof"] = {};
    open("/access");
    expect(await screen.findByText("9 recovery codes are left.")).toBeTruthy();
    fireEvent.click((await screen.findAllByRole("button", { name: "Take away…" }))[0] as HTMLElement);
    fireEvent.click(await screen.findByRole("button", { name: "Take it away" }));
    await screen.findByText("Show your second factor again");
    fireEvent.click(screen.getByRole("button", { name: "Close" }));
    await screen.findByText("this is grave");
    expect(asked.filter((a) => a.method === "DELETE")).toHaveLength(1);
    fireEvent.click((await screen.findAllByRole("button", { name: "Take it away" }))[0] as HTMLElement);
    fireEvent.change(await screen.findByLabelText("Code of your app, or a recovery code"), {
      target: { value: "123456" },
    });
    fireEvent.click(screen.getByRole("button", { name: "Show it" }));
    await waitFor(() => {
      expect(asked.filter((a) => a.method === "DELETE")).toHaveLength(3);
    });
    expect(sent("POST", "/me/proof")).toEqual({ ticket: "t3", code: "123456" });
  });

  it("shows who has to have a second factor nothing else", async () => {
    answers["/me"] = { account: "admin", may: everything, lacks: true };
    answers["/me/factors"] = { list: [], recovery: 0, required: true };
    open("/changes");
    await screen.findByText("Your account has to have a second factor");
    expect(screen.queryByText("Sessions and tokens")).toBeNull();
  });
});
