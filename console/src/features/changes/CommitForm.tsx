import { Alert, Button, Flex, Input, InputNumber, Modal, Popconfirm, Select, Space, Typography, theme } from "antd";
import { useState } from "react";
import type { NewCommit, PartPreview, Preview, Scheduled } from "../../lib/documents";
import { Foot } from "../../parts/Foot";
import { Trouble } from "../../parts/Trouble";
import { CommitHow, orderOf, usual, type How } from "./CommitHow";
import { useCommit, useSay, useScheduleCommit } from "./queries";
import { ownZone, span, whenIn } from "../../lib/time";
import { disabledIf } from "../../lib/disabled";

const units = [
  { value: 1, label: "seconds" },
  { value: 60, label: "minutes" },
  { value: 3600, label: "hours" },
  { value: 86400, label: "days" },
];

/** The line at the foot that is always the next step: how the change is committed, in plain words. */
export function CommitForm({ preview, again }: { preview: Preview; again: () => void }) {
  const { token } = theme.useToken();
  const number = preview.change.number;
  const commit = useCommit(number);
  const schedule = useScheduleCommit(number);
  const say = useSay(number);
  const [how, setHow] = useState(usual);
  const [choosing, setChoosing] = useState(false);
  const [minding, setMinding] = useState(false);
  const set = <K extends keyof How>(key: K, value: How[K]) => {
    setHow((was) => ({ ...was, [key]: value }));
  };
  const lone = (preview.approval?.missing ?? 0) > 0 && (preview.approval?.emergency ?? false);
  const stuck =
    preview.empty ||
    preview.parts.some((p) => p.blocker) ||
    (preview.expected ?? []).some((e) => !e.delivered) ||
    (preview.beside ?? []).some((s) => !s.acceptedBy);
  const emergency = lone && !stuck && how.start === "now";
  const mind = emergency || preview.parts.some((p) => p.helpless === true || cautionOf(p) !== "");
  const go = (words: Partial<NewCommit>) => {
    const order = { ...orderOf(how), ...(preview.digest && { preview: preview.digest }), ...words };
    if (how.start === "at")
      schedule.mutate({ at: new Date(how.at).toISOString(), zone: ownZone(), latenessSeconds: 60, commit: order });
    else commit.mutate(order);
  };
  const verb = { now: "Commit on hold", ahead: "Prepare, and wait", at: "Put on the schedule" }[how.start];
  return (
    <Foot>
      <div
        role="region"
        aria-label="next step"
        style={{ background: token.colorBgElevated, borderTop: `1px solid ${token.colorBorder}` }}
      >
        <Trouble error={commit.error ?? schedule.error ?? say.error} />
        {schedule.data && <ScheduledNote due={schedule.data} />}
        <div className="foot-line">
          <span className="foot-words step-words">
            <strong>
              {preview.ready
                ? "Ready to commit on hold."
                : preview.empty
                  ? "Nothing to commit."
                  : "Not ready: see what must be fixed first."}
            </strong>{" "}
            <Typography.Text type="secondary">
              {preview.ready && preview.digest && (
                <>
                  On hold in about {span(preview.estimateSeconds ?? 0)}: this preview, <code>{preview.digest}</code>, or
                  it is refused.
                </>
              )}
            </Typography.Text>
          </span>
          <Popconfirm
            title="Abandon this change?"
            description="What is staged goes; nothing of it is on any device."
            okText="Abandon"
            onConfirm={() => {
              say.mutate({ word: "drop" });
            }}
          >
            <Button type="text">Abandon</Button>
          </Popconfirm>
          <Button onClick={again}>Preview again</Button>
          <Button
            onClick={() => {
              setChoosing(true);
            }}
          >
            How…
          </Button>
          <Space.Compact>
            <InputNumber
              aria-label="hold"
              min={1}
              value={how.amount}
              onChange={(v) => {
                set("amount", v ?? 10);
              }}
              style={{ width: 64 }}
            />
            <Select
              aria-label="unit of the hold"
              value={how.unit}
              onChange={(v: number) => {
                set("unit", v);
              }}
              options={units}
              style={{ width: 98 }}
            />
          </Space.Compact>
          <Button
            type="primary"
            {...disabledIf(!(preview.ready || emergency) || (how.start === "at" && !how.at))}
            loading={commit.isPending || schedule.isPending}
            onClick={() => {
              if (mind) setMinding(true);
              else go({});
            }}
          >
            {emergency ? "Commit as an emergency…" : mind ? `${verb}…` : verb}
          </Button>
        </div>
        <CommitHow
          how={how}
          set={set}
          parts={preview.parts}
          shown={choosing}
          close={() => {
            setChoosing(false);
          }}
        />
        <Mind
          preview={preview}
          emergency={emergency}
          verb={verb}
          shown={minding}
          close={() => {
            setMinding(false);
          }}
          go={(words) => {
            setMinding(false);
            go(words);
          }}
        />
      </div>
    </Foot>
  );
}

/** What is to be known of a part before it is committed, "" for nothing. */
const cautionOf = (p: PartPreview): string =>
  p.count === 0
    ? ""
    : p.untried
      ? `reverting is not tested: ${p.untried}`
      : (p.risk ??
        p.forecasts
          ?.filter((f) => f.answer === "cuts")
          .map((f) => `it would cut off ${f.device}: ${f.because}`)
          .join("; ") ??
        "");

/** What has to be known, and said, before it is committed. */
function Mind({
  preview,
  emergency,
  verb,
  shown,
  close,
  go,
}: {
  preview: Preview;
  emergency: boolean;
  verb: string;
  shown: boolean;
  close: () => void;
  go: (words: Partial<NewCommit>) => void;
}) {
  const [name, setName] = useState("");
  const [reason, setReason] = useState("");
  const helpless = preview.parts.filter((p) => p.helpless);
  const wanted = helpless.map((p) => p.device).join(" ");
  const unsaid = (helpless.length > 0 && name.trim() !== wanted) || (emergency && !reason.trim());
  return (
    <Modal
      title={`Commit change ${String(preview.change.number)}: mind this first`}
      open={shown}
      destroyOnHidden
      onCancel={close}
      okText={emergency ? "Commit as an emergency" : verb}
      okButtonProps={disabledIf(unsaid)}
      onOk={() => {
        go({
          ...(emergency && { emergency: reason.trim() }),
          ...(helpless.length > 0 && { cutOff: helpless.map((p) => p.device) }),
        });
      }}
    >
      <Flex vertical gap={8}>
        {preview.parts
          .filter((p) => cautionOf(p) !== "")
          .map((p) => (
            <Alert
              key={p.device}
              type={p.untried ? "error" : "warning"}
              showIcon
              title={`${p.device}: ${cautionOf(p)}`}
            />
          ))}
        {helpless.length > 0 && (
          <Alert
            type="error"
            showIcon
            title={`${helpless.map((p) => p.device).join(", ")} would be cut off, and nobody could revert it. If that is meant, write the name:`}
            description={
              <Input
                aria-label="name of what is cut off"
                value={name}
                onChange={(e) => {
                  setName(e.target.value);
                }}
                placeholder={wanted}
              />
            }
          />
        )}
        {emergency && (
          <Alert
            type="error"
            showIcon
            title="Others have to approve it first. In an emergency it goes without them, for a reason that stands out until somebody looked at it:"
            description={
              <Input
                aria-label="reason of the emergency"
                value={reason}
                onChange={(e) => {
                  setReason(e.target.value);
                }}
              />
            }
          />
        )}
      </Flex>
    </Modal>
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
