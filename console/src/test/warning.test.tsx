import { renderHook, waitFor } from "@testing-library/react";
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { Change, Commit } from "../lib/documents";
import { useWarning } from "../features/changes/warning";

const held = (phase: Commit["phase"], secondsLeft: number): Change => ({
  number: 7,
  title: "Lamps",
  author: "mara",
  state: "holding",
  opened: "2026-11-23T02:00:00Z",
  updated: "2026-11-23T02:00:00Z",
  devices: ["quay"],
  edits: 1,
  commit: { actor: "mara", started: "2026-11-23T02:00:00Z", phase, holdSeconds: 600, secondsLeft, devices: [] },
});

let told: string[];

beforeEach(() => {
  told = [];
  document.title = "Changes";
  const notify = function (title: string) {
    told.push(title);
  };
  vi.stubGlobal("Notification", Object.assign(notify, { permission: "granted" }));
});

describe("a hold about to end", () => {
  it("is told once, and counted in the title, when the service says so too", async () => {
    const ask = vi.fn(() => Promise.resolve(held("awaiting", 45)));
    const { rerender, unmount } = renderHook(
      ({ left }) => {
        useWarning(held("awaiting", left), left, ask);
      },
      { initialProps: { left: 300 } },
    );
    expect(ask).not.toHaveBeenCalled();
    rerender({ left: 45 });
    await waitFor(() => {
      expect(told).toEqual(["Change 7: the hold is about to end"]);
    });
    rerender({ left: 44 });
    expect(document.title).toBe("(0:44) Changes");
    expect(ask).toHaveBeenCalledTimes(1);
    expect(told).toHaveLength(1);
    unmount();
    expect(document.title).toBe("Changes");
  });
  it.each([
    ["was confirmed meanwhile", () => Promise.resolve(held("done", 0))],
    ["was given more time meanwhile", () => Promise.resolve(held("awaiting", 1200))],
    ["is not known, without contact", () => Promise.reject(new Error("no answer"))],
  ])("is not told where it %s", async (_, answer) => {
    const ask = vi.fn(answer);
    renderHook(() => {
      useWarning(held("awaiting", 45), 45, ask);
    });
    await waitFor(() => {
      expect(ask).toHaveBeenCalled();
    });
    await new Promise((done) => setTimeout(done, 20));
    expect(told).toEqual([]);
    expect(document.title).toBe("Changes");
  });
});
