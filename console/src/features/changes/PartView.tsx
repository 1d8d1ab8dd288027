import { Checkbox, Flex, InputNumber, Segmented, Select, Spin, Typography, theme } from "antd";
import { useState } from "react";
import type { DiffLine, PartPreview, Preview } from "../../lib/documents";
import { Difference } from "../../parts/Difference";
import { Groups } from "./Groups";
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
  onTakeBack?: ((line: DiffLine) => void) | undefined;
}

/** What a part does, in the form that is wanted. */
export function PartView({ part, preview, updated, context, setContext, onTakeBack }: Props) {
  const [form, setForm] = useState("lines");
  const [person, setPerson] = useState("");
  const [who, setWho] = useState(false);
  const people = [...new Set(part.edits.map((e) => e.actor))];
  const ahead = preview.against === "running";
  const other = usePreview(
    preview.change.number,
    updated,
    { device: part.device, as: form, by: person, context },
    ahead && (form !== "lines" || person !== ""),
  );
  const shown = person ? other.data?.parts[0] : part;
  const lines = shown && <Difference lines={shown.lines} who={shown.edits} tell={who} onTakeBack={onTakeBack} />;
  const where = !ahead
    ? "as committed"
    : part.read
      ? "against running as just read"
      : `against revision ${String(part.base)}, the last known`;
  return (
    <>
      <Flex justify="space-between" align="baseline" wrap gap={8} style={{ marginBottom: 8 }}>
        <Typography.Title level={5} style={{ margin: 0 }}>
          {part.device}{" "}
          <Typography.Text type="secondary" style={{ fontWeight: 400, fontSize: 13 }}>
            {where}
          </Typography.Text>
        </Typography.Title>
        {ahead && (
          <Flex gap={10} align="center" wrap>
            {people.length > 1 && (
              <Select
                aria-label="whose"
                size="small"
                value={person}
                onChange={setPerson}
                style={{ width: 130 }}
                options={[
                  { value: "", label: "everybody's" },
                  ...people.map((p) => ({ value: p, label: `${p}'s alone` })),
                ]}
              />
            )}
            {form === "lines" && (
              <Checkbox
                checked={who}
                onChange={(e) => {
                  setWho(e.target.checked);
                }}
              >
                who staged it
              </Checkbox>
            )}
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
          </Flex>
        )}
      </Flex>
      {ahead && (
        <Segmented
          size="small"
          value={form}
          onChange={setForm}
          options={forms}
          aria-label="form"
          style={{ marginBottom: 8 }}
        />
      )}
      <Trouble error={form === "lines" && !person ? null : other.error} />
      {form !== "lines" && <Rendered text={other.data?.parts[0]?.rendered} />}
      {form === "lines" && shown && (
        <>
          {shown.groups ? <Groups groups={shown.groups}>{lines}</Groups> : shown.count > 0 && lines}
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
  const { token } = theme.useToken();
  if (text === undefined) return <Spin />;
  return (
    <pre
      aria-label="rendered"
      style={{ margin: 0, fontFamily: token.fontFamilyCode, fontSize: 13, overflow: "auto", maxHeight: 520 }}
    >
      {text}
    </pre>
  );
}
