import VirtualList from "@rc-component/virtual-list";
import { theme } from "antd";
import type { CSSProperties } from "react";
import type { DiffLine, Edit } from "../lib/documents";
import { markColour, marks } from "../lib/theme";
import { whenShort } from "../lib/time";

/** From how many lines on only those in sight are drawn. */
const many = 300;
const lineHeight = 21;

interface Props {
  lines: DiffLine[];
  /** The edits that may have staged the lines. */
  who?: Edit[] | undefined;
  /** Says beside each line which of them did. */
  tell?: boolean;
  /** Takes one line back. */
  onTakeBack?: ((line: DiffLine) => void) | undefined;
  /** Of a very long difference. */
  height?: number;
}

/** A difference as it looks everywhere: mark, colour, outline. */
export function Difference({ lines, who, tell = false, onTakeBack, height = 460 }: Props) {
  const { token } = theme.useToken();
  const style: CSSProperties = {
    fontFamily: token.fontFamilyCode,
    fontSize: 13,
    lineHeight: `${String(lineHeight)}px`,
  };
  const byID = who && new Map(who.map((e) => [e.id, e]));
  if (lines.length <= many) {
    return (
      <div role="table" aria-label="difference" tabIndex={0} style={{ ...style, overflowX: "auto" }}>
        {lines.map((l, i) => (
          <Row key={i} line={l} edit={byID?.get(l.edit ?? 0)} tell={tell} onTakeBack={onTakeBack} />
        ))}
      </div>
    );
  }
  const widest = Math.max(...lines.map((l) => l.text.length + l.depth * 2)) * 8 + (tell ? 330 : 60);
  return (
    <div role="table" aria-label="difference" tabIndex={0} aria-rowcount={lines.length} style={style}>
      <VirtualList
        data={lines.map((line, key) => ({ line, key }))}
        height={height}
        itemHeight={lineHeight}
        itemKey="key"
        scrollWidth={widest}
      >
        {({ line }: { line: DiffLine }) => (
          <Row line={line} edit={byID?.get(line.edit ?? 0)} tell={tell} onTakeBack={onTakeBack} />
        )}
      </VirtualList>
    </div>
  );
}

function Row({
  line: l,
  edit,
  tell,
  onTakeBack,
}: {
  line: DiffLine;
  edit?: Edit | undefined;
  tell: boolean;
  onTakeBack?: ((line: DiffLine) => void) | undefined;
}) {
  const { token } = theme.useToken();
  const m = marks[l.mark];
  const colour = markColour(l.mark, token.colorBgContainer) ?? token.colorTextSecondary;
  return (
    <div
      role="row"
      title={l.path}
      style={{
        display: "flex",
        color: colour,
        background: m ? `${colour}14` : undefined,
        borderLeft: `3px solid ${m ? colour : "transparent"}`,
        whiteSpace: "pre",
      }}
    >
      <span role="cell" style={{ width: 24, textAlign: "center", fontWeight: 700, flex: "none" }}>
        <span aria-hidden>{l.mark}</span>
        {m && <span className="only-heard">{`${m.name}:`}</span>}
      </span>
      <span role="cell" style={{ paddingLeft: `${String(l.depth * 1.4)}em`, flex: 1 }}>
        {l.text}
      </span>
      {tell && edit && (
        <span role="cell" style={{ color: token.colorTextSecondary, paddingLeft: 16, fontSize: 12 }}>
          {edit.actor}, edit {edit.id}, {whenShort(edit.at)}
        </span>
      )}
      {onTakeBack && m && edit && (
        <span role="cell">
          <button
            type="button"
            className="take-back"
            aria-label={`remove ${l.path ?? ""}`}
            title="Take this line back"
            onClick={() => {
              onTakeBack(l);
            }}
          >
            ✕
          </button>
        </span>
      )}
    </div>
  );
}
