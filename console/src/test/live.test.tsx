import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, render } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { useLive } from "../app/live";
import { lostSince, silence } from "../lib/contact";

function Page() {
  useLive(true);
  return null;
}

/** What the test does with the streams that the page opens. */
let streams: { tell: (kind: string, readyState?: number) => void }[] = [];

beforeEach(() => {
  vi.useFakeTimers();
  streams = [];
  vi.stubGlobal(
    "EventSource",
    class {
      static readonly CLOSED = 2;
      readyState = 1;
      told = new Map<string, (e: unknown) => void>();
      constructor() {
        streams.push({
          tell: (kind, readyState = 1) => {
            this.readyState = readyState;
            this.told.get(kind)?.({ data: "{}" });
          },
        });
      }
      addEventListener(kind: string, told: (e: unknown) => void) {
        this.told.set(kind, told);
      }
      close() {
        this.told.clear();
      }
    },
  );
});

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const pass = (ms: number) => act(() => vi.advanceTimersByTimeAsync(ms));

describe("contact", () => {
  it("is lost after a silence, and back with the next stream", async () => {
    vi.stubGlobal("fetch", () => Promise.reject(new Error("gone")));
    const { unmount } = render(
      <QueryClientProvider client={new QueryClient()}>
        <Page />
      </QueryClientProvider>,
    );
    streams[0]?.tell("open");
    for (let s = 0; s < 5; s++) {
      await pass(1000);
      streams[0]?.tell("pulse");
    }
    expect(lostSince()).toBeUndefined();
    await pass(silence + 1);
    expect(lostSince()).toBeDefined();
    await pass(1100);
    expect(streams).toHaveLength(2);
    streams[1]?.tell("open");
    expect(lostSince()).toBeUndefined();
    unmount();
    await pass(60_000);
    expect(streams).toHaveLength(2);
  });

  it("is there where the stream is refused and the service answers, until it does not", async () => {
    let answers = true;
    vi.stubGlobal("fetch", () => (answers ? Promise.resolve(new Response("ok")) : Promise.reject(new Error("gone"))));
    const { unmount } = render(
      <QueryClientProvider client={new QueryClient()}>
        <Page />
      </QueryClientProvider>,
    );
    streams[0]?.tell("error", 2);
    await pass(10_000);
    expect(lostSince()).toBeUndefined();
    expect(streams).toHaveLength(1);
    await pass(13_000);
    expect(streams).toHaveLength(2);
    streams[1]?.tell("error", 2);
    answers = false;
    await pass(2100);
    expect(lostSince()).toBeDefined();
    unmount();
  });
});
