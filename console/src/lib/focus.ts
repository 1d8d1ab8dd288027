import type { DiffLine, PartPreview } from "./documents";

/** A place in a configuration at which something differs, with how much differs there and below. */
export interface PlaceCount {
  path: string;
  /** The last step, as it is shown. */
  name: string;
  depth: number;
  count: number;
}

/** The steps of a path; a slash in a key is encoded (RFC 8040 section 3.5.3). */
const steps = (path: string) => path.split("/").filter(Boolean);

/** Whether a path leads to a place or below it. */
export const within = (path: string, place: string) => path === place || path.startsWith(`${place}/`);

const most = 3;

/** The places at which a part differs, as a tree a few steps deep, each with what differs there and below. */
export function placesOf(part: Pick<PartPreview, "lines">): PlaceCount[] {
  interface Branch {
    count: number;
    below: Map<string, Branch>;
  }
  const root: Branch = { count: 0, below: new Map() };
  let whole: DiffLine | undefined; // what was added or removed with all below it counts once
  for (const line of part.lines) {
    if (line.path === undefined) continue;
    if (whole?.path !== undefined && line.mark === whole.mark && within(line.path, whole.path)) continue;
    whole = line.mark === "+" || line.mark === "−" ? line : undefined;
    let at = root;
    for (const step of steps(line.path).slice(0, most)) {
      const next = at.below.get(step) ?? { count: 0, below: new Map<string, Branch>() };
      next.count++;
      at.below.set(step, next);
      at = next;
    }
  }
  const out: PlaceCount[] = [];
  const walk = (branch: Branch, way: string[]) => {
    for (const [step, next] of branch.below) {
      const path = [...way, step];
      out.push({ path: `/${path.join("/")}`, name: shown(step), depth: way.length, count: next.count });
      walk(next, path);
    }
  };
  walk(root, []);
  return out;
}

/** A step as people read it. */
function shown(step: string): string {
  try {
    return decodeURIComponent(step);
  } catch {
    return step;
  }
}

/**
 * Those lines of a difference that are at a place or below it, with what leads there. Unchanged lines tell no path; which
 * of them belong is known by where they stand: below the line of the place.
 */
export function linesAt(lines: DiffLine[], place: string): DiffLine[] {
  if (place === "") return lines;
  const depth = steps(place).length - 1; // of the line of the place itself
  const keep = new Set<number>();
  for (let i = 0; i < lines.length; i++) {
    const path = lines[i]?.path;
    if (path === undefined || !within(path, place)) continue;
    // What leads here: each nearest line above that is less deep.
    let from = i;
    let at = lines[i]?.depth ?? 0;
    for (let j = i - 1; j >= 0 && at > 0; j--) {
      const d = lines[j]?.depth ?? 0;
      if (d >= at) continue;
      keep.add(j);
      at = d;
      if (d >= depth) from = j;
    }
    keep.add(i);
    // All of the place itself.
    if ((lines[from]?.depth ?? 0) !== depth) continue;
    for (let j = from + 1; j < lines.length && (lines[j]?.depth ?? 0) > depth; j++) keep.add(j);
  }
  return lines.filter((_, i) => keep.has(i));
}
