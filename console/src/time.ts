/** A time as people here read it, with its zone. */
export function when(iso: string | undefined): string {
  if (!iso) return "never";
  return new Intl.DateTimeFormat("en-GB", {
    year: "numeric", month: "short", day: "numeric", hour: "2-digit", minute: "2-digit", second: "2-digit", timeZoneName: "short",
  }).format(new Date(iso));
}

/** The same for narrow places: without the year, never broken over lines. */
export function whenShort(iso: string | undefined): string {
  if (!iso) return "never";
  return new Intl.DateTimeFormat("en-GB", {
    month: "short", day: "numeric", hour: "2-digit", minute: "2-digit", second: "2-digit", timeZoneName: "short",
  }).format(new Date(iso)).replaceAll(" ", "\u00a0");
}

/** Seconds as m:ss, or h:mm:ss from an hour on. */
export function clock(seconds: number): string {
  const s = Math.max(0, Math.round(seconds));
  const two = (n: number) => String(n).padStart(2, "0");
  const h = Math.floor(s / 3600);
  const m = Math.floor((s % 3600) / 60);
  return h > 0 ? `${String(h)}:${two(m)}:${two(s % 60)}` : `${String(m)}:${two(s % 60)}`;
}
