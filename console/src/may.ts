import type { Session } from "./api";

/** What an account may do, on all devices or on some. */
export type Role = "read" | "stage" | "commit" | "approve" | "audit" | "administer" | "reveal";

export const roles: Role[] = ["read", "stage", "commit", "approve", "audit", "administer", "reveal"];

/** Whether an account may do something on any device: what it may not on this one, the service says. */
export const may = (session: Session, role: Role): boolean => session.may.some((g) => g.split("@")[0] === role || (role === "read" && !g.startsWith("audit")));

/** Whether it may on all devices. */
export const mayEverywhere = (session: Session, role: Role): boolean => session.may.includes(role);
