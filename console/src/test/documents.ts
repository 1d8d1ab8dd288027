import type { Attention, PartPreview } from "../lib/documents";

/** What needs a decision where nothing does. */
export const calm: Attention = {
  holding: [],
  unsaved: [],
  trouble: [],
  outside: [],
  drafts: [],
  scheduled: [],
  reserved: [],
  approve: [],
  emergencies: [],
  archives: [],
  uncopied: [],
  untold: [],
  denied: [],
  proposals: [],
  unsettled: [],
  lostHolds: [],
  damaged: [],
};

/** A part with nothing against it. */
export const quietPart: PartPreview = {
  device: "d",
  base: 3,
  tag: "t",
  count: 1,
  read: true,
  behind: false,
  unchecked: 0,
  guard: "device",
  unsaved: false,
  edits: [],
  lines: [],
  items: [],
};
