/** What is asked for of a person's second factors, within five minutes. */
export interface Second {
  anew?: boolean;
  ticket: string;
  ways: ("code" | "passkey" | "recovery")[];
  passkey?: { publicKey: PublicKeyCredentialRequestOptionsJSON };
}

export interface Shown {
  ticket: string;
  code?: string;
  passkey?: unknown;
}

export interface Factor {
  id: string;
  kind: "code" | "passkey";
  name: string;
  created: string;
  used?: string;
}

export interface Factors {
  list: Factor[];
  recovery: number;
  required: boolean;
}

/** A second factor that is being set up. */
export interface FactorBegun {
  ticket: string;
  secret?: string;
  uri?: string;
  create?: { publicKey: PublicKeyCredentialCreationOptionsJSON };
}

export interface FactorAdded {
  factor: Factor;
  codes?: string[];
}

export interface Account {
  name: string;
  may: string[];
  created: string;
  closed?: string;
  issuer?: string;
  factors?: number;
  /** It has to have a second factor, and has none. */
  lacks?: boolean;
}

/** A session of a person, or a token of a machine. */
export interface Token {
  id: string;
  account: string;
  kind: "session" | "machine";
  name?: string;
  may?: string[];
  created: string;
  expires: string;
  idleUntil?: string;
  used?: string;
  source?: string;
  own?: boolean;
  token?: string;
}

/** What is not committed without the agreement of others. */
export interface ApprovalRule {
  number: number;
  scope?: string;
  path?: string;
  needed: number;
  emergency: boolean;
  note?: string;
  actor: string;
  at: string;
}

export interface Agreement {
  actor: string;
  digest: string;
  note?: string;
  at: string;
}

/** How a change stands that others have to agree to. */
export interface Approval {
  needed: number;
  missing: number;
  rules: ApprovalRule[];
  have: Agreement[];
  fallen?: Agreement[];
  askedBy?: string;
  askedAt?: string;
  askedNote?: string;
  emergency: boolean;
}

/** A commit without the agreement that it needed. */
/** An act of administration that waits until others agree. */
export interface Proposal {
  number: number;
  says: string;
  actor: string;
  at: string;
  agreed: string[];
  missing: number;
}

export interface Emergency {
  number: number;
  change: number;
  title: string;
  actor: string;
  reason: string;
  at: string;
  reviewedBy?: string;
  reviewedAt?: string;
  review?: string;
}
