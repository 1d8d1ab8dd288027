import type { Second } from "./accessApi";
import type { components } from "./generated/api";

// The documents of the API, as its description has them (docs/openapi.json).

type Schemas = components["schemas"];

export type Problem = Schemas["Problem"];
export type Session = Schemas["Session"];
export type Clock = Schemas["Clock"];
export type Device = Schemas["Device"];
export type DeviceStanding = Schemas["GuardDevice"];
export type Commit = Schemas["Commit"];
export type ProbeResult = Schemas["ProbeResult"];
export type NewCommit = Schemas["NewCommit"];
export type Due = Schemas["Due"];
export type NewDue = Schemas["NewDue"];
export type StoreDifference = Schemas["Difference"];
export type Visitor = Schemas["Visitor"];
export type Change = Schemas["Change"];
export type Note = Schemas["Note"];
export type Edit = Schemas["Edit"];
export type NewEdit = Schemas["NewEdit"];
export type NewLoad = Schemas["NewLoad"];
export type Loaded = Schemas["Loaded"];
export type Part = Schemas["Part"];
export type Hint = Schemas["CompleteHint"];
export type Reservation = Schemas["Reservation"];
export type Revision = Schemas["Revision"];
export type Conflict = Schemas["Conflict"];
export type Forecast = Schemas["Forecast"];
export type Stencil = Schemas["Stencil"];
export type Blank = Schemas["Blank"];
export type Use = Schemas["Use"];
export type Shared = Schemas["Shared"];
export type Saved = Schemas["Saved"];
export type DiffLine = Schemas["DiffLine"];
export type DiffGroup = Schemas["DiffGroup"];
export type Finding = Schemas["CheckFinding"];
export type PartPreview = Schemas["PartPreview"];
export type Preview = Schemas["Preview"];
export type Attention = Schemas["Attention"];
export type LostHold = Schemas["LostHold"];
export type Unsettled = Schemas["Unsettled"];
export type Config = Schemas["Config"];
export type Staged = Schemas["Staged"];

// The documents of the API (see /api/v1/openapi.json) and how they are asked for.

/** Who would send a device back during a hold, and what that means. */
export interface Guard {
  guard: "device" | "session" | "service" | "none" | "unknown";
  guardWhy?: string;
  risk?: string;
  untried?: string;
}

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
