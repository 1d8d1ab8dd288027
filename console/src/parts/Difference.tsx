import { theme } from "antd";
import type { DiffLine } from "../api";
import { marks } from "../theme";

/** A difference as it looks everywhere: mark, colour, outline. */
export function Difference({ lines }: { lines: DiffLine[] }) {
  const { token } = theme.useToken();
  const isDark = token.colorBgContainer !== "#ffffff";
  return (
    <div role="table" aria-label="difference" style={{ fontFamily: token.fontFamilyCode, fontSize: 13, lineHeight: 1.6, overflowX: "auto" }}>
      {lines.map((l, i) => {
        const m = marks[l.mark];
        const colour = m ? (isDark ? m.dark : m.light) : token.colorTextSecondary;
        return (
          <div
            role="row"
            key={i}
            title={l.path}
            aria-label={m ? `${m.name}: ${l.text}` : l.text}
            style={{ display: "flex", color: colour, background: m ? `${colour}14` : undefined, borderLeft: `3px solid ${m ? colour : "transparent"}`, whiteSpace: "pre" }}
          >
            <span style={{ width: 24, textAlign: "center", fontWeight: 700, flex: "none" }}>{l.mark}</span>
            <span style={{ paddingLeft: `${String(l.depth * 1.4)}em` }}>{l.text}</span>
          </div>
        );
      })}
    </div>
  );
}
