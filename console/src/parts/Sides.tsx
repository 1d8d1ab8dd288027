import { Checkbox, theme } from "antd";
import type { DiffLine } from "../lib/documents";
import { markColour, marks } from "../lib/theme";

interface Props {
  lines: DiffLine[];
  old: string;
  now: string;
  picked: Set<string>;
  /** Of a person who may pick parts: picks one, or lets it go. */
  onPick?: ((path: string, on: boolean) => void) | undefined;
}

/** What a line says on the old side and on the new one. */
function sides(l: DiffLine): [string | undefined, string | undefined] {
  if (l.mark === "+") return [undefined, l.text];
  if (l.mark === "−") return [l.text, undefined];
  if (l.mark === "~") return [l.before ?? l.text, l.after ?? l.text];
  return [l.text, l.text];
}

/** A difference in two columns, with parts of it to be picked. */
export function Sides({ lines, old, now, picked, onPick }: Props) {
  const { token } = theme.useToken();
  const cell = { flex: 1, minWidth: 0, whiteSpace: "pre-wrap", overflowWrap: "anywhere" } as const;
  return (
    <div
      role="table"
      tabIndex={0}
      aria-label="side by side"
      style={{ fontFamily: token.fontFamilyCode, fontSize: 13, lineHeight: "21px" }}
    >
      <div
        role="row"
        style={{
          display: "flex",
          color: token.colorTextSecondary,
          borderBottom: `1px solid ${token.colorBorder}`,
          marginBottom: 4,
        }}
      >
        <span role="cell" style={{ width: 52 }} />
        <strong role="columnheader" style={cell}>
          {old}
        </strong>
        <strong role="columnheader" style={cell}>
          {now}
        </strong>
      </div>
      {lines.map((l, i) => {
        const m = marks[l.mark];
        const colour = markColour(l.mark, token.colorBgContainer) ?? token.colorTextSecondary;
        const [left, right] = sides(l);
        const indent = `${String(l.depth * 1.4)}em`;
        return (
          <div
            role="row"
            key={i}
            title={l.path}
            style={{
              display: "flex",
              color: colour,
              background: m ? `${colour}14` : undefined,
              borderLeft: `3px solid ${m ? colour : "transparent"}`,
            }}
          >
            <span role="cell" style={{ width: 25, textAlign: "center", flex: "none" }}>
              {onPick && m && l.path && (
                <Checkbox
                  aria-label={`pick ${l.path}`}
                  checked={picked.has(l.path)}
                  onChange={(e) => {
                    if (l.path) onPick(l.path, e.target.checked);
                  }}
                />
              )}
            </span>
            <span role="cell" style={{ width: 24, textAlign: "center", fontWeight: 700, flex: "none" }}>
              <span aria-hidden>{l.mark}</span>
              {m && <span className="only-heard">{`${m.name}:`}</span>}
            </span>
            <span
              role="cell"
              style={{ ...cell, paddingLeft: indent, borderRight: `1px solid ${token.colorBorderSecondary}` }}
            >
              {left}
            </span>
            <span role="cell" style={{ ...cell, paddingLeft: `calc(${indent} + 8px)` }}>
              {right}
            </span>
          </div>
        );
      })}
    </div>
  );
}
