import { describe, expect, it } from "vitest";
import { happened, touches } from "../lib/touched";

describe("what an event touches", () => {
  it.each([
    [["attention"], { change: 7 }, true],
    [["changes", "list", {}], { change: 7 }, true],
    [["changes", "list", {}], { device: "quay" }, false],
    [["changes", 7], { change: 7 }, true],
    [["changes", 8], { change: 7, device: "quay" }, false],
    [["changes", 8], { device: "quay" }, true],
    [["devices"], { device: "quay" }, true],
    [["devices", "quay"], { device: "quay", change: 7 }, true],
    [["devices", "slip"], { device: "quay", change: 7 }, false],
    [["devices", "slip"], { change: 7 }, true],
    [["devices", "slip"], {}, false],
    [["revisions", "quay", "running"], { device: "quay" }, true],
    [["revisions", "slip", "running"], { device: "quay" }, false],
    [["commits", {}], { device: "quay" }, false],
    [["me"], { device: "quay" }, false],
    [["me"], {}, true],
    [["stencils"], { change: 7 }, true],
  ] as const)("%j after %j: %s", (key, what, want) => {
    expect(touches(key, what)).toBe(want);
  });

  it("reads entries and what moved, and takes what it cannot read for anything", () => {
    expect(happened('{"seq":4,"change":7,"device":"quay","action":"edit.put"}')).toEqual({ change: 7, device: "quay" });
    expect(happened('{"seq":4,"change":0,"device":"","about":"login"}')).toEqual({});
    expect(happened("no JSON")).toBeUndefined();
  });
});
