/** A time as people here read it, with its zone. */
export function when(iso: string | undefined): string {
  if (!iso) return "never";
  return new Intl.DateTimeFormat("en-GB", {
    year: "numeric",
    month: "short",
    day: "numeric",
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
    timeZoneName: "short",
  }).format(new Date(iso));
}

/** The same for narrow places: without the year, never broken over lines. */
export function whenShort(iso: string | undefined): string {
  if (!iso) return "never";
  return new Intl.DateTimeFormat("en-GB", {
    month: "short",
    day: "numeric",
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
    timeZoneName: "short",
  })
    .format(new Date(iso))
    .replaceAll(" ", "\u00a0");
}

/** A time of today in short, with its zone; of another day with the day. */
export function timeOfDay(iso: string | undefined, now = new Date()): string {
  if (!iso) return "never";
  if (new Date(iso).toDateString() !== now.toDateString()) return whenShort(iso);
  return new Intl.DateTimeFormat("en-GB", {
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
    timeZoneName: "short",
  }).format(new Date(iso));
}

/** Seconds as m:ss, h:mm:ss from an hour on, or days from two days on. */
export function clock(seconds: number): string {
  const s = Math.max(0, Math.round(seconds));
  if (s >= 2 * 86400) return `${String(Math.floor(s / 86400))} d`;
  const two = (n: number) => String(n).padStart(2, "0");
  const h = Math.floor(s / 3600);
  const m = Math.floor((s % 3600) / 60);
  return h > 0 ? `${String(h)}:${two(m)}:${two(s % 60)}` : `${String(m)}:${two(s % 60)}`;
}

/** A time in the zone it was meant in. */
export function whenIn(iso: string, zone: string | undefined): string {
  try {
    return new Intl.DateTimeFormat("en-GB", {
      year: "numeric",
      month: "short",
      day: "numeric",
      hour: "2-digit",
      minute: "2-digit",
      second: "2-digit",
      timeZoneName: "short",
      timeZone: zone ?? "UTC",
    }).format(new Date(iso));
  } catch {
    return when(iso); // a zone this browser does not know
  }
}

/** This browser's zone. */
export const ownZone = (): string => Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Seconds in words: 45 s, 10 min, 2 h 30 min, 3 d. */
export function span(seconds: number): string {
  const s = Math.round(Math.abs(seconds));
  const parts: string[] = [];
  let left = s;
  for (const [size, name] of [
    [86400, "d"],
    [3600, "h"],
    [60, "min"],
    [1, "s"],
  ] as const) {
    const n = Math.floor(left / size);
    if (n > 0) parts.push(`${String(n)} ${name}`);
    left -= n * size;
  }
  return parts.slice(0, 2).join(" ") || "0 s";
}
