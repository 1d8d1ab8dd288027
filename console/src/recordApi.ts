import type { components } from "./generated/api";

// The documents of the API, as its description has them (docs/openapi.json).

type Schemas = components["schemas"];

export type Outside = Schemas["Outside"];
export type Pushed = Schemas["Pushed"];
export type Silence = Schemas["Silence"];
export type CommitRecord = Schemas["CommitRecord"];
export type CommitRecords = Schemas["CommitRecords"];
export type Receiver = Schemas["Receiver"];
export type NewReceiver = Schemas["NewReceiver"];
