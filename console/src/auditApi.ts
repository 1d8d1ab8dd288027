import type { components } from "./generated/api";

// The documents of the API, as its description has them (docs/openapi.json).

type Schemas = components["schemas"];

export type LedgerEntry = Schemas["LedgerEntry"];
export type EntryDoc = Schemas["Entry"];
export type Audit = Schemas["Audit"];
export type SearchHints = Schemas["SearchHints"];
export type Search = Schemas["Search"];
export type Witness = Schemas["Witness"];
export type Verified = Schemas["Verified"];
export type Pace = Schemas["Pace"];
