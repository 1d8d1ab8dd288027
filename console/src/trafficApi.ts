import type { components } from "./generated/api";

// The documents of the API, as its description has them (docs/openapi.json).

type Schemas = components["schemas"];

export type Ruling = Schemas["FlowRuling"];
export type Moved = Schemas["FlowMoved"];
export type TrafficChange = Schemas["FlowChange"];
export type SideEffect = Schemas["SideEffect"];
export type Expectation = Schemas["Expectation"];
export type FilterRule = Schemas["FlowSheetRule"];
export type FilterDoc = Schemas["FlowSheet"];
export type Filters = Schemas["Filters"];
export type Traced = Schemas["FlowTraced"];
