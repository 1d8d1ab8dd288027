import VirtualList from "@rc-component/virtual-list";
import { Button, Input, Tooltip, Typography, theme } from "antd";
import { useState } from "react";
import type { Edit, PartPreview } from "../../lib/documents";
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
              style={{
                all: "unset",
                cursor: "pointer",
                boxSizing: "border-box",
                width: "100%",
                height: 34,
                padding: "4px 8px",
                display: "flex",
                gap: 8,
                alignItems: "center",
                background: here ? token.colorFillSecondary : undefined,
                borderLeft: `3px solid ${here ? token.colorPrimary : "transparent"}`,
              }}
            >
              <Tooltip title={v.word}>
                <span
                  role="img"
                  aria-label={v.word}
                  style={{ color: v.bad ? "#a63d12" : token.colorPrimary, fontWeight: 700, width: 16 }}
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

/** What is staged on a device, each to be taken back. */
export function EditList({ edits, onTakeBack }: { edits: Edit[]; onTakeBack?: ((id: number) => void) | undefined }) {
  return (
    <div role="list" aria-label="staged edits" style={{ maxHeight: 320, overflowY: "auto" }}>
      {edits.map((e) => (
        <div
          role="listitem"
          key={e.id}
          style={{ padding: "6px 0", borderTop: "1px solid rgba(128,128,128,.2)", fontSize: 12 }}
        >
          <div style={{ wordBreak: "break-word" }}>
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
          </div>
          <Typography.Text type="secondary" style={{ fontSize: 12 }}>
            {e.actor}, {whenShort(e.at)}
          </Typography.Text>
          {onTakeBack && (
            <Button
              size="small"
              type="link"
              style={{ fontSize: 12, padding: "0 6px", height: 18 }}
              onClick={() => {
                onTakeBack(e.id);
              }}
            >
              remove
            </Button>
          )}
        </div>
      ))}
    </div>
  );
}
