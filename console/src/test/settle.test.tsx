import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { beforeEach, describe, expect, it } from "vitest";
import type { Attention, Change, Unsettled } from "../lib/documents";
import { Now } from "../features/now/Now";
import { Settle } from "../features/changes/Settle";
import { stub, type Asked } from "./answering";
import { calm } from "./documents";

const at = "2026-11-23T02:00:00Z";
const change: Change = {
  number: 7,
  title: "Bigger frames",
  ticket: "",
  author: "mara",
  state: "unsettled",
  opened: at,
  updated: at,
  devices: ["saltern-slip", "saltern-quay"],
  edits: 1,
};

let answers: Record<string, unknown>;
let asked: Asked[];

beforeEach(() => {
  asked = [];
  answers = {};
  stub((a) => {
    asked.push(a);
    const found = answers[a.path];
    return new Response(JSON.stringify(found ?? {}), {
      status: found === undefined ? 404 : 200,
      headers: { "Content-Type": "application/json" },
    });
  });
});

function show(what: React.ReactNode) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>{what}</MemoryRouter>
    </QueryClientProvider>,
  );
}

describe("settling", () => {
  it("reads nothing until it is told to, and reverts only what holds the change", async () => {
    answers["/changes/7/unsettled"] = [
      { device: "saltern-slip", address: "a:1", holds: "change", pending: "no" },
      { device: "saltern-quay", address: "b:1", holds: "former", pending: "no" },
    ] satisfies Unsettled[];
    answers["/undo"] = { change: 8, parts: [] };
    show(<Settle change={change} />);
    expect(asked).toEqual([]);
    fireEvent.click(screen.getByRole("button", { name: "Read its devices" }));
    await screen.findByText("its former configuration");
    fireEvent.click(screen.getByRole("button", { name: "Send it back…" }));
    await waitFor(() => {
      expect(asked.find((a) => a.path === "/undo")?.body).toEqual({
        change: 7,
        devices: ["saltern-slip"],
        title: "Revert change 7 after a restore",
      });
    });
  });

  it("leaves nothing as found while a device is not known, or its timer runs", async () => {
    answers["/changes/7/unsettled"] = [
      { device: "saltern-slip", address: "a:1", holds: "", pending: "", error: "no answer" },
      { device: "saltern-quay", address: "b:1", holds: "change", pending: "yes" },
    ] satisfies Unsettled[];
    show(<Settle change={change} />);
    fireEvent.click(screen.getByRole("button", { name: "Read its devices" }));
    await screen.findByText("not known: no answer");
    screen.getByText("the change; its own timer still runs, and reverts it");
    expect(screen.getByRole("button", { name: "Accept them as found…" }).closest("button")).toHaveProperty(
      "disabled",
      true,
    );
  });

  it("says what is unsettled, lost and damaged, and is not calm", async () => {
    answers["/attention"] = {
      ...calm,
      unsettled: [change],
      damaged: ["the stored configuration of saltern-quay revision 4 is damaged"],
      lostHolds: [
        {
          change: 9,
          title: "Night work",
          by: "joss",
          began: at,
          until: at,
          devices: [{ name: "gannet-hall", address: "c:1", guard: "this service alone" }],
        },
      ],
    } satisfies Attention;
    show(<Now />);
    await screen.findByText("Change 7: Bigger frames");
    screen.getByText(/reverted by this service alone/);
    screen.getByText(/revision 4 is damaged/);
    expect(screen.queryByText(/Nothing waits for you/)).toBeNull();
    answers["/lost-holds/9"] = {};
    fireEvent.click(screen.getByRole("button", { name: "I looked at them…" }));
    fireEvent.click(await screen.findByRole("button", { name: "They were" }));
    await waitFor(() => {
      expect(asked.some((a) => a.method === "DELETE" && a.path === "/lost-holds/9")).toBe(true);
    });
  });
});
