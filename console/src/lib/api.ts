import type { Problem, Second } from "./documents";

/** What the service said no with. */
export class ApiError extends Error {
  readonly problem: Problem;

  constructor(problem: Problem) {
    super(problem.next ? `${problem.detail}; ${problem.next}` : problem.detail);
    this.problem = problem;
  }
}

function isProblem(v: unknown): v is Problem {
  return typeof v === "object" && v !== null && "type" in v && "detail" in v;
}

/**
 * Makes an API request; T is the document that answers it. With a tag it rests
 * on a part as it was seen, and is refused if that is another by now.
 */
let askAnew: ((second: Second) => Promise<boolean>) | undefined;

/** Says who asks a person to show their second factor anew: true where they did. */
export const whenAskedAnew = (ask: typeof askAnew) => { askAnew = ask; };

/** Asks the service. What is grave may ask for the second factor anew; shown, it is asked once more. */
export async function call<T>(method: string, path: string, body?: unknown, tag?: string): Promise<T> {
  try {
    return await callOnce<T>(method, path, body, tag);
  } catch (e) {
    const second = e instanceof ApiError ? e.problem.second : undefined;
    if (second?.anew && askAnew && (await askAnew(second))) return callOnce<T>(method, path, body, tag);
    throw e;
  }
}

async function callOnce<T>(method: string, path: string, body?: unknown, tag?: string): Promise<T> {
  const headers: Record<string, string> = {};
  const init: RequestInit = { method, credentials: "same-origin", headers };
  if (tag) headers["If-Match"] = `"${tag}"`;
  if (body instanceof Blob) {
    init.body = body;
  } else if (body !== undefined) {
    headers["Content-Type"] = "application/json";
    init.body = JSON.stringify(body);
  }
  let res: Response;
  try {
    res = await fetch(`/api/v1${path}`, init);
  } catch {
    throw new ApiError({
      type: "service",
      title: "The service does not answer",
      status: 0,
      detail: "The service does not answer. What is on hold on devices goes back by itself",
      next: "check that oaken-latchd runs",
    });
  }
  if (res.status === 204) return undefined as T;
  const doc: unknown = await res.json().catch(() => undefined);
  if (res.ok) return doc as T;
  throw new ApiError(
    isProblem(doc)
      ? doc
      : { type: "service", title: res.statusText, status: res.status, detail: `The service answered ${String(res.status)}` },
  );
}
