import type { Role } from "../lib/may";

/** A page that can be gone to from everywhere. */
export interface Place {
  to: string;
  label: string;
  /** One of these rights is needed to see anything there. */
  may?: Role[];
}

/** The pages, in the order of the work. */
export const places: Place[] = [
  { to: "/", label: "Now" },
  { to: "/changes", label: "Changes" },
  { to: "/commits", label: "Commits" },
  { to: "/devices", label: "Devices" },
  { to: "/outside", label: "Outside" },
  { to: "/stencils", label: "Stencils" },
  { to: "/schedule", label: "Schedule" },
  { to: "/snapshots", label: "Snapshots" },
  { to: "/backups", label: "Backups" },
  { to: "/audit", label: "Audit" },
  { to: "/access", label: "Access" },
];
