import VirtualList from "@rc-component/virtual-list";
import { Button, Input, Tooltip, Typography, theme } from "antd";
import { useState } from "react";
import type { Edit, PartPreview } from "../../lib/documents";
import type { PlaceCount } from "../../lib/focus";
import { whenShort } from "../../lib/time";

/** A part's verdict in one mark, with the word for it. */
export function verdictOf(p: PartPreview): { mark: string; word: string; bad: boolean } {
  if (!p.read) return { mark: "?", word: "not reached", bad: true };
  if (p.conflicts?.length) return { mark: "⇄", word: "to be decided", bad: true };
  if (p.reserved) return { mark: "⊘", word: `reserved by ${p.reserved.holder}`, bad: true };
  if (p.forecasts?.some((f) => f.answer === "cuts")) return { mark: "✂", word: "would be cut off", bad: true };
  if (p.untried && p.count > 0 && !p.blocker) return { mark: "!", word: "reverting it is not tested", bad: true };
  if (p.blocker) return { mark: "✕", word: "not ready", bad: true };
  if (p.behind) return { mark: "↷", word: "behind", bad: false };
  return { mark: "✓", word: "ready", bad: false };
}

/** The devices of a change; the one that is looked at is marked. */
export function PartList({
  parts,
  chosen,
  choose,
}: {
  parts: PartPreview[];
  chosen: string | undefined;
  choose: (device: string) => void;
}) {
  const { token } = theme.useToken();
  const [filter, setFilter] = useState("");
  const shown = parts.filter((p) => p.device.includes(filter));
  return (
    <nav aria-label="devices of the change">
      {parts.length > 8 && (
        <Input
          size="small"
          allowClear
          placeholder="device"
          aria-label="find a device"
          value={filter}
          onChange={(e) => {
            setFilter(e.target.value);
          }}
          style={{ marginBottom: 6 }}
        />
      )}
      <VirtualList
        data={shown}
        height={Math.min(shown.length, 12) * 34}
        itemHeight={34}
        itemKey="device"
        virtual={shown.length > 12}
      >
        {(p: PartPreview) => {
          const v = verdictOf(p);
          const here = p.device === chosen;
          return (
            <button
              type="button"
              aria-current={here}
              onClick={() => {
                choose(p.device);
              }}
              className="device-row"
              style={{
                height: 34,
                padding: "4px 8px",
                background: here ? token.colorFillSecondary : undefined,
                borderLeft: `3px solid ${here ? token.colorPrimary : "transparent"}`,
              }}
            >
              <Tooltip title={v.word}>
                <span
                  role="img"
                  aria-label={v.word}
                  style={{ color: v.bad ? token.colorError : token.colorPrimary, fontWeight: 700, width: 16 }}
                >
                  {v.mark}
                </span>
              </Tooltip>
              <span
                title={p.device}
                style={{ flex: 1, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}
              >
                {p.device}
              </span>
              <Typography.Text type="secondary" style={{ fontSize: 12 }}>
                {p.count}
              </Typography.Text>
            </button>
          );
        }}
      </VirtualList>
    </nav>
  );
}

/** The places at which a device differs, with how much; one that is chosen is all that is shown. */
export function PlaceTree({
  part,
  places,
  place,
  go,
}: {
  part: PartPreview;
  places: PlaceCount[];
  place: string;
  go: (place: string) => void;
}) {
  const { token } = theme.useToken();
  const row = (path: string, name: string, depth: number, count: number) => (
    <li key={path}>
      <button
        type="button"
        aria-current={path === place}
        style={{
          paddingLeft: 6 + depth * 12,
          background: path === place ? token.colorFillSecondary : undefined,
          borderLeft: `3px solid ${path === place ? token.colorPrimary : "transparent"}`,
        }}
        onClick={() => {
          go(path);
        }}
      >
        <span>{name}</span>
        <Typography.Text type="secondary" style={{ fontSize: 12 }}>
          {count}
        </Typography.Text>
      </button>
    </li>
  );
  return (
    <nav aria-label="places that differ" style={{ borderTop: `1px solid ${token.colorSplit}`, marginTop: 8 }}>
      <ul className="places-of">
        {row("", "everything", 0, part.count)}
        {places.map((p) => row(p.path, p.name, p.depth, p.count))}
      </ul>
    </nav>
  );
}

/** What is staged on a device, each to be taken back; what later edits superseded is folded. */
export function EditList({ edits, onTakeBack }: { edits: Edit[]; onTakeBack?: ((id: number) => void) | undefined }) {
  const [all, setAll] = useState(false);
  const old = edits.filter((e) => e.superseded);
  return (
    <>
      <ul aria-label="staged edits" style={{ listStyle: "none", margin: 0, padding: 0 }}>
        {edits
          .filter((e) => all || !e.superseded)
          .map((e) => (
            <li key={e.id} style={{ padding: "6px 0", borderTop: "1px solid rgba(128,128,128,.2)", fontSize: 13 }}>
              <div style={{ overflowWrap: "anywhere" }}>
                <strong>{e.id}</strong>{" "}
                {e.op === "load" ? (e.mode === "stencil" || e.mode === "rebase" ? "load" : e.mode) : e.op}{" "}
                <code>{e.op === "load" ? e.source : e.path.replace(/[a-z0-9-]+:(?=[a-z])/g, "")}</code>
                {e.value && (
                  <>
                    {" "}
                    <code>{e.value}</code>
                  </>
                )}
                {e.op === "put" && e.mode && ` (${e.mode})`}
                {e.op === "load" && `, ${String(e.lines)} ${e.lines === 1 ? "line" : "lines"}`}
                {e.superseded && <Typography.Text type="secondary"> superseded by later ones</Typography.Text>}
              </div>
              <Typography.Text type="secondary" style={{ fontSize: 12 }}>
                {e.actor}, {whenShort(e.at)}
              </Typography.Text>
              {onTakeBack && (
                <Button
                  size="small"
                  type="link"
                  aria-label={`remove edit ${String(e.id)}`}
                  onClick={() => {
                    onTakeBack(e.id);
                  }}
                >
                  remove
                </Button>
              )}
            </li>
          ))}
      </ul>
      {old.length > 0 && (
        <Button
          size="small"
          aria-expanded={all}
          onClick={() => {
            setAll(!all);
          }}
        >
          {all
            ? "Hide what was superseded"
            : `${String(old.length)} superseded by later ${old.length === 1 ? "edits is" : "edits are"} hidden`}
        </Button>
      )}
    </>
  );
}
