import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { describe, expect, it, vi } from "vitest";
import { ApiError, call } from "../api";
import type { Change, PartPreview } from "../api";
import { DeviceState } from "../pages/Devices";
import { Verdicts } from "../pages/Verdicts";
import { Groups } from "../parts/Groups";
import { Difference } from "../parts/Difference";
import { HoldBar } from "../parts/HoldBar";
import { StateTag } from "../parts/StateTag";
import { Trouble } from "../parts/Trouble";
import { clock, when, whenShort } from "../time";

function page(node: ReactNode) {
  return render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>{node}</MemoryRouter>
    </QueryClientProvider>,
  );
}

const holding: Change = {
  number: 7, title: "Bigger frames", author: "mara", state: "holding", opened: "2026-11-23T02:00:00Z", updated: "2026-11-23T02:00:00Z",
  devices: ["northmole-harbour"], edits: 1,
  commit: {
    actor: "mara", started: "2026-11-23T02:00:00Z", phase: "awaiting", holdSeconds: 600, deadline: "2026-11-23T02:10:00Z", secondsLeft: 65,
    devices: [{ name: "northmole-harbour", standing: "held" }],
  },
};

const part: PartPreview = {
  device: "d", base: 3, edits: [], count: 1, lines: [], read: true, behind: false, unchecked: 2, guard: "device", unsaved: false,
};

describe("times", () => {
  it("counts down in minutes and hours, never below nothing", () => {
    expect([clock(65), clock(0.2), clock(-5), clock(3661)]).toEqual(["1:05", "0:00", "0:00", "1:01:01"]);
  });
  it("always tells the zone", () => {
    expect(when("2026-11-23T02:00:00Z")).toMatch(/2026.*(UTC|GMT|[A-Z]{2,})/);
    expect(whenShort("2026-11-23T02:00:00Z")).not.toContain(" ");
    expect(when(undefined)).toBe("never");
  });
});

describe("Difference", () => {
  it("says by mark and by word what changed", () => {
    page(<Difference lines={[
      { mark: " ", depth: 0, text: "interfaces" }, { mark: "~", depth: 1, text: "mtu: 1500 → 9000", path: "/x/mtu" },
      { mark: "+", depth: 1, text: "a" }, { mark: "−", depth: 1, text: "b" }, { mark: "↕", depth: 1, text: "c" },
    ]} />);
    for (const name of ["changed: mtu: 1500 → 9000", "added: a", "removed: b", "moved: c", "interfaces"]) {
      expect(screen.getByRole("row", { name })).toBeTruthy();
    }
    expect(screen.getByTitle("/x/mtu").textContent).toContain("~");
  });
});

describe("Trouble", () => {
  it("tells what is wrong and what to do", () => {
    page(<Trouble error={new ApiError({ type: "t", title: "The device does not answer", status: 504, detail: "d (a:1): no answer", next: "check the address" })} />);
    expect(screen.getByRole("alert").textContent).toContain("d (a:1): no answer");
    expect(screen.getByText("Next: check the address")).toBeTruthy();
  });
  it("is nothing without an error", () => {
    page(<Trouble error={null} />);
    expect(screen.queryByRole("alert")).toBeNull();
  });
});

describe("HoldBar", () => {
  it("counts down and lets its author decide", async () => {
    const asked = vi.fn<typeof fetch>(() => Promise.resolve(new Response(JSON.stringify(holding), { status: 200 })));
    vi.stubGlobal("fetch", asked);
    page(<HoldBar change={holding} mayDecide />);
    expect(screen.getByText("1:05")).toBeTruthy();
    expect(screen.getByRole("region").textContent).toContain("is on hold on northmole-harbour");
    await userEvent.click(screen.getByRole("button", { name: "Keep it" }));
    await waitFor(() => { expect(asked.mock.calls[0]?.[0]).toBe("/api/v1/changes/7/confirm"); });
    vi.unstubAllGlobals();
  });
  it("leaves others without buttons", () => {
    page(<HoldBar change={holding} mayDecide={false} />);
    expect(screen.queryByRole("button")).toBeNull();
  });
  it("cannot be confirmed before the way in is proved", () => {
    const commit = { ...(holding.commit as NonNullable<Change["commit"]>), phase: "probing" };
    page(<HoldBar change={{ ...holding, commit }} mayDecide />);
    expect(screen.getByRole("button", { name: "Keep it" }).hasAttribute("disabled")).toBe(true);
    expect(screen.getByRole("region").textContent).toContain("the way in is being proved");
  });
});

describe("verdicts and states", () => {
  it("names the guard, or that there is none", () => {
    const { unmount } = page(<Verdicts part={part} />);
    expect(screen.getByText(/Guarded by the device/)).toBeTruthy();
    expect(screen.getByText("2 conditions are left to the device's own validate.")).toBeTruthy();
    unmount();
    page(<Verdicts part={{ ...part, guard: "none", guardWhy: "no candidate", behind: true, moved: [], conflicts: [{ path: "/a", base: "1", mine: "2", theirs: "3", why: "both" }], findings: [{ severity: "error", path: "/b", message: "is mandatory" }] }} />);
    for (const text of ["No guard", "Conflict at /a", "/b", "The device moved on since revision 3"]) expect(screen.getByText(text)).toBeTruthy();
  });
  it("stages the mend that a finding offers", () => {
    const onMend = vi.fn();
    const fix = { edit: "put", path: "/b", value: "x" } as const;
    page(<Verdicts part={{ ...part, reasons: ["the module of prefix x is not at hand"], findings: [{ severity: "hint", path: "/b", message: "is mandatory", fix }, { severity: "warning", path: "/c", message: "odd" }] }} onMend={onMend} />);
    fireEvent.click(screen.getByText("Stage the mend: put it x"));
    expect(onMend).toHaveBeenCalledWith(fix);
    expect(screen.getByText("the module of prefix x is not at hand")).toBeTruthy();
  });
  it("tells like changes together, and keeps every line at hand", () => {
    const groups = [{ kind: "changed", place: "/i=*/mtu", old: "1500", new: "9000", count: 4000, examples: ["/i=a/mtu", "/i=b/mtu"] }, { kind: "removed", place: "/v=*", old: "7", count: 1, examples: ["/v=1"] }] as const;
    page(<Groups groups={groups.map((g) => ({ ...g, examples: [...g.examples] }))} lines={[{ mark: "~", depth: 0, text: "mtu: 1500 → 9000" }]} />);
    expect(screen.getByText("~ 4000×")).toBeTruthy();
    expect(screen.getByText("/i=a/mtu, /i=b/mtu, …")).toBeTruthy();
    fireEvent.click(screen.getByText("Line by line"));
    expect(screen.getByText("mtu: 1500 → 9000")).toBeTruthy();
  });
  it("shows the worst of a device first", () => {
    const d = { name: "d", address: "a", account: "u", auth: "key", trusted: true, guard: "device", unsaved: true, trouble: "no answer" };
    page(<><DeviceState device={d} /><DeviceState device={{ ...d, heldBy: 4 }} /><DeviceState device={{ ...d, trusted: false }} /><StateTag state="kept" /></>);
    for (const text of ["✗ trouble", /held by change\s*4/, "✗ host key not accepted", "✓ kept"]) expect(screen.getByText(text)).toBeTruthy();
  });
});

describe("call", () => {
  it("turns a problem document into an error", async () => {
    vi.stubGlobal("fetch", () => Promise.resolve(new Response(JSON.stringify({ type: "t", title: "No", status: 409, detail: "held", next: "wait" }), { status: 409 })));
    await expect(call("GET", "/x")).rejects.toThrow("held; wait");
    vi.stubGlobal("fetch", () => Promise.reject(new TypeError("network")));
    await expect(call("GET", "/x")).rejects.toThrow("check that oaken-latchd runs");
    vi.stubGlobal("fetch", () => Promise.resolve(new Response("<html>", { status: 502 })));
    await expect(call("GET", "/x")).rejects.toThrow("answered 502");
    vi.unstubAllGlobals();
  });
});
