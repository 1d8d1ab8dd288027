import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { vi } from "vitest";
import { App } from "../app/App";
import type { Problem } from "../lib/documents";

export interface Asked {
  method: string;
  path: string;
  query: string;
  body: unknown;
  tag: string | undefined;
}

/** Says no some times before it answers. */
export class Refusals {
  constructor(
    readonly list: Problem[],
    readonly doc: unknown,
  ) {}
}

/** Has the service answer as it is told. */
export function stub(answer: (asked: Asked) => Response) {
  vi.stubGlobal("fetch", async (request: Request) => {
    const { pathname, search } = new URL(request.url);
    const path = decodeURIComponent(pathname.replace("/api/v1", "")),
      text = await request.text();
    const body: unknown =
      request.headers.get("Content-Type") === "application/json" && text !== "" ? JSON.parse(text) : undefined;
    return answer({
      method: request.method,
      path,
      query: search.slice(1),
      body,
      tag: request.headers.get("If-Match") ?? undefined,
    });
  });
}

const no = (status: number, detail: string) =>
  new Response(JSON.stringify({ type: "t", title: "No", status, detail }), { status });

/** Has the service answer with documents, by path (of a GET) or method and path; what it was asked is written down. null is done, without a document. */
export function answering(answers: Record<string, unknown>, asked: Asked[]) {
  stub((a) => {
    asked.push(a);
    const key = a.method === "GET" ? a.path : `${a.method} ${a.path}`;
    const found = answers[key];
    if (found instanceof Refusals && found.list.length > 0) {
      const refused = found.list.shift();
      return new Response(JSON.stringify(refused), { status: refused?.status ?? 500 });
    }
    const doc = found instanceof Refusals ? found.doc : found;
    if (doc === undefined) return no(404, `there is no ${key}`);
    return doc === null ? new Response(null, { status: 204 }) : new Response(JSON.stringify(doc), { status: 200 });
  });
  vi.stubGlobal(
    "EventSource",
    class {
      beats: number[] = [];
      addEventListener(kind: string, told: () => void) {
        if (kind === "pulse") this.beats.push(window.setInterval(told, 500));
      }
      close() {
        for (const b of this.beats) window.clearInterval(b);
      }
    },
  );
}

/** Opens a page of the console. */
export const open = (path: string) =>
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MemoryRouter initialEntries={[path]}>
        <App />
      </MemoryRouter>
    </QueryClientProvider>,
  );
