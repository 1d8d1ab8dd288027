import { theme } from "antd";
import type { Moment } from "../../lib/documents";
import { when, whenShort } from "../../lib/time";

/** The lanes of a timeline, from the top, each with the kinds that run in it. */
const lanes: { name: string; kinds: string[]; light: string; dark: string; mark: string }[] = [
  {
    name: "changes",
    kinds: ["change", "first", "replaced", "rebuilt", "holding"],
    light: "#1d5fbf",
    dark: "#7db2ff",
    mark: "✓",
  },
  { name: "outside", kinds: ["outside", "saved-outside"], light: "#a63d12", dark: "#f0926a", mark: "!" },
  { name: "reverted", kinds: ["reverted", "failed", "partly"], light: "#7437b5", dark: "#c39bf0", mark: "↩" },
  { name: "saved", kinds: ["saved"], light: "#4d6072", dark: "#a9bccd", mark: "s" },
  { name: "snapshots", kinds: ["snapshot"], light: "#1f6b66", dark: "#6cc4bd", mark: "#" },
];

const step = 46;
const lane = 34;
const left = 84;
const top = 26;

interface Props {
  /** Newest first. */
  moments: Moment[];
  chosen: number;
  onChoose: (index: number) => void;
}

/** What happened to a device, to look at: time runs to the right, each kind in its lane. */
export function Strip({ moments, chosen, onChoose }: Props) {
  const { token } = theme.useToken();
  const dark = token.colorBgContainer !== "#ffffff";
  const ordered = moments.map((m, index) => ({ m, index })).reverse();
  const width = left + step * ordered.length + 20;
  const height = top + lane * lanes.length + 8;
  return (
    <div
      style={{ overflowX: "auto" }}
      ref={(el) => {
        if (el && chosen === 0) el.scrollLeft = el.scrollWidth;
      }}
    >
      <svg width={width} height={height} role="listbox" aria-label="timeline" style={{ display: "block" }}>
        {lanes.map((l, i) => (
          <g key={l.name}>
            <line
              x1={left - 8}
              x2={width - 8}
              y1={top + i * lane + lane / 2}
              y2={top + i * lane + lane / 2}
              stroke={token.colorBorderSecondary}
              strokeWidth={2}
            />
            <text x={0} y={top + i * lane + lane / 2 + 4} fontSize={12} fill={token.colorTextSecondary}>
              {l.name}
            </text>
          </g>
        ))}
        {ordered.map(({ m, index }, x) => {
          const row = lanes.findIndex((l) => l.kinds.includes(m.kind));
          const l = lanes[row];
          if (!l) return null;
          const colour = dark ? l.dark : l.light;
          const cx = left + x * step + 12;
          const cy = top + row * lane + lane / 2;
          const date = m.at.slice(0, 10);
          const fresh = ordered[x - 1]?.m.at.slice(0, 10) !== date;
          return (
            <g key={index} role="presentation">
              {fresh && (
                <text x={cx - 10} y={14} fontSize={11} fill={token.colorTextSecondary}>
                  {date}
                </text>
              )}
              {fresh && (
                <line
                  x1={cx - 16}
                  x2={cx - 16}
                  y1={2}
                  y2={height}
                  stroke={token.colorBorderSecondary}
                  strokeDasharray="2 4"
                />
              )}
              <g
                role="option"
                aria-selected={index === chosen}
                aria-label={`${m.kind === "holding" ? "…" : l.mark} ${l.name}: ${m.text}, ${when(m.at)}`}
                tabIndex={0}
                className="moment"
                onClick={() => {
                  onChoose(index);
                }}
                onKeyDown={(e) => {
                  if (e.key === "Enter" || e.key === " ") onChoose(index);
                }}
              >
                <title>{`${m.text}, ${whenShort(m.at)}`}</title>
                {index === chosen && <line x1={cx} x2={cx} y1={20} y2={height} stroke={colour} strokeWidth={1} />}
                <circle
                  cx={cx}
                  cy={cy}
                  r={index === chosen ? 13 : 10}
                  fill={index === chosen ? colour : token.colorBgContainer}
                  stroke={colour}
                  strokeWidth={2}
                />
                <text
                  aria-hidden
                  x={cx}
                  y={cy + 4}
                  fontSize={12}
                  fontWeight={700}
                  textAnchor="middle"
                  fill={index === chosen ? token.colorBgContainer : colour}
                >
                  {m.kind === "holding" ? "…" : l.mark}
                </text>
              </g>
            </g>
          );
        })}
      </svg>
    </div>
  );
}
