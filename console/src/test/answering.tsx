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
  constructor(readonly list: Problem[], readonly doc: unknown) {}
}

/** Has the service answer with documents, by path (of a GET) or method and path; what it was asked is written down. */
export function answering(answers: Record<string, unknown>, asked: Asked[]) {
  vi.stubGlobal("fetch", (url: string, init?: RequestInit) => {
    const [path = "", query = ""] = url.replace("/api/v1", "").split("?");
    const method = init?.method ?? "GET";
    asked.push({ method, path, query, body: typeof init?.body === "string" ? JSON.parse(init.body) : undefined, tag: (init?.headers as Record<string, string> | undefined)?.["If-Match"] });
    const found = answers[method === "GET" ? path : `${method} ${path}`];
    if (found instanceof Refusals && found.list.length > 0) {
      const no = found.list.shift();
      return Promise.resolve(new Response(JSON.stringify(no), { status: no?.status ?? 500 }));
    }
    const doc = found instanceof Refusals ? found.doc : found;
    return Promise.resolve(doc === undefined ? new Response(JSON.stringify({ type: "t", title: "No", status: 404, detail: `there is no ${method} ${path}` }), { status: 404 }) : new Response(JSON.stringify(doc), { status: 200 }));
  });
  vi.stubGlobal("EventSource", class { addEventListener() { return undefined; } close() { return undefined; } });
}

/** Opens a page of the console. */
export const open = (path: string) => render(
  <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
    <MemoryRouter initialEntries={[path]}><App /></MemoryRouter>
  </QueryClientProvider>,
);
