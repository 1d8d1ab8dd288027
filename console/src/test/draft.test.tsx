import { act, renderHook } from "@testing-library/react";
import { beforeEach, describe, expect, it } from "vitest";
import { draftOf, drafts, dropDrafts, fieldsOf, keepDraft, keepFields, setDraftOwner, useDraft } from "../lib/draft";
import { linesAt, placesOf } from "../lib/focus";

beforeEach(() => {
  sessionStorage.clear();
  setDraftOwner("mara");
});

describe("what was typed and not sent", () => {
  it("is there again after the page was left, and gone once it is sent", () => {
    const first = renderHook(() => useDraft("note 7"));
    act(() => {
      first.result.current[1]("half a sen");
    });
    first.unmount();
    const again = renderHook(({ name }) => useDraft(name), { initialProps: { name: "note 7" } });
    expect(again.result.current[0]).toBe("half a sen");
    again.rerender({ name: "note 8" });
    expect(again.result.current[0]).toBe("");
    again.rerender({ name: "note 7" });
    act(() => {
      again.result.current[1]("");
    });
    expect(drafts()).toBe(0);
  });
  it("is only its owner's, and dropped by who signs out", () => {
    keepDraft("note 7", "mine");
    setDraftOwner("joss");
    expect(draftOf("note 7")).toBe("");
    expect(drafts()).toBe(0);
    dropDrafts();
    setDraftOwner("mara");
    expect(drafts()).toBe(1);
    dropDrafts();
    expect(draftOf("note 7")).toBe("");
  });
  it("keeps the fields of a form, and nothing of one that is empty or spoilt", () => {
    keepFields("stage 7", { path: "/x", value: "" });
    expect(fieldsOf("stage 7")).toEqual({ path: "/x", value: "" });
    keepFields("stage 7", { path: "", value: undefined });
    expect(drafts()).toBe(0);
    keepDraft("stage 7", "{spoilt");
    expect(fieldsOf("stage 7")).toEqual({});
  });
});

describe("places that differ", () => {
  const line = (mark: string, depth: number, text: string, path?: string) => ({
    mark,
    depth,
    text,
    path: path as string,
  });
  const plain = (depth: number, text: string) => ({ mark: " ", depth, text });
  const lines = [
    plain(0, "interfaces"),
    plain(1, "interface [a] …"),
    plain(1, "interface [b]"),
    line("~", 2, "mtu: 1 → 2", "/interfaces/interface=b/mtu"),
    plain(2, "type: x"),
    line("+", 1, "interface [c%2F1]", "/interfaces/interface=c%2F1"),
    line("+", 2, "type: x", "/interfaces/interface=c%2F1/type"),
    plain(0, "system"),
    line("−", 1, "contact: y", "/system/contact"),
  ];
  it("are counted, what came or went whole as one", () => {
    expect(placesOf({ lines }).map((p) => `${String(p.depth)} ${p.name} ${String(p.count)}`)).toEqual([
      "0 interfaces 2",
      "1 interface=b 1",
      "2 mtu 1",
      "1 interface=c/1 1",
      "0 system 1",
      "1 contact 1",
    ]);
  });
  it("are shown alone, with what leads there and what stands around", () => {
    const texts = (place: string) => linesAt(lines, place).map((l) => l.text);
    expect(texts("")).toHaveLength(lines.length);
    expect(texts("/system")).toEqual(["system", "contact: y"]);
    expect(texts("/interfaces/interface=b")).toEqual(["interfaces", "interface [b]", "mtu: 1 → 2", "type: x"]);
    expect(texts("/interfaces/interface=c%2F1")).toEqual(["interfaces", "interface [c%2F1]", "type: x"]);
    expect(texts("/interfaces")).toHaveLength(7);
    expect(texts("/nowhere")).toEqual([]);
  });
});
