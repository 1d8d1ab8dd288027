import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { describe, expect, it, vi } from "vitest";
import { placeOf } from "../lib/advice";
import { ApiError, answer, api } from "../lib/api";
import type { Action, Change, Commit, Device, PartPreview, Step } from "../lib/documents";
import { DeviceState } from "../features/devices/Devices";
import { Verdicts } from "../features/changes/Verdicts";
import { Groups } from "../features/changes/Groups";
import { Difference } from "../parts/Difference";
import { HoldBar } from "../features/changes/HoldBar";
import { StateTag } from "../parts/StateTag";
import { Trouble } from "../parts/Trouble";
import { clock, span, timeOfDay, when, whenIn, whenShort } from "../lib/time";
import { stub } from "./answering";
import { quietPart } from "./documents";

function page(node: ReactNode) {
  return render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>{node}</MemoryRouter>
    </QueryClientProvider>,
  );
}

const holding: Change = {
  number: 7,
  title: "Bigger frames",
  author: "mara",
  state: "holding",
  opened: "2026-11-23T02:00:00Z",
  updated: "2026-11-23T02:00:00Z",
  devices: ["northmole-harbour"],
  edits: 1,
  commit: {
    actor: "mara",
    started: "2026-11-23T02:00:00Z",
    phase: "awaiting",
    holdSeconds: 600,
    deadline: "2026-11-23T02:10:00Z",
    secondsLeft: 65,
    devices: [{ name: "northmole-harbour", keeper: "device", standing: "held" }],
  },
};

/** The same change with its commit standing otherwise. */
const held = (commit: Partial<Commit>): Change => ({
  ...holding,
  commit: { ...(holding.commit as Commit), ...commit },
});

const part: PartPreview = {
  ...quietPart,
  unchecked: 2,
};

describe("times", () => {
  it("tells spans in words", () => {
    expect([span(45), span(-95), span(86400 * 3 + 7200), span(0)]).toEqual(["45 s", "1 min 35 s", "3 d 2 h", "0 s"]);
    expect(clock(3 * 86400)).toBe("3 d");
    expect(whenIn("2026-11-24T01:00:00Z", "Europe/Paris")).toBe("24 Nov 2026, 02:00:00 CET");
    expect(whenIn("2026-11-24T01:00:00Z", "Nowhere/Land")).toBe(when("2026-11-24T01:00:00Z"));
  });
  it("counts down in minutes and hours, never below nothing", () => {
    expect([clock(65), clock(0.2), clock(-5), clock(3661)]).toEqual(["1:05", "0:00", "0:00", "1:01:01"]);
  });
  it("always tells the zone", () => {
    expect(when("2026-11-23T02:00:00Z")).toMatch(/2026.*(UTC|GMT|[A-Z]{2,})/);
    expect(whenShort("2026-11-23T02:00:00Z")).not.toContain(" ");
    const today = new Date("2026-11-23T02:30:00Z");
    expect(timeOfDay("2026-11-23T02:00:00Z", today)).toMatch(/^\d\d:00:00 \S+$/);
    expect(timeOfDay("2026-11-25T02:00:00Z", today)).toContain("Nov");
    expect(when(undefined)).toBe("never");
  });
});

describe("Difference", () => {
  it("says by mark and by word what changed", () => {
    page(
      <Difference
        lines={[
          { mark: " ", depth: 0, text: "interfaces" },
          { mark: "~", depth: 1, text: "mtu: 1500 → 9000", path: "/x/mtu" },
          { mark: "+", depth: 1, text: "a" },
          { mark: "−", depth: 1, text: "b" },
          { mark: "↕", depth: 1, text: "c" },
        ]}
      />,
    );
    for (const name of ["changed: mtu: 1500 → 9000", "added: a", "removed: b", "moved: c", "interfaces"]) {
      expect(screen.getByRole("row", { name })).toBeTruthy();
    }
    expect(screen.getByTitle("/x/mtu").textContent).toContain("~");
  });
});

describe("Trouble", () => {
  it("tells what is wrong and what to do", () => {
    page(
      <Trouble
        error={
          new ApiError({
            type: "t",
            title: "The device does not answer",
            status: 504,
            detail: "d (a:1): no answer",
            next: [
              { text: "check the address" },
              { text: "or see who is there", action: "list-sessions", args: { device: "old quay" } },
              { text: "or list them", action: "search-help" },
            ],
          })
        }
      />,
    );
    expect(screen.getByRole("alert").textContent).toContain("d (a:1): no answer");
    expect(screen.getByRole("alert").textContent).toContain("Next: check the address");
    expect(screen.getByRole("link", { name: "old quay" }).getAttribute("href")).toBe("/devices/old%20quay");
    expect(screen.getAllByRole("link")).toHaveLength(1);
  });
  it("offers no way to where one is", () => {
    const next: Step[] = [{ text: "see them", action: "list-devices" }];
    render(
      <MemoryRouter initialEntries={["/devices"]}>
        <Trouble error={new ApiError({ type: "t", title: "No", status: 404, detail: "there is none", next })} />
      </MemoryRouter>,
    );
    expect(screen.getByText("see them")).toBeTruthy();
    expect(screen.queryByRole("link")).toBeNull();
  });
  it("is nothing without an error", () => {
    page(<Trouble error={null} />);
    expect(screen.queryByRole("alert")).toBeNull();
  });
});

describe("advice", () => {
  it("leads to pages that there are", () => {
    const at = (step: Step) => placeOf(step)?.to;
    const seven = { change: "7", device: "quay" };
    expect(at({ text: "", action: "take-back", args: seven })).toBe("/changes/7");
    expect(at({ text: "", action: "take-back" })).toBeUndefined();
    expect(at({ text: "", action: "list-revisions", args: seven })).toBe("/devices/quay?view=timeline");
    expect(at({ text: "", action: "compare", args: { left: "quay@rev:4", right: "quay" } })).toBe(
      "/devices/quay?view=compare&a=rev%3A4&b=running",
    );
    expect(at({ text: "", action: "compare", args: { left: "quay", right: "slip" } })).toBeUndefined();
    expect(at({ text: "", action: "show-outside", args: { number: "3" } })).toBe("/outside?all=true&number=3");
    expect(at({ text: "wait" })).toBeUndefined();
    expect(at({ text: "", action: "of a later release" as Action })).toBeUndefined();
  });
});

describe("HoldBar", () => {
  it("counts down and lets its author decide", async () => {
    const asked: string[] = [];
    stub((a) => {
      asked.push(a.path);
      return new Response(JSON.stringify(holding), { status: 200 });
    });
    page(<HoldBar change={holding} mayDecide />);
    expect(screen.getByText("1:05")).toBeTruthy();
    expect(screen.getByRole("region").textContent).toContain("is on hold. Reverted at");
    await userEvent.click(screen.getByRole("button", { name: "Confirm" }));
    await waitFor(() => {
      expect(asked[0]).toBe("/changes/7/confirm");
    });
    vi.unstubAllGlobals();
  });
  it("leaves others without words", () => {
    page(<HoldBar change={holding} mayDecide={false} />);
    for (const name of ["Confirm", "Revert now", "More time…"])
      expect(screen.queryByRole("button", { name })).toBeNull();
  });
  it("tells each device's step, who guards it, and the probes", async () => {
    page(
      <HoldBar
        change={held({
          byProbes: true,
          ending: true,
          devices: [
            { name: "northmole-harbour", keeper: "device", standing: "held" },
            { name: "saltern-quay", keeper: "service", standing: "held", unreachable: true, said: "no answer" },
          ],
          probes: [
            { probe: "tcp 192.0.2.12:22", result: "failed", said: "connection refused" },
            { probe: "program phones", result: "passed", said: "all ring" },
          ],
        })}
        mayDecide
      />,
    );
    const bar = screen.getByRole("region");
    expect(bar.textContent).toContain("on saltern-quay by this service alone");
    expect(bar.textContent).toContain("About to end");
    await userEvent.click(screen.getByRole("button", { name: "Devices: 2 held; 1 of 2 probes pass" }));
    for (const text of ["guard: service", "connection refused", "all ring"])
      expect(await screen.findByText(text)).toBeTruthy();
    expect(screen.getByRole("button", { name: "Confirm…" })).toBeTruthy();
  });
  it("shows what is taken out before it reverts, and gives more time", async () => {
    const asked: string[] = [];
    stub((a) => {
      asked.push(`${a.method} ${a.path}${a.body === undefined ? "" : ` ${JSON.stringify(a.body)}`}`);
      const doc = a.path.includes("/preview")
        ? {
            change: holding,
            empty: false,
            ready: false,
            against: "record",
            parts: [{ ...part, lines: [{ mark: "+", depth: 0, text: "mtu: 9000" }] }],
          }
        : holding;
      return new Response(JSON.stringify(doc), { status: 200 });
    });
    page(<HoldBar change={holding} mayDecide />);
    await userEvent.click(screen.getByRole("button", { name: "More time…" }));
    await userEvent.click(await screen.findByText("20 min more"));
    await waitFor(() => {
      expect(asked.some((a) => a.includes('/changes/7/hold {"addSeconds":1200}'))).toBe(true);
    });
    await userEvent.click(screen.getByRole("button", { name: "Revert now" }));
    expect(await screen.findByRole("row", { name: "added: mtu: 9000" })).toBeTruthy();
    expect(asked.some((a) => a.includes("/revert"))).toBe(false);
    await userEvent.click(screen.getAllByRole("button", { name: "Revert now" })[1] as HTMLElement);
    await waitFor(() => {
      expect(asked.some((a) => a.includes("/revert"))).toBe(true);
    });
    vi.unstubAllGlobals();
  });
  it("commits what is prepared, and settles what is stuck", async () => {
    const asked: string[] = [];
    stub((a) => {
      asked.push(a.path);
      return new Response(JSON.stringify(holding), { status: 200 });
    });
    const { unmount } = page(
      <HoldBar change={held({ phase: "prepared", lapsesAt: "2026-11-23T04:00:00Z" })} mayDecide />,
    );
    expect(screen.getByRole("region").textContent).toContain("It lapses at 23 Nov 2026");
    await userEvent.click(screen.getByRole("button", { name: "Commit now" }));
    await waitFor(() => {
      expect(asked).toContain("/changes/7/begin");
    });
    unmount();
    page(
      <HoldBar
        change={held({
          phase: "reverting",
          devices: [{ name: "saltern-quay", keeper: "service", standing: "reverting", odd: true }],
        })}
        mayDecide
      />,
    );
    expect(screen.getByRole("link", { name: "What would have to be sent to saltern-quay" }).getAttribute("href")).toBe(
      "/devices/saltern-quay?view=compare&a=running&b=before%3A7",
    );
    await userEvent.click(screen.getByRole("button", { name: "Accept saltern-quay as it is" }));
    await userEvent.click(await screen.findByRole("button", { name: "Accept it" }));
    await waitFor(() => {
      expect(asked).toContain("/changes/7/accept-device");
    });
    vi.unstubAllGlobals();
  });
  it("cannot be confirmed before it is proved that the device is reached", () => {
    page(<HoldBar change={held({ phase: "probing" })} mayDecide />);
    expect(screen.getByRole("button", { name: "Confirm" }).hasAttribute("disabled")).toBe(true);
    expect(screen.getByRole("region").textContent).toContain("a new session is opened to each device");
  });
});

describe("verdicts and states", () => {
  it("names the guard, or that there is none", () => {
    const { unmount } = page(<Verdicts part={part} />);
    expect(screen.getByText(/Guarded by the device/)).toBeTruthy();
    expect(screen.getByText("2 conditions are left to the device's own validate.")).toBeTruthy();
    unmount();
    page(
      <Verdicts
        part={{
          ...part,
          guard: "none",
          guardWhy: "no candidate",
          behind: true,
          moved: [],
          findings: [{ severity: "error", path: "/b", message: "is mandatory" }],
        }}
      />,
    );
    for (const text of ["Cannot be changed", "/b", "Behind: the device moved on since revision 3"])
      expect(screen.getByText(text)).toBeTruthy();
  });
  it("stages the mend that a finding offers", () => {
    const onMend = vi.fn();
    const fix = { edit: "put", path: "/b", value: "x" } as const;
    page(
      <Verdicts
        part={{
          ...part,
          reasons: ["the module of prefix x is not at hand"],
          findings: [
            { severity: "hint", path: "/b", message: "is mandatory", fix },
            { severity: "warning", path: "/c", message: "odd" },
          ],
        }}
        remedies={{ fix: onMend, decide: vi.fn(), rebase: vi.fn(), validate: vi.fn(), busy: false }}
      />,
    );
    fireEvent.click(screen.getByText("Stage the fix: put it x"));
    expect(onMend).toHaveBeenCalledWith(fix);
    expect(screen.getByText("the module of prefix x is not at hand")).toBeTruthy();
  });
  it("tells like changes together, and keeps every line at hand", () => {
    const groups = [
      { kind: "changed", place: "/i=*/mtu", old: "1500", new: "9000", count: 4000, examples: ["/i=a/mtu", "/i=b/mtu"] },
      { kind: "removed", place: "/v=*", old: "7", count: 1, examples: ["/v=1"] },
    ] as const;
    page(
      <Groups groups={groups.map((g) => ({ ...g, examples: [...g.examples] }))}>
        <Difference lines={[{ mark: "~", depth: 0, text: "mtu: 1500 → 9000" }]} />
      </Groups>,
    );
    expect(screen.getByText("~ 4000×")).toBeTruthy();
    expect(screen.getByText("/i=a/mtu, /i=b/mtu, …")).toBeTruthy();
    fireEvent.click(screen.getByText("Line by line"));
    expect(screen.getByText("mtu: 1500 → 9000")).toBeTruthy();
  });
  it("shows the worst of a device first", () => {
    const d = {
      name: "d",
      address: "a",
      account: "u",
      auth: "key",
      trusted: true,
      guard: "device",
      unsaved: true,
      save: true,
      trouble: "no answer",
    } satisfies Device;
    page(
      <>
        <DeviceState device={d} />
        <DeviceState device={{ ...d, heldBy: 4 }} />
        <DeviceState device={{ ...d, trusted: false }} />
        <StateTag state="confirmed" />
      </>,
    );
    for (const text of ["✗ trouble", /held by change\s*4/, "✗ host key not accepted", "✓ confirmed"])
      expect(screen.getByText(text)).toBeTruthy();
  });
});

describe("the API", () => {
  it("turns a problem document into an error", async () => {
    vi.stubGlobal("fetch", () =>
      Promise.resolve(
        new Response(
          JSON.stringify({ type: "t", title: "No", status: 409, detail: "held", next: [{ text: "wait" }] }),
          {
            status: 409,
          },
        ),
      ),
    );
    await expect(answer(api.GET("/devices"))).rejects.toThrow("held; wait");
    vi.stubGlobal("fetch", () => Promise.reject(new TypeError("network")));
    await expect(answer(api.GET("/devices"))).rejects.toThrow("check that oaken-latchd runs");
    vi.stubGlobal("fetch", () => Promise.resolve(new Response("<html>", { status: 502 })));
    await expect(answer(api.GET("/devices"))).rejects.toThrow("answered 502");
    vi.unstubAllGlobals();
  });
});
