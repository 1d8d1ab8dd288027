import type { Outside, Receiver } from "./recordApi";
import type { Expectation, SideEffect, TrafficChange } from "./trafficApi";
import type { Archive, Standing } from "./pastApi";
import type { Witness } from "./auditApi";

// The documents of the API (see /api/v1/openapi.json) and how they are asked for.

export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  next?: string;
  device?: string;
  /** What is to be shown beside the password, or anew. */
  second?: Second;
}

import type { Approval, Emergency, Proposal, Second, Token } from "./accessApi";

export interface Session {
  account: string;
  /** It has to have a second factor, and may do nothing else before one is set up. */
  lacks?: boolean;
  /** At sign-in: where else the account is signed in. */
  others?: Token[];
  /** ROLE, or ROLE@site=NAME (role, tag, device). */
  may: string[];
}

/** Who would send a device back during a hold, and what that means. */
export interface Guard {
  guard: "device" | "session" | "service" | "none" | "unknown";
  guardWhy?: string;
  risk?: string;
  untried?: string;
}

/** A device's clock against the service's. */
export interface Clock {
  device?: string;
  aheadSeconds: number;
  off: boolean;
  read?: string;
  trouble?: string;
}

export interface Device extends Guard {
  name: string;
  address: string;
  account: string;
  auth: string;
  site?: string;
  role?: string;
  tags?: string[];
  trusted: boolean;
  seen?: string;
  trouble?: string;
  model?: string;
  serial?: string;
  unsaved: boolean;
  save: boolean;
  clock?: Clock;
  revision?: number;
  modules?: number;
  unread?: string[];
  heldBy?: number;
  seenAs?: string;
  seenFrom?: string;
  via?: string[];
  reserved?: Reservation;
}

export interface DeviceStanding {
  name: string;
  keeper: "device" | "session" | "service";
  wave?: number;
  noSave?: boolean;
  standing: string;
  odd?: boolean;
  /** How often in a row it refused to be sent back. */
  refusals?: number;
  unreachable?: boolean;
  settled?: boolean;
  saved?: boolean;
  said?: string;
}

export interface Commit {
  actor: string;
  started: string;
  phase: string;
  outcome?: string;
  holdSeconds: number;
  emergency?: string;
  deadline?: string;
  newDeadline?: string;
  secondsLeft: number;
  lapsesAt?: string;
  ending?: boolean;
  byProbes?: boolean;
  revertOnProbe?: boolean;
  reason?: string;
  by?: string;
  devices: DeviceStanding[];
  probes?: ProbeResult[];
}

export interface ProbeResult {
  probe: string;
  result?: "passed" | "failed";
  said?: string;
  since?: string;
}

/** How a commit is wanted. */
export interface NewCommit {
  holdSeconds: number;
  waves?: string[][];
  probes?: string[];
  probeWithinSeconds?: number;
  byProbes?: boolean;
  revertOnProbe?: boolean;
  save?: boolean;
  aheadSeconds?: number;
  /** What was previewed, and nothing else. */
  preview?: string;
  /** Devices whose lockout is accepted in words. */
  cutOff?: string[];
}

/** What is, or was, on the schedule. */
export interface Due {
  id: number;
  kind: "commit" | "restart";
  change?: number;
  title?: string;
  devices: string[];
  at: string;
  zone?: string;
  latenessSeconds: number;
  actor: string;
  state: "waiting" | "begun" | "missed" | "stopped" | "cancelled";
  note?: string;
  ended?: string;
  clocks?: Clock[];
}

export interface NewDue {
  at: string;
  zone: string;
  latenessSeconds: number;
  commit?: NewCommit;
}

/** Two of a device's configurations compared. */
export interface StoreDifference {
  device: string;
  from: string;
  to: string;
  count: number;
  lines: DiffLine[];
}

/** A session on a device. */
export interface Visitor {
  id: string;
  account?: string;
  source?: string;
  since?: string;
  locks?: { datastore: string; since?: string }[];
  own?: boolean;
}

export interface Change {
  number: number;
  title: string;
  ticket?: string;
  author: string;
  company?: string[];
  state: string;
  reason?: string;
  opened: string;
  updated: string;
  devices: string[];
  edits: number;
  notes?: Note[];
  commit?: Commit;
  /** what somebody else changed on its devices while it was on hold */
  meanwhile?: Outside[];
  due?: Due;
}

export interface Note {
  actor: string;
  at: string;
  text: string;
}

export interface Edit {
  id: number;
  device: string;
  op: "put" | "delete" | "move" | "load";
  path: string;
  value?: string;
  mode?: string;
  source?: string;
  lines: number;
  actor: string;
  at: string;
}

/** An edit that is to be staged. */
export interface NewEdit {
  devices: string[];
  op: string;
  path: string;
  value?: string | undefined;
  several?: string | undefined;
}

/** A piece of configuration that is to be staged, from a text or from a device. */
export interface NewLoad {
  devices: string[];
  mode: string;
  path?: string;
  text?: string;
  name?: string;
  fromDevice?: string;
  from?: string;
}

/** What a load did to one part; an edit numbered 0 was not staged. */
export interface Loaded {
  device: string;
  edit: Edit;
  count: number;
  lines: DiffLine[];
  notes?: string[];
  tag: string;
}

/** A part as it is staged so far, to be edited as text. */
export interface Part {
  device: string;
  path: string;
  base: number;
  tag: string;
  outline: string;
}

/** How a path goes on. */
export interface Hint {
  path: string;
  kind: string;
  type?: string;
  default?: string;
  units?: string;
  help?: string;
  current?: string;
  several?: boolean;
  exists?: boolean;
  values?: string[];
  keys?: string[];
}

/** A device kept to one person for a while. */
export interface Reservation {
  device: string;
  holder: string;
  reason: string;
  made: string;
  until: string;
  asks?: Note[];
}

export interface Revision {
  number: number;
  at: string;
  source: "first" | "change" | "outside";
  change?: number;
  title?: string;
  author?: string;
}

/** A place that the change and the device both changed. */
export interface Conflict {
  path: string;
  base: string;
  mine: string;
  theirs: string;
  why: string;
  keep?: "mine" | "theirs";
  actor?: string;
  at?: string;
}

/** A lockout forecast: of the part's device, or of one behind it. */
export interface Forecast {
  device: string;
  answer: "keeps" | "cuts" | "unknown";
  path?: string;
  because: string;
}

/** A piece of configuration with blanks. */
export interface Stencil {
  name: string;
  version: number;
  text: string;
  note?: string;
  actor: string;
  at: string;
  blanks: Blank[];
  versions?: { version: number; note?: string; actor: string; at: string; text: string }[];
  uses?: Use[];
}

export interface Blank {
  name: string;
  shared?: boolean;
  lines: number[];
  type?: string;
  values?: string[];
  help?: string;
}

/** A device that uses a stencil, and what was changed there by hand since. */
export interface Use {
  stencil: string;
  device: string;
  version: number;
  newest: number;
  change: number;
  blanks: Record<string, string>;
  strayed?: { path: string; set: string; now?: string; gone?: boolean }[];
}

export interface Shared {
  name: string;
  version: number;
  items: string[];
  actor: string;
  at: string;
}

/** What saving a stencil or a shared value came to. */
export interface Saved {
  version: number;
  change?: number;
  devices?: string[];
  same?: string[];
  notes?: string[];
}

export interface DiffLine {
  mark: string;
  depth: number;
  text: string;
  path?: string;
  /** The staged edit that made it so. */
  edit?: number;
  before?: string;
  after?: string;
}

/** Like changes told together, where there are many. */
export interface DiffGroup {
  kind: "added" | "removed" | "changed" | "moved";
  place: string;
  old?: string;
  new?: string;
  count: number;
  examples: string[];
}

/** Something wrong, with the edit that would mend it where there is one. */
export interface Finding {
  severity: "error" | "warning" | "hint";
  path: string;
  message: string;
  fix?: { edit: "put" | "delete"; path: string; value?: string };
}

export interface PartPreview extends Guard {
  device: string;
  base: number;
  tag?: string;
  rendered?: string;
  edits: Edit[];
  count: number;
  lines: DiffLine[];
  read: boolean;
  trouble?: string;
  behind: boolean;
  moved?: DiffLine[];
  since?: Revision[];
  conflicts?: Conflict[];
  decided?: Conflict[];
  findings?: Finding[];
  unchecked: number;
  reasons?: string[];
  groups?: DiffGroup[];
  unsaved: boolean;
  reserved?: Reservation;
  heldBy?: number;
  forecasts?: Forecast[];
  effects?: TrafficChange[];
  helpless?: boolean;
  tried?: boolean;
  said?: string;
  movesTo?: string;
  hindrance?: string;
}

export interface Preview {
  change: Change;
  empty: boolean;
  ready: boolean;
  against: "running" | "record";
  parts: PartPreview[];
  digest?: string;
  at?: string;
  expected?: Expectation[];
  beside?: SideEffect[];
  approval?: Approval;
  steps?: string[];
  estimateSeconds?: number;
}

export interface Attention {
  holding: Change[];
  unsaved: Device[];
  trouble: Device[];
  /** what is wrong with the disk of the records: nothing new can be begun */
  records?: string;
  /** under way when the backup was taken that the records come from */
  unsettled?: Change[];
  /** on hold once, and the records know nothing of it */
  lostHolds?: LostHold[];
  /** kept configurations that cannot be read, and what to do */
  damaged?: string[];
  outside: Outside[];
  untold?: Receiver[];
  denied?: Witness[];
  proposals?: Proposal[];
  drafts: Change[];
  due: Due[];
  reserved?: Reservation[];
  archives?: Archive[];
  uncopied?: Standing[];
  approve?: Change[];
  emergencies?: Emergency[];
}

export interface LostHold {
  change: number;
  title: string;
  by: string;
  began: string;
  until: string;
  devices: { name: string; address: string; guard: string }[];
}

/** A device of a change that is unsettled, as it was found. */
export interface Unsettled {
  device: string;
  address: string;
  holds: "former" | "change" | "neither" | "";
  pending: "yes" | "no" | "";
  error?: string;
  settled?: string;
  by?: string;
  at?: string;
}

export interface Config {
  device: string;
  from: string;
  revision?: number;
  read: string;
  outline: string;
  xml: string;
}

export interface Staged {
  edit: Edit;
  before?: string;
  after?: string;
  notes?: string[];
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
