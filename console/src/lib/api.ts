import createClient from "openapi-fetch";
import type { paths } from "../generated/api";
import type { Problem, Second } from "./documents";

/** What the service said no with. */
export class ApiError extends Error {
  readonly problem: Problem;
  readonly at = new Date();

  constructor(problem: Problem) {
    super([problem.detail, ...(problem.next ?? []).map((s) => s.text)].join("; "));
    this.problem = problem;
  }
}

function isProblem(v: unknown): v is Problem {
  return typeof v === "object" && v !== null && "type" in v && "detail" in v;
}

let askAnew: ((second: Second) => Promise<boolean>) | undefined;

/** Says who asks a person to show their second factor again: true where they did. */
export const whenAskedAnew = (ask: typeof askAnew) => {
  askAnew = ask;
};

/** Sends a request; what says no is thrown, and so is no answer at all. */
async function sent(request: Request): Promise<Response> {
  let res: Response;
  try {
    res = await fetch(request);
  } catch {
    throw new ApiError({
      type: "service",
      title: "The service does not answer",
      status: 0,
      detail: "The service does not answer. What is on hold on devices reverts by itself",
      next: [{ text: "check that oaken-latchd runs" }],
    });
  }
  if (res.ok) return res;
  const doc: unknown = await res.json().catch(() => undefined);
  throw new ApiError(
    isProblem(doc)
      ? doc
      : {
          type: "service",
          title: res.statusText,
          status: res.status,
          detail: `The service answered ${String(res.status)}`,
        },
  );
}

/** Sends a request. A sensitive action may ask for the second factor again; shown, it is sent once more. */
async function sentAnew(request: Request): Promise<Response> {
  const again = request.clone();
  try {
    return await sent(request);
  } catch (e) {
    const second = e instanceof ApiError ? e.problem.second : undefined;
    if (second?.anew && askAnew && (await askAnew(second))) return sent(again);
    throw e;
  }
}

/** The paths of the API by what follows its prefix. */
type Paths = { [P in keyof paths as P extends `/api/v1${infer Rest}` ? Rest : never]: paths[P] };

/** The API as its description has it: api.GET("/changes/{number}", ...). What it is answered is told by `answer`. */
export const api = createClient<Paths>({
  baseUrl: `${window.location.origin}/api/v1`,
  credentials: "same-origin",
  fetch: sentAnew,
});

/** The document that a request is answered with; what says no was thrown. */
export async function answer<T>(asked: Promise<{ data?: T }>): Promise<T> {
  return (await asked).data as T;
}

/** Has a request rest on what had a tag: it is refused where that is another by now. */
export const ifTag = (tag: string | undefined) => (tag === undefined ? {} : { "If-Match": `"${tag}"` });

/** What of a query is asked for: what is undefined, empty, 0 or false is left out. */
export function given<T extends object>(query: T): { [K in keyof T]?: Exclude<T[K], undefined> } {
  return Object.fromEntries(Object.entries(query).filter(([, v]) => Boolean(v))) as {
    [K in keyof T]?: Exclude<T[K], undefined>;
  };
}
