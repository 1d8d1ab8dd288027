import type { components } from "./generated/api";

// The documents of the API, as its description has them (docs/openapi.json).

type Schemas = components["schemas"];

export type Copied = Schemas["Copied"];
export type VerifiedArchive = Schemas["VerifiedArchive"];
export type RevisionDoc = Schemas["Revision"];
export type SnapshotItem = Schemas["SnapshotItem"];
export type Snapshot = Schemas["Snapshot"];
export type NewSnapshot = Schemas["NewSnapshot"];
export type Comparison = Schemas["Comparison"];
export type BlameLine = Schemas["BlameLine"];
export type Blame = Schemas["Blame"];
export type Moment = Schemas["Moment"];
export type Later = Schemas["Later"];
export type BroughtBack = Schemas["BroughtBack"];
export type ImportedBundle = Schemas["ImportedBundle"];
export type Carried = Schemas["Carried"];
export type HostKey = Schemas["HostKey"];
export type NewArchive = Schemas["NewArchive"];
export type Copy = Schemas["Copy"];
export type Archive = Schemas["Archive"];
export type Standing = Schemas["Standing"];
export type Job = Schemas["Job"];
export type FleetComparison = Schemas["FleetComparison"];
