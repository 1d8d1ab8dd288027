import type { Device, Session } from "./documents";

/** What an account may do, on all devices or on some. */
export type Role = "read" | "stage" | "commit" | "approve" | "audit" | "administer" | "reveal";

export const roles: Role[] = ["read", "stage", "commit", "approve", "audit", "administer", "reveal"];

/** Whether an account may do something on any device. */
export const may = (session: Session, role: Role): boolean =>
  session.may.some((g) => g.split("@")[0] === role || (role === "read" && !g.startsWith("audit")));

/** Whether it may on all devices. */
export const mayEverywhere = (session: Session, role: Role): boolean => session.may.includes(role);

type Scoped = Pick<Device, "name" | "site" | "role" | "tags">;

/** Whether a scope, such as site=Saltern, has a device. */
export function covers(scope: string, d: Scoped): boolean {
  const by = scope.slice(0, scope.indexOf("="));
  const is = scope.slice(scope.indexOf("=") + 1);
  if (by === "tag") return d.tags?.includes(is) ?? false;
  return is === (by === "site" ? d.site : by === "role" ? d.role : d.name);
}

/** A session as it is on one device: what it may there. Where the device is not known yet, nothing. */
export function on(session: Session, d?: Scoped): Session {
  const here = session.may.flatMap((g) => {
    const at = g.indexOf("@");
    const role = at < 0 ? g : g.slice(0, at);
    return d && (at < 0 || covers(g.slice(at + 1), d)) ? [role] : [];
  });
  return { ...session, may: here };
}
