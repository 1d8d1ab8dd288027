import type { Finding } from "../../lib/documents";

/** What may be done about a part's verdicts; nothing of it where the change is not one's to edit. */
export interface Remedies {
  fix: (fix: NonNullable<Finding["fix"]>) => void;
  decide: (path: string, keep: "mine" | "theirs") => void;
  rebase: () => void;
  validate: () => void;
  busy: boolean;
}
