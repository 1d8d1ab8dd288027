import type { Action, Step } from "./documents";

/** A page of the console where something is done. */
export interface Place {
  label: string;
  to: string;
}

type Args = Partial<Record<string, string>>;
type Where = (args: Args) => Place | undefined;

const page =
  (label: string, to: string): Where =>
  () => ({ label, to });

const change: Where = (a) =>
  a.change === undefined ? undefined : { label: `Change ${a.change}`, to: `/changes/${a.change}` };

const device =
  (view?: string): Where =>
  (a) =>
    a.device === undefined
      ? { label: "Devices", to: "/devices" }
      : { label: a.device, to: `/devices/${encodeURIComponent(a.device)}${view === undefined ? "" : `?view=${view}`}` };

/** What compare takes, NAME or NAME@PLACE, as a page of that device. */
const compare: Where = (a) => {
  const sides = [a.left, a.right].map((side) => {
    const [name = "", place = "running"] = (side ?? "").split("@");
    return { name, place };
  });
  const [left, right] = sides;
  if (!left?.name || left.name !== right?.name) return undefined;
  const query = new URLSearchParams({ view: "compare", a: left.place, b: right.place });
  return { label: `Compare ${left.name}`, to: `/devices/${encodeURIComponent(left.name)}?${query.toString()}` };
};

const outside: Where = (a) =>
  a.number === undefined
    ? { label: "Outside changes", to: "/outside?all=true" }
    : { label: `Outside change ${a.number}`, to: `/outside?all=true&number=${a.number}` };

const access = page("Access", "/access");
const changes = page("Changes", "/changes");
const backups = page("Backups", "/backups");
const snapshots = page("Snapshots", "/snapshots");
const stencils = page("Stencils", "/stencils");
const audit = page("Audit", "/audit");
const onTheCommandLine = () => undefined;

/** Where in the console each action is done that the service advises; some are done by other means only. */
const places: Record<Action, Where> = {
  "sign-in": page("Sign in", "/"),
  "prove-factor": access,
  "list-factors": access,
  "add-factor": access,
  "reset-factors": access,
  "list-accounts": access,
  "allow-role": access,
  "list-tokens": access,
  "list-rules": access,
  "list-proposals": access,
  "list-emergencies": page("Now", "/"),

  "list-devices": page("Devices", "/devices"),
  "show-device": device(),
  "trust-device": device(),
  "replace-device": device(),
  "list-sessions": device(),
  "clear-candidate": device(),
  "ask-holder": device(),
  "release-device": device(),
  "read-config": device(),
  compare,
  "list-revisions": device("timeline"),
  "list-startups": device("timeline"),
  restore: device("compare"),
  "restore-part": device("compare"),

  "list-snapshots": snapshots,
  "show-snapshot": snapshots,
  "unprotect-snapshot": snapshots,
  "list-stencils": stencils,
  "show-stencil": stencils,
  "list-outside": outside,
  "show-outside": outside,
  "list-silences": outside,
  "list-receivers": page("Who is told", "/audit?receivers=true"),
  "list-archives": backups,
  "add-archive": backups,
  "trust-archive": backups,
  "verify-archive": backups,
  "list-copies": backups,
  "mend-from-copy": backups,
  "verify-record": audit,
  "verify-against": onTheCommandLine,
  "watch-record": onTheCommandLine,
  "sign-checkpoint": onTheCommandLine,
  "list-searches": audit,
  "search-help": onTheCommandLine,

  "list-changes": changes,
  "open-change": changes,
  "show-change": change,
  "share-change": change,
  stage: change,
  "stage-also": change,
  "stage-only": change,
  "stage-delete": change,
  "take-back": change,
  "take-back-path": change,
  "decide-conflict": change,
  "preview-change": change,
  "drop-change": change,
  "ask-approval": change,
  "approve-change": change,
  commit: change,
  "commit-cut-off": change,
  "commit-emergency": change,
  "confirm-despite-probes": change,
  unschedule: page("Schedule", "/schedule"),
  "show-schedule": page("Schedule", "/schedule"),
  "watch-commit": change,
  "list-commits": page("Commits", "/commits"),
  "settle-change": change,
  "settle-lost": onTheCommandLine,
  "undo-change": change,
  "undo-person": changes,
  "list-expectations": change,
  "drop-expectation": change,
  "accept-effect": change,
};

/** The page where a step of advice is done; undefined where there is none, or the service is of a later release. */
export function placeOf(step: Step): Place | undefined {
  const where: Where | undefined = step.action === undefined ? undefined : places[step.action];
  return where?.(step.args ?? {});
}
