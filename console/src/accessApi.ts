import type { components } from "./generated/api";

// The documents of the API, as its description has them (docs/openapi.json).

type Schemas = components["schemas"];

export type Second = Schemas["Second"];
export type Shown = Schemas["Shown"];
export type Factor = Schemas["Factor"];
export type Factors = Schemas["Factors"];
export type FactorBegun = Schemas["FactorBegun"];
export type FactorAdded = Schemas["FactorAdded"];
export type Account = Schemas["Account"];
export type Token = Schemas["Token"];
export type ApprovalRule = Schemas["ApprovalRule"];
export type Agreement = Schemas["Agreement"];
export type Approval = Schemas["Approval"];
export type Proposal = Schemas["Proposal"];
export type Emergency = Schemas["Emergency"];

/** A commit without the agreement that it needed. */
