/** Which rule decides a packet, and how. */
export interface Ruling {
  rule?: string;
  path?: string;
  action: string;
}

/** A part of the packets that are treated otherwise. */
export interface Moved {
  packets: string;
  example: string;
  before: Ruling;
  after: Ruling;
}

/** What becomes of traffic at one filter, or on an interface in one direction. */
export interface TrafficChange {
  filter?: string;
  interface?: string;
  direction?: string;
  on?: string[];
  permitted?: Moved[];
  denied?: Moved[];
  answered?: Moved[];
  noEffect?: boolean;
  more?: boolean;
  dependsOn?: string[];
  trouble?: string;
}

export interface SideEffect extends TrafficChange {
  device: string;
  acceptedBy?: string;
  acceptedAt?: string;
}

export interface Expectation {
  number: number;
  line: string;
  place?: string;
  actor: string;
  at: string;
  already: "" | "wholly" | "partly" | "not";
  part?: string[];
  delivered: boolean;
  missing?: { packets: string; example: string; filter: string; by: Ruling }[];
  dependsOn?: string[];
  trouble?: string;
}

export interface FilterRule {
  name: string;
  path: string;
  action: string;
  fits: string[];
  decides?: string[];
  more?: boolean;
  standing: "needed" | "never-reached" | "redundant";
  bits: number;
}

export interface FilterDoc {
  name: string;
  path: string;
  count: number;
  rules?: FilterRule[];
  clean?: string[]; cleanUnknown?: string;
  clashes?: { first: string; second: string; example: string }[];
  trouble?: string;
}

export interface Filters {
  device: string;
  filters: FilterDoc[];
  attached: { interface: string; direction: string; filters: string[] }[];
}

export interface Traced {
  packets: string;
  answer: "permitted" | "denied" | "partly";
  parts: { packets: string; permitted: boolean; example: string; way: { filter: string; by: Ruling; not?: { rule: string; why: string }[] }[] }[];
  more?: boolean;
  trouble?: string;
}
