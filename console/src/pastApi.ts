import type { DiffLine } from "./api";

/** A numbered configuration of a device. */
export interface RevisionDoc {
  number: number;
  at: string;
  source: string;
  change?: number;
  title?: string;
  ticket?: string;
  author?: string;
  actor?: string;
  note?: string;
  digest: string;
}

export interface SnapshotItem {
  device: string;
  revision?: number;
  at: string;
  unclean?: string[];
}

/** A name for the state of devices at one moment. */
export interface Snapshot {
  number: number;
  name: string;
  note?: string;
  actor: string;
  at: string;
  change?: number;
  protected?: boolean;
  retired?: string;
  devices: number;
  unclean: boolean;
  items?: SnapshotItem[];
}

export interface NewSnapshot {
  name: string;
  note?: string;
  devices?: string[];
  site?: string;
  all?: boolean;
}

/** Any two configurations compared. */
export interface Comparison {
  a: string;
  b: string;
  count: number;
  lines: DiffLine[];
}

export interface BlameLine {
  depth: number;
  text: string;
  path: string;
  revision?: number;
}

/** A configuration with who last set each line. */
export interface Blame {
  device: string;
  path: string;
  revision: number;
  lines: BlameLine[];
  gone: { path: string; was: string; revision: number }[];
  revisions: RevisionDoc[];
}

/** Something that happened to a device. */
export interface Moment {
  at: string;
  kind: string;
  text: string;
  actor?: string;
  revision?: number;
  startup?: number;
  change?: number;
  snapshot?: number;
}

export interface Later {
  revision: number;
  source: string;
  change?: number;
  title?: string;
  author?: string;
  at: string;
  places: number;
}

/** What a restore or an undo came to. */
export interface BroughtBack {
  change: number;
  title?: string;
  parts: { device: string; count: number; lines: DiffLine[]; takes: Later[]; left: { path: string; change: number; now: string }[]; notes?: string[] }[];
}

/** What importing a bundle came to. */
export interface ImportedBundle extends BroughtBack {
  refused?: string[];
}

/** What carrying came to: kept is what a device keeps where the other's would tell of the other. */
export interface Carried extends BroughtBack {
  own: { path: string; from: string; kept?: string; why: string }[];
}

export interface HostKey {
  type: string;
  fingerprint: string;
  accepted?: string;
}

export interface NewArchive {
  name: string;
  kind: string;
  place: string;
  account?: string;
  password?: string;
  privateKey?: string;
  afterChange: boolean;
  everySeconds?: number;
  keepLast?: number;
  keepDays?: number;
}

/** One configuration in an archive. */
export interface Copy {
  id: number;
  archive: string;
  device: string;
  revision: number;
  name: string;
  bytes: number;
  sha256: string;
  at: string;
  why: string;
  read: string;
  trouble?: string;
}

/** A place that copies go to. */
export interface Archive {
  name: string;
  kind: string;
  place: string;
  trusted: boolean;
  afterChange: boolean;
  everySeconds?: number;
  keepLast?: number;
  keepDays?: number;
  copies: number;
  damaged?: number;
  copied?: string;
  trouble?: string;
  troubleAt?: string;
  stale?: boolean;
  caveat?: string;
}

/** How what is saved of a device stands. */
export interface Standing {
  device: string;
  site?: string;
  revision?: number;
  changed?: string;
  saved?: string;
  unsaved: boolean;
  copied?: string;
  copy?: number;
  archive?: string;
  behind: string[];
}

/** Long work that was begun. */
export interface Job {
  id: number;
  kind: string;
  state: string;
  done: number;
  total: number;
  doing?: string;
  trouble?: string;
  result?: Record<string, unknown>;
}

/** Many devices between two moments, in sum. */
export interface FleetComparison {
  from: string;
  to: string;
  same: number;
  devices: { device: string; site?: string; added: number; removed: number; changed: number; moved: number; first?: string; changes?: number[]; outside?: number; trouble?: string }[];
}
