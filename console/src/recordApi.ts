import type { DiffLine, Edit } from "./api";
import type { LedgerEntry } from "./auditApi";
import type { BroughtBack } from "./pastApi";

/** A change that was found on a device and was not made by this service. */
export interface Outside {
  number: number;
  device: string;
  site?: string;
  revision: number;
  before: number;
  since: string;
  found: string;
  deviceAt?: string;
  clockOff?: boolean;
  account?: string;
  session?: string;
  address?: string;
  who: string;
  told: string[];
  places: number;
  during?: number;
  state: "open" | "adopted" | "pushed-back" | "opened" | "silenced";
  decidedBy?: string;
  decidedAt?: string;
  note?: string;
  change?: number;
  listened?: string;
  lines?: DiffLine[];
}

/** What an outside change was made into. */
export interface Pushed {
  outside: Outside;
  change: number;
  title?: string;
  parts: BroughtBack["parts"];
}

export interface Silence {
  number: number;
  device?: string;
  path: string;
  note?: string;
  actor: string;
  at: string;
}

/** A commit as it is on record. */
export interface CommitRecord {
  number: number;
  change: number;
  title: string;
  ticket?: string;
  author: string;
  staged: string[];
  committed: string;
  confirmed?: string;
  started: string;
  ended?: string;
  seconds?: number;
  holdSeconds: number;
  outcome?: "kept" | "reverted" | "partly" | "failed";
  reason?: string;
  newest: boolean;
  devices: string[];
  notes?: { actor: string; at: string; text: string }[];
  parts?: { device: string; count: number; lines: DiffLine[] }[];
  steps?: LedgerEntry[];
  edits?: Edit[];
}

export interface CommitRecords {
  commits: CommitRecord[];
  next?: number;
}

/** Who is told of entries of the ledger. */
export interface Receiver {
  name: string;
  kind: "syslog" | "webhook" | "mail";
  place: string;
  line: string;
  to?: string[];
  added: string;
  addedBy: string;
  last?: string;
  told: number;
  behind: number;
  trouble?: string;
  since?: string;
}

export interface NewReceiver {
  name: string;
  kind: Receiver["kind"];
  place: string;
  line: string;
  secret?: string;
  authority?: string;
  from?: string;
  to?: string[];
}
