import { theme } from "antd";
import type { Pace } from "../../lib/documents";
import { when } from "../../lib/time";

/** The colours of people, told apart in grey too by their pattern. */
const tones = [
  { light: "#1d5fbf", dark: "#7db2ff" },
  { light: "#a63d12", dark: "#f0926a" },
  { light: "#1f6b66", dark: "#6cc4bd" },
  { light: "#7437b5", dark: "#c39bf0" },
  { light: "#8a6d1a", dark: "#e0c060" },
  { light: "#4d6072", dark: "#a9bccd" },
];

const height = 96;
const room = 18;

/** When things happened, and by whom: a column a stretch of time, a part of it a person. */
export function PaceChart({ pace, onPick }: { pace: Pace; onPick: (from: string, to: string) => void }) {
  const { token } = theme.useToken();
  const dark = token.colorBgContainer !== "#ffffff";
  const totals = new Map<string, number>();
  for (const s of pace.steps)
    for (const [who, n] of Object.entries(s.counts)) totals.set(who, (totals.get(who) ?? 0) + n);
  const people = [...totals.entries()].sort((a, b) => b[1] - a[1]).map(([who]) => who);
  const shown = people.slice(0, tones.length - 1);
  const most = Math.max(1, ...pace.steps.map((s) => Object.values(s.counts).reduce((a, b) => a + b, 0)));
  const colour = (i: number) => tones[Math.min(i, tones.length - 1)]?.[dark ? "dark" : "light"];
  const width = 1000 / Math.max(1, pace.steps.length);
  return (
    <figure style={{ margin: 0 }}>
      <svg
        viewBox={`0 0 1000 ${String(height + room)}`}
        preserveAspectRatio="none"
        width="100%"
        height={height + room}
        role="group"
        aria-label="when it happened, and by whom"
        style={{ display: "block" }}
      >
        <line x1={0} x2={1000} y1={height} y2={height} stroke={token.colorBorder} vectorEffect="non-scaling-stroke" />
        {pace.steps.map((s, x) => {
          const end = new Date(new Date(s.at).getTime() + pace.stepSeconds * 1000).toISOString();
          const all = Object.values(s.counts).reduce((a, b) => a + b, 0);
          let y = height;
          const said = `${when(s.at)}: ${String(all)} (${Object.entries(s.counts)
            .map(([w, n]) => `${w} ${String(n)}`)
            .join(", ")})`;
          return (
            <g
              key={s.at}
              role="button"
              tabIndex={all > 0 ? 0 : -1}
              aria-label={said}
              style={{ cursor: all > 0 ? "pointer" : "default" }}
              onClick={() => {
                if (all > 0) onPick(s.at, end);
              }}
              onKeyDown={(e) => {
                if (e.key === "Enter" && all > 0) onPick(s.at, end);
              }}
            >
              <title>{said}</title>
              <rect x={x * width} y={0} width={width} height={height} fill="transparent" />
              {[...shown, ""].map((who, i) => {
                const n = who ? (s.counts[who] ?? 0) : all - shown.reduce((a, w) => a + (s.counts[w] ?? 0), 0);
                if (n <= 0) return null;
                const h = (n / most) * (height - 6);
                y -= h;
                return (
                  <rect
                    key={who}
                    x={x * width + width * 0.12}
                    y={y}
                    width={width * 0.76}
                    height={Math.max(h - 0.8, 0.8)}
                    fill={colour(i)}
                  />
                );
              })}
            </g>
          );
        })}
      </svg>
      <figcaption
        style={{
          display: "flex",
          justifyContent: "space-between",
          gap: 16,
          fontSize: 12,
          color: token.colorTextSecondary,
          flexWrap: "wrap",
        }}
      >
        <span>{when(pace.from)}</span>
        <span>
          {[...shown, ...(people.length > shown.length ? ["others"] : [])].map((who, i) => (
            <span key={who} style={{ marginInline: 8 }}>
              <span
                aria-hidden
                style={{ display: "inline-block", width: 10, height: 10, background: colour(i), marginRight: 5 }}
              />
              {who} {totals.get(who) ?? ""}
            </span>
          ))}
        </span>
        <span>{when(pace.to)}</span>
      </figcaption>
    </figure>
  );
}
