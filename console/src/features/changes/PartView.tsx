import { Button, Checkbox, InputNumber, Popover, Select, Spin, Typography, theme } from "antd";
import { useState } from "react";
import type { DiffLine, PartPreview, Preview } from "../../lib/documents";
import { Difference } from "../../parts/Difference";
import { Groups } from "./Groups";
import { linesAt } from "../../lib/focus";
import { markColour, marks } from "../../lib/theme";
import { Code } from "../../parts/Code";
import { Trouble } from "../../parts/Trouble";
import { usePreview } from "./queries";

const forms = [
  { value: "lines", label: "difference" },
  { value: "outline", label: "whole result" },
  { value: "unified", label: "unified" },
  { value: "edit-config", label: "edit-config" },
  { value: "yang-patch-json", label: "YANG Patch" },
];

interface Props {
  part: PartPreview;
  preview: Preview;
  updated: string;
  context: number;
  setContext: (n: number) => void;
  /** The only place that is shown, "" for all. */
  place: string;
  onTakeBack?: ((line: DiffLine) => void) | undefined;
}

/** What a part does, in the form that is wanted. */
export function PartView({ part, preview, updated, context, setContext, place, onTakeBack }: Props) {
  const [form, setForm] = useState("lines");
  const [person, setPerson] = useState("");
  const [who, setWho] = useState(false);
  const people = [...new Set(part.edits.map((e) => e.actor))];
  const ahead = preview.against === "running";
  const other = usePreview(
    preview.change.number,
    updated,
    { device: part.device, as: form, by: person, context, ...(place && form !== "lines" && { path: place }) },
    ahead && (form !== "lines" || person !== ""),
  );
  const shown = person ? other.data?.parts[0] : part;
  const there = shown ? linesAt(shown.lines, place) : [];
  const lines = shown && <Difference lines={there} who={shown.edits} tell={who} onTakeBack={onTakeBack} />;
  const where = !ahead
    ? "as committed"
    : part.read
      ? "against running as just read"
      : `against revision ${String(part.base)}, the last known`;
  return (
    <>
      <div className="desk-tools">
        <strong>{part.device}</strong>
        <Typography.Text type="secondary">{where}</Typography.Text>
        {ahead && (
          <Select
            aria-label="form"
            size="small"
            value={form}
            onChange={setForm}
            options={forms}
            style={{ width: 140 }}
          />
        )}
        {ahead && people.length > 1 && (
          <Select
            aria-label="whose"
            size="small"
            value={person}
            onChange={setPerson}
            style={{ width: 130 }}
            options={[{ value: "", label: "everybody's" }, ...people.map((p) => ({ value: p, label: `${p}'s alone` }))]}
          />
        )}
        {ahead && form === "lines" && (
          <Checkbox
            checked={who}
            onChange={(e) => {
              setWho(e.target.checked);
            }}
          >
            who staged it
          </Checkbox>
        )}
        {ahead && (
          <span>
            context{" "}
            <InputNumber
              aria-label="context"
              size="small"
              min={0}
              max={99}
              value={context}
              onChange={(v) => {
                setContext(v ?? 2);
              }}
              style={{ width: 56 }}
            />
          </span>
        )}
        <Legend />
      </div>
      <Trouble error={form === "lines" && !person ? null : other.error} />
      {form !== "lines" && <Rendered text={other.data?.parts[0]?.rendered} />}
      {form === "lines" && shown && (
        <>
          {shown.groups && !place ? <Groups groups={shown.groups}>{lines}</Groups> : there.length > 0 && lines}
          {place && shown.count > 0 && there.length === 0 && (
            <Typography.Text type="secondary">
              Nothing differs at <code>{place}</code>; {shown.count} elsewhere.
            </Typography.Text>
          )}
          {shown.count === 0 && (
            <Typography.Text type="secondary">
              {ahead ? "Nothing would change here." : "Nothing was sent to it yet."}
            </Typography.Text>
          )}
        </>
      )}
    </>
  );
}

function Rendered({ text }: { text: string | undefined }) {
  if (text === undefined) return <Spin />;
  return <Code label="rendered" text={text} />;
}

/** What the marks of a difference mean. */
function Legend() {
  const { token } = theme.useToken();
  return (
    <Popover
      trigger="click"
      title="The marks"
      content={
        <ul style={{ listStyle: "none", margin: 0, padding: 0 }}>
          {Object.entries(marks).map(([mark, m]) => (
            <li key={mark}>
              <strong style={{ color: markColour(mark, token.colorBgContainer) }}>{mark}</strong> {m.name}
            </li>
          ))}
          <li>no mark: unchanged, shown to see where one is</li>
          <li>…: more that is unchanged</li>
        </ul>
      }
    >
      <Button size="small">Marks</Button>
    </Popover>
  );
}
