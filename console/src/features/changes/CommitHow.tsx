import { Drawer, Flex, Input, InputNumber, Radio, Select, Typography, theme } from "antd";
import type { ReactNode } from "react";
import type { NewCommit, PartPreview } from "../../lib/documents";
import { ownZone } from "../../lib/time";

type Start = "now" | "ahead" | "at";
type Save = "set" | "yes" | "no";

/** How a commit is wanted, as it is filled in. */
export interface How {
  amount: number;
  unit: number;
  first: string[];
  probes: string;
  within: number;
  byProbes: boolean;
  revertOnProbe: boolean;
  save: Save;
  start: Start;
  at: string;
}

/** As most commits are. */
export const usual: How = {
  amount: 10,
  unit: 60,
  first: [],
  probes: "",
  within: 10,
  byProbes: false,
  revertOnProbe: false,
  save: "set",
  start: "now",
  at: "",
};

/** What the service is asked for that. */
export const orderOf = (how: How): NewCommit => ({
  holdSeconds: how.amount * how.unit,
  ...(how.first.length > 0 && { waves: [how.first] }),
  probes: how.probes
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean),
  probeWithinSeconds: how.within,
  byProbes: how.byProbes,
  revertOnProbe: how.revertOnProbe,
  ...(how.save !== "set" && { save: how.save === "yes" }),
  ...(how.start === "ahead" && { aheadSeconds: 2 * 3600 }),
});

interface Props {
  how: How;
  set: <K extends keyof How>(key: K, value: How[K]) => void;
  parts: PartPreview[];
  shown: boolean;
  close: () => void;
}

/** When, which device first, probes, saving. */
export function CommitHow({ how, set, parts, shown, close }: Props) {
  const { token } = theme.useToken();
  return (
    <Drawer title="How it is committed" open={shown} onClose={close} size={420}>
      <Flex gap={20} vertical>
        <Choice label="When">
          <Radio.Group
            value={how.start}
            onChange={(e) => {
              set("start", e.target.value as Start);
            }}
            vertical
            options={[
              { value: "now", label: "now" },
              { value: "ahead", label: "prepare now, commit at my word (within 2 h)" },
              { value: "at", label: `at a time (${ownZone()})` },
            ]}
          />
          {how.start === "at" && (
            <Input
              aria-label="time"
              type="datetime-local"
              value={how.at}
              onChange={(e) => {
                set("at", e.target.value);
              }}
            />
          )}
        </Choice>
        {parts.length > 1 && (
          <Choice label="First, and proved before the others">
            <Select
              aria-label="first"
              mode="multiple"
              allowClear
              value={how.first}
              onChange={(v: string[]) => {
                set("first", v);
              }}
              options={parts.map((p) => ({ value: p.device, label: p.device }))}
              style={{ width: "100%" }}
              placeholder="all at once"
            />
          </Choice>
        )}
        <Choice label="Probes, one a line">
          <Input.TextArea
            aria-label="probes"
            rows={3}
            value={how.probes}
            onChange={(e) => {
              set("probes", e.target.value);
            }}
            placeholder={"tcp 192.0.2.12:22\nstate DEVICE PATH VALUE\nprogram NAME"}
            style={{ width: "100%", fontFamily: token.fontFamilyCode }}
          />
          <span>
            may fail for the first{" "}
            <InputNumber
              aria-label="seconds a probe may fail"
              size="small"
              min={0}
              max={600}
              value={how.within}
              onChange={(v) => {
                set("within", v ?? 10);
              }}
              style={{ width: 64 }}
            />{" "}
            s
          </span>
        </Choice>
        <Choice label="Who confirms">
          <Radio.Group
            value={how.byProbes}
            onChange={(e) => {
              set("byProbes", e.target.value as boolean);
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
            value={how.revertOnProbe}
            onChange={(e) => {
              set("revertOnProbe", e.target.value as boolean);
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
            value={how.save}
            onChange={(e) => {
              set("save", e.target.value as Save);
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
    </Drawer>
  );
}

function Choice({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Flex vertical gap={6}>
      <Typography.Text strong>{label}</Typography.Text>
      {children}
    </Flex>
  );
}
