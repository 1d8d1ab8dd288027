import {
  Alert,
  Button,
  Collapse,
  Flex,
  Input,
  InputNumber,
  Popconfirm,
  Popover,
  Radio,
  Select,
  Space,
  Typography,
  theme,
} from "antd";
import { useState } from "react";
import type { Scheduled, NewCommit, PartPreview, Preview } from "../../lib/documents";
import { Trouble } from "../../parts/Trouble";
import { useCommit, useSay, useScheduleCommit } from "./queries";
import { ownZone, span, whenIn } from "../../lib/time";
import { disabledIf } from "../../lib/disabled";

const units = [
  { value: 1, label: "seconds" },
  { value: 60, label: "minutes" },
  { value: 3600, label: "hours" },
  { value: 86400, label: "days" },
];

type Start = "now" | "ahead" | "at";
type Save = "set" | "yes" | "no";

/** The bar at the foot that is always the next step: how the change is committed, in plain words. */
export function CommitForm({ preview, again }: { preview: Preview; again: () => void }) {
  const { token } = theme.useToken();
  const number = preview.change.number;
  const commit = useCommit(number);
  const schedule = useScheduleCommit(number);
  const say = useSay(number);
  const [amount, setAmount] = useState(10);
  const [unit, setUnit] = useState(60);
  const [first, setFirst] = useState<string[]>([]);
  const [probes, setProbes] = useState("");
  const [within, setWithin] = useState(10);
  const [byProbes, setByProbes] = useState(false);
  const [revertOnProbe, setRevertOnProbe] = useState(false);
  const [save, setSave] = useState<Save>("set");
  const [start, setStart] = useState<Start>("now");
  const [at, setAt] = useState("");
  const [words, setWords] = useState("");
  const [emergency, setEmergency] = useState("");
  const lone = (preview.approval?.missing ?? 0) > 0 && (preview.approval?.emergency ?? false);
  const helpless = preview.parts.filter((p) => p.helpless);
  const how = (): NewCommit => ({
    holdSeconds: amount * unit,
    ...(first.length > 0 && { waves: [first] }),
    probes: probes
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean),
    probeWithinSeconds: within,
    byProbes,
    revertOnProbe,
    ...(save !== "set" && { save: save === "yes" }),
    ...(start === "ahead" && { aheadSeconds: 2 * 3600 }),
    ...(preview.digest && { preview: preview.digest }),
    ...(lone && emergency.trim() && { emergency: emergency.trim() }),
    ...(helpless.length > 0 && { cutOff: helpless.map((p) => p.device) }),
  });
  const go = () => {
    if (start === "at")
      schedule.mutate({ at: new Date(at).toISOString(), zone: ownZone(), latenessSeconds: 60, commit: how() });
    else commit.mutate(how());
  };
  const unsaid = helpless.length > 0 && words.trim() !== helpless.map((p) => p.device).join(" ");
  const blocked = preview.parts.filter((p) => p.blocker);
  const stuck =
    preview.empty ||
    blocked.length > 0 ||
    (preview.expected ?? []).some((e) => !e.delivered) ||
    (preview.beside ?? []).some((s) => !s.acceptedBy);
  const urgent = lone && !stuck && emergency.trim() !== "" && start === "now";
  const weak = preview.parts.filter((p) => p.risk);
  return (
    <div
      role="region"
      aria-label="next step"
      className="foot"
      style={{
        position: "sticky",
        bottom: 0,
        zIndex: 4,
        background: token.colorBgElevated,
        border: `1px solid ${token.colorBorder}`,
        borderRadius: 6,
        padding: "8px 14px",
      }}
    >
      <Trouble error={commit.error ?? schedule.error ?? say.error} />
      {schedule.data && <ScheduledNote due={schedule.data} />}
      {preview.ready &&
        preview.parts
          .filter((p) => p.untried && p.count > 0)
          .map((p) => (
            <Alert
              key={`${p.device} untried`}
              type="error"
              showIcon
              style={{ marginBottom: 8 }}
              title={`${p.device}: reverting is not tested: ${p.untried ?? ""}`}
            />
          ))}
      {preview.ready &&
        weak.map((p) => (
          <Alert
            key={p.device}
            type="warning"
            showIcon
            style={{ marginBottom: 8 }}
            title={`${p.device}: ${p.risk ?? ""}`}
          />
        ))}
      {helpless.length > 0 && (
        <Alert
          type="error"
          showIcon
          style={{ marginBottom: 8 }}
          title={`${helpless.map((p) => p.device).join(", ")} would be cut off, and nobody could revert it. If that is meant, write the name:`}
          description={
            <Input
              aria-label="name of what is cut off"
              value={words}
              onChange={(e) => {
                setWords(e.target.value);
              }}
              placeholder={helpless.map((p) => p.device).join(" ")}
              style={{ width: 300 }}
            />
          }
        />
      )}
      {lone && !stuck && (
        <Alert
          type="error"
          showIcon
          style={{ marginBottom: 8 }}
          title="Others have to approve it first. In an emergency it goes without them, for a reason that stands out until somebody looked at it:"
          description={
            <Input
              aria-label="reason of the emergency"
              value={emergency}
              onChange={(e) => {
                setEmergency(e.target.value);
              }}
              placeholder="why it cannot wait"
              style={{ maxWidth: 480 }}
            />
          }
        />
      )}
      {!preview.ready && blocked.length > 0 && <Blockers parts={blocked} />}
      <Flex align="center" gap={12} wrap>
        <div style={{ flex: 1 }}>
          <Typography.Text strong>
            {preview.ready
              ? "Ready to commit on hold."
              : preview.empty
                ? "Nothing to commit."
                : "Not ready: see what must be fixed first."}
          </Typography.Text>{" "}
          <Typography.Text type="secondary">
            It is reverted unless it is confirmed in time.
            {preview.ready && preview.digest && (
              <>
                {" "}
                On hold in about {span(preview.estimateSeconds ?? 0)}. What is committed is this preview,{" "}
                <code>{preview.digest}</code>, or it is refused.
              </>
            )}
          </Typography.Text>
        </div>
        <Popconfirm
          title="Abandon this change?"
          okText="Abandon"
          onConfirm={() => {
            say.mutate({ word: "drop" });
          }}
        >
          <Button type="text">Abandon</Button>
        </Popconfirm>
        {preview.steps && (
          <Popover
            title="What it will do"
            content={
              <ol style={{ margin: 0, paddingLeft: 20, maxWidth: 460 }}>
                {preview.steps.map((t) => (
                  <li key={t}>{t}</li>
                ))}
              </ol>
            }
            trigger="click"
          >
            <Button type="text">Step by step</Button>
          </Popover>
        )}
        <Button onClick={again}>Preview again</Button>
        <Space.Compact>
          <InputNumber
            aria-label="hold"
            min={1}
            value={amount}
            onChange={(v) => {
              setAmount(v ?? 10);
            }}
            style={{ width: 80 }}
          />
          <Select
            aria-label="unit of the hold"
            value={unit}
            onChange={setUnit}
            options={units}
            style={{ width: 110 }}
          />
        </Space.Compact>
        <Button
          type="primary"
          {...disabledIf(!(preview.ready || urgent) || unsaid || (start === "at" && !at))}
          loading={commit.isPending || schedule.isPending}
          onClick={go}
        >
          {urgent
            ? "Commit as an emergency"
            : start === "now"
              ? "Commit on hold"
              : start === "ahead"
                ? "Prepare, and wait"
                : "Put on the schedule"}
        </Button>
      </Flex>
      <Collapse
        ghost
        size="small"
        items={[
          {
            key: "how",
            label: "How: when, which device first, probes, saving",
            children: (
              <Flex gap={24} wrap style={{ maxHeight: "42vh", overflowY: "auto" }}>
                <Choice label="When">
                  <Radio.Group
                    value={start}
                    onChange={(e) => {
                      setStart(e.target.value as Start);
                    }}
                    vertical
                    options={[
                      { value: "now", label: "now" },
                      { value: "ahead", label: "prepare now, commit at my word (within 2 h)" },
                      { value: "at", label: `at a time (${ownZone()})` },
                    ]}
                  />
                  {start === "at" && (
                    <Input
                      aria-label="time"
                      type="datetime-local"
                      value={at}
                      onChange={(e) => {
                        setAt(e.target.value);
                      }}
                    />
                  )}
                </Choice>
                {preview.parts.length > 1 && (
                  <Choice label="First, and proved before the others">
                    <Select
                      aria-label="first"
                      mode="multiple"
                      allowClear
                      value={first}
                      onChange={setFirst}
                      options={preview.parts.map((p) => ({ value: p.device, label: p.device }))}
                      style={{ minWidth: 240 }}
                      placeholder="all at once"
                    />
                  </Choice>
                )}
                <Choice label="Probes, one a line">
                  <Input.TextArea
                    aria-label="probes"
                    rows={3}
                    value={probes}
                    onChange={(e) => {
                      setProbes(e.target.value);
                    }}
                    placeholder={"tcp 192.0.2.12:22\nstate DEVICE PATH VALUE\nprogram NAME"}
                    style={{ width: 340, fontFamily: token.fontFamilyCode }}
                  />
                  <span>
                    may fail for the first{" "}
                    <InputNumber
                      aria-label="seconds a probe may fail"
                      size="small"
                      min={0}
                      max={600}
                      value={within}
                      onChange={(v) => {
                        setWithin(v ?? 10);
                      }}
                      style={{ width: 64 }}
                    />{" "}
                    s
                  </span>
                </Choice>
                <Choice label="Who confirms">
                  <Radio.Group
                    value={byProbes}
                    onChange={(e) => {
                      setByProbes(e.target.value as boolean);
                    }}
                    vertical
                    options={[
                      { value: false, label: "a person" },
                      { value: true, label: "by itself, once every probe passes" },
                    ]}
                  />
                </Choice>
                <Choice label="When a probe fails">
                  <Radio.Group
                    value={revertOnProbe}
                    onChange={(e) => {
                      setRevertOnProbe(e.target.value as boolean);
                    }}
                    vertical
                    options={[
                      { value: false, label: "say so, and wait" },
                      { value: true, label: "revert at once" },
                    ]}
                  />
                </Choice>
                <Choice label="Save to startup once confirmed">
                  <Radio.Group
                    value={save}
                    onChange={(e) => {
                      setSave(e.target.value as Save);
                    }}
                    vertical
                    options={[
                      { value: "set", label: "as set for each device" },
                      { value: "yes", label: "yes" },
                      { value: "no", label: "no" },
                    ]}
                  />
                </Choice>
              </Flex>
            ),
          },
        ]}
      />
    </div>
  );
}

/** Why it cannot be committed yet, the first few of many. */
function Blockers({ parts }: { parts: PartPreview[] }) {
  const few = parts.slice(0, 3);
  return (
    <div style={{ marginBottom: 8 }}>
      {few.map((p) => (
        <div key={p.device}>
          <Typography.Text type="danger">✕ {p.blocker?.split(";")[0]}</Typography.Text>
        </div>
      ))}
      {parts.length > few.length && (
        <Typography.Text type="secondary">and {parts.length - few.length} more</Typography.Text>
      )}
    </div>
  );
}

function Choice({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <Flex vertical gap={6}>
      <Typography.Text strong>{label}</Typography.Text>
      {children}
    </Flex>
  );
}

/** What came of scheduling, with clocks that are off. */
function ScheduledNote({ due }: { due: Scheduled }) {
  const off = (due.clocks ?? []).filter((c) => c.off || c.trouble);
  return (
    <Alert
      type={off.length > 0 ? "warning" : "success"}
      showIcon
      style={{ marginBottom: 8 }}
      title={`On the schedule: it goes on hold at ${whenIn(due.at, due.zone)}`}
      description={off.map((c) => (
        <div key={c.device}>
          Clock of {c.device}:{" "}
          {c.trouble ?? `${span(c.aheadSeconds)} ${c.aheadSeconds > 0 ? "ahead of" : "behind"} this service's`}
        </div>
      ))}
    />
  );
}
