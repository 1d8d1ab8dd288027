import type { Revision } from "../../lib/documents";

/** Whose a revision is, in a word. */
export function whose(r: Revision): string {
  if (r.author ?? r.actor) return r.author ?? r.actor ?? "";
  const words: Record<string, string> = {
    outside: "outside",
    first: "first read",
    replaced: "new box",
    rebuilt: "archive",
  };
  return words[r.source] ?? r.source;
}
