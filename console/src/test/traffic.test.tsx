import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { PartPreview, Preview } from "../lib/documents";
import { TrafficEffect } from "../features/traffic/Traffic";
import type { FilterDoc, Filters, Traced, TrafficChange } from "../lib/documents";
import { answering, open } from "./answering";
import type { Asked } from "./answering";
import { calm, quietPart } from "./documents";

const at = "2026-11-23T02:00:00Z";
const wide: TrafficChange = {
  filter: "hall-in",
  on: ["hall0 ingress"],
  more: true,
  dependsOn: ["tcp/window-size is 9"],
  permitted: [
    {
      packets: "tcp from 198.51.0.0/16 port 8443",
      example: "tcp from 198.51.0.1 to 192.0.2.80",
      before: { rule: "rest", action: "drop" },
      after: { rule: "slip", action: "accept" },
    },
  ],
  denied: [
    { packets: "udp IPv4", example: "udp", before: { rule: "old", action: "accept" }, after: { action: "drop" } },
  ],
};
const part: PartPreview = {
  ...quietPart,
  device: "hall",
  lines: [{ mark: "+", depth: 0, text: "ace [slip]" }],
  effects: [wide],
};
const change = {
  number: 7,
  title: "Slip",
  author: "mara",
  state: "draft" as const,
  opened: at,
  updated: at,
  devices: ["hall"],
  edits: 1,
};
const preview: Preview = {
  change,
  empty: false,
  ready: false,
  against: "running",
  parts: [part],
  digest: "d",
  expected: [
    {
      number: 1,
      line: "permit tcp port 8443",
      place: "hall/hall-in",
      actor: "mara",
      at,
      already: "partly",
      part: ["tcp port 1"],
      delivered: true,
    },
    {
      number: 2,
      line: "deny udp",
      actor: "mara",
      at,
      already: "not",
      delivered: false,
      missing: [
        {
          packets: "udp IPv4",
          example: "udp from a to b",
          filter: "hall/hall-in",
          by: { rule: "x", action: "accept" },
        },
      ],
    },
  ],
  beside: [{ ...wide, device: "hall" }],
};
const filter: FilterDoc = {
  name: "hall-in",
  path: "/f",
  count: 2,
  clean: ["old"],
  clashes: [{ first: "a", second: "b", example: "tcp from x" }],
  rules: [
    {
      name: "narrow",
      path: "/n",
      action: "accept",
      fits: ["tcp port 1"],
      decides: ["tcp port 1"],
      standing: "needed",
      bits: 9,
    },
    { name: "old", path: "/o", action: "drop", fits: ["tcp port 1"], standing: "never-reached", bits: 9 },
  ],
};
const traced: Traced = {
  packets: "tcp",
  answer: "partly",
  parts: [
    {
      packets: "tcp port 1",
      permitted: true,
      example: "tcp e",
      way: [
        {
          filter: "hall/hall-in",
          by: { rule: "narrow", action: "accept" },
          not: [{ rule: "z", why: "it fits only port 2" }],
        },
      ],
    },
  ],
};

let answers: Record<string, unknown>;
let asked: Asked[];

beforeEach(() => {
  asked = [];
  answers = {
    "/me": { account: "mara", may: ["read", "stage", "commit", "approve", "audit"] },
    "/attention": calm,
    "/changes": [change],
    "/changes/7": change,
    "/changes/7/preview": preview,
    "/changes/7/edits": [],
    "/devices": [
      {
        name: "hall",
        address: "a",
        account: "x",
        auth: "password",
        trusted: true,
        guard: "device",
        unsaved: false,
        save: true,
      },
    ],
    "/devices/hall": {
      name: "hall",
      address: "a",
      account: "x",
      auth: "password",
      trusted: true,
      guard: "device",
      unsaved: false,
      save: true,
    },
    "POST /changes/7/expectations": preview.expected?.[0],
    "DELETE /changes/7/expectations/1": {},
    "POST /changes/7/accept": {},
    "/devices/hall/filters": {
      device: "hall",
      from: "running",
      filters: [{ name: "hall-in", path: "/f", count: 2 }],
      attached: [
        {
          interface: "hall0",
          path: "/ietf-interfaces:interfaces/interface=hall0",
          direction: "ingress",
          filters: ["hall-in"],
        },
      ],
    } satisfies Filters,
    "/devices/hall/filters/hall-in": filter,
    "/trace": traced,
  };
  answering(answers, asked);
});

afterEach(() => {
  vi.unstubAllGlobals();
});

describe("traffic", () => {
  it("says that nothing is treated otherwise, or why that is not known", () => {
    render(
      <>
        <TrafficEffect change={{ filter: "a", noEffect: true }} />
        <TrafficEffect change={{ interface: "quay1", direction: "egress", trouble: "it is too large" }} />
      </>,
    );
    expect(screen.getByText(/no effect, proved/)).toBeTruthy();
    expect(screen.getByText("Traffic, interface quay1 egress")).toBeTruthy();
    expect(screen.getByText("it is too large")).toBeTruthy();
  });

  it("shows on a change's desk what is permitted and denied, what was expected, and what nobody expects", async () => {
    open("/changes/7?view=traffic");
    expect((await screen.findAllByText("tcp from 198.51.0.0/16 port 8443")).length).toBe(2);
    for (const text of [
      "Traffic, filter hall-in, on hall0 ingress",
      "delivered",
      "not delivered",
      "a part of it is so already: tcp port 1",
      "Side effect at filter hall-in of hall, which nobody expects",
    ])
      expect(screen.getByText(text)).toBeTruthy();
    expect(screen.getAllByText(/accept by rule slip/).length).toBeGreaterThan(0);
    fireEvent.change(screen.getByLabelText("expectation"), { target: { value: "deny udp" } });
    fireEvent.change(screen.getByLabelText("at"), { target: { value: "hall/hall-in" } });
    fireEvent.click(screen.getByRole("button", { name: "Expect it" }));
    await waitFor(() => {
      expect(asked.find((a) => a.method === "POST" && a.path === "/changes/7/expectations")?.body).toEqual({
        line: "deny udp",
        place: "hall/hall-in",
      });
    });
    fireEvent.click(screen.getByRole("button", { name: "Accept it by name…" }));
    fireEvent.click(await screen.findByRole("button", { name: "Accept it" }));
    await waitFor(() => {
      expect(asked.find((a) => a.path === "/changes/7/accept")?.body).toEqual({ device: "hall", place: "hall-in" });
    });
    fireEvent.click(screen.getAllByRole("button", { name: "Remove it" })[0] ?? document.body);
    await waitFor(() => {
      expect(asked.some((a) => a.method === "DELETE" && a.path === "/changes/7/expectations/1")).toBe(true);
    });
  });

  it("lists what each rule decides, and answers what becomes of packets", async () => {
    open("/devices/hall?view=filters");
    expect(await screen.findByText("never reached")).toBeTruthy();
    expect(screen.getByText("all of it")).toBeTruthy();
    expect(screen.getByText(/These can all go.*old/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText("packets"), { target: { value: "tcp" } });
    fireEvent.click(screen.getByRole("button", { name: "Ask" }));
    expect(await screen.findByText("Some of it is permitted, some is denied.")).toBeTruthy();
    expect(screen.getByText("it fits only port 2")).toBeTruthy();
    await waitFor(() => {
      expect(asked.find((a) => a.path === "/trace")?.query).toBe("way=hall%2Fhall-in&packets=tcp");
    });
  });
});
