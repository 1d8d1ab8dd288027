import type { DiffLine } from "./api";

/** One thing that happened. */
export interface LedgerEntry {
  seq: number;
  at: string;
  actor: string;
  action: string;
  device?: string;
  change?: number;
  ticket?: string;
  path?: string;
  before?: string;
  after?: string;
  note?: string;
  outcome?: "refused" | "failed";
  way?: string;
  address?: string;
  session?: string;
  prev: string;
  hash: string;
}

/** An entry with its before and after as a difference. */
export interface EntryDoc extends LedgerEntry {
  lines: DiffLine[];
}

export interface Audit {
  entries: LedgerEntry[];
  next?: number;
}

/** How a line to search by may go on: each in place of what stands from `from` (bytes) on. */
export interface SearchHints {
  from: number;
  hints: { value: string; says?: string }[];
}

export interface Search {
  name: string;
  owner: string;
  line: string;
  shared: boolean;
  at: string;
}

/** Who vouches for the record from outside. */
export interface Witness {
  name: string;
  url: string;
  entries?: number;
  at?: string;
  trouble?: string;
  /** It saw another record than this one. */
  denies?: boolean;
}

export interface Verified {
  answer: "vouched" | "consistent" | "altered";
  entries: number;
  last: number;
  intact: boolean;
  wrong?: number;
  findings: { seq: number; msg: string }[];
  notes?: string[];
  clockBack?: number[];
  held?: number;
  heldAt?: string;
  key?: string;
  vouched?: number;
  vouchedAt?: string;
  vouchedBy?: string[];
  witnesses?: Witness[];
}

/** How much happened when, and by whom. */
export interface Pace {
  from: string;
  to: string;
  stepSeconds: number;
  steps: { at: string; counts: Record<string, number> }[];
  entries: number;
  whole: boolean;
}
