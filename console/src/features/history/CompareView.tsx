import { AutoComplete, Button, Card, Flex, Input, InputNumber, Segmented, Typography, Upload } from "antd";
import { useMemo, useState } from "react";
import type { Session } from "../../lib/documents";
import { useComparison, useImport, useRestore, useRevisions, useSnapshots } from "./queries";
import { BroughtBack } from "./BroughtBack";
import { Difference } from "../../parts/Difference";
import { Sides } from "../../parts/Sides";
import { Trouble } from "../../parts/Trouble";
import { whenShort } from "../../lib/time";
import { CarryFrom } from "../devices/CarryFrom";
import { may } from "../../lib/may";
import { disabledIf } from "../../lib/disabled";

export interface Pair {
  a: string;
  b: string;
}

interface Props {
  device: string;
  session: Session;
  pair: Pair;
  setPair: (p: Pair) => void;
}

/** Any two configurations of a device, or of two, side by side; parts of one brought back. */
export function CompareView({ device, session, pair, setPair }: Props) {
  const [path, setPath] = useState("");
  const [context, setContext] = useState(1);
  const [look, setLook] = useState("side by side");
  const [picked, setPicked] = useState(new Set<string>());
  const whole = (place: string) => (place.includes("@") ? place : `${device}@${place}`);
  const found = useComparison(whole(pair.a), whole(pair.b), path, context);
  const restore = useRestore();
  const choose = (p: Pair) => {
    setPicked(new Set());
    restore.reset();
    setPair(p);
  };
  const mayPick = may(session, "stage") && pair.b === "running" && !pair.a.includes("@");
  const pick = (p: string, on: boolean) => {
    const next = new Set(picked);
    if (on) next.add(p);
    else next.delete(p);
    setPicked(next);
  };
  const count = found.data?.count ?? 0;
  return (
    <Card size="small" title="Compare, and bring back">
      <Flex gap={8} wrap align="center" style={{ marginBottom: 10 }}>
        <Place
          label="one side"
          device={device}
          value={pair.a}
          onChange={(a) => {
            choose({ ...pair, a });
          }}
        />
        <Typography.Text>with</Typography.Text>
        <Place
          label="other side"
          device={device}
          value={pair.b}
          onChange={(b) => {
            choose({ ...pair, b });
          }}
        />
        <Input.Search
          aria-label="only below"
          placeholder="only below a path"
          onSearch={setPath}
          style={{ width: 220 }}
        />
        <InputNumber
          aria-label="context"
          min={0}
          max={10000}
          value={context}
          onChange={(v) => {
            setContext(v ?? 1);
          }}
          prefix="±"
          style={{ width: 90 }}
        />
        <Segmented
          size="small"
          aria-label="look of the difference"
          value={look}
          onChange={setLook}
          options={["side by side", "one column"]}
        />
      </Flex>
      <Trouble error={found.error} />
      {found.data && count === 0 && <Typography.Text type="secondary">No difference.</Typography.Text>}
      {found.data && count > 0 && look === "side by side" && (
        <Sides
          lines={found.data.lines}
          old={found.data.a}
          now={found.data.b}
          picked={picked}
          onPick={mayPick ? pick : undefined}
        />
      )}
      {found.data && count > 0 && look === "one column" && <Difference lines={found.data.lines} />}
      {mayPick && count > 0 && (
        <Flex gap={8} style={{ marginTop: 12 }} align="center" wrap>
          <Button
            type="primary"
            {...disabledIf(picked.size === 0)}
            loading={restore.isPending}
            onClick={() => {
              restore.mutate({ from: pair.a, devices: [device], paths: [...picked] });
            }}
          >
            Bring back what is picked ({picked.size})
          </Button>
          <Button
            loading={restore.isPending}
            onClick={() => {
              restore.mutate({ from: pair.a, devices: [device] });
            }}
          >
            Bring back all of {pair.a}
          </Button>
          <Typography.Text type="secondary">It is staged in a change, and touches nothing yet.</Typography.Text>
        </Flex>
      )}
      <Trouble error={restore.error} />
      <BroughtBack doc={restore.data} />
      {may(session, "stage") && <FromFile device={device} />}
      {may(session, "stage") && <CarryFrom device={device} />}
    </Card>
  );
}

/** A configuration from a file, staged exactly as it is there. */
function FromFile({ device }: { device: string }) {
  const load = useImport();
  return (
    <div style={{ marginTop: 16 }}>
      <Upload
        showUploadList={false}
        accept=".xml,.json,.txt,.outline,*/*"
        beforeUpload={(file) => {
          void file.text().then((text) => {
            load.mutate({ device, name: file.name, text });
          });
          return false;
        }}
      >
        <Button size="small" loading={load.isPending}>
          From a file…
        </Button>
      </Upload>{" "}
      <Typography.Text type="secondary">
        XML, JSON or outline, an instance data file or not: the format is detected automatically. A bundle is imported
        on the page of snapshots.
      </Typography.Text>{" "}
      <a href={`/api/v1/export?device=${encodeURIComponent(device)}`} download>
        Download what runs
      </a>
      <Trouble error={load.error} />
      <BroughtBack doc={load.data} />
    </div>
  );
}

/** A place, chosen from those there are or written. */
function Place({
  label,
  device,
  value,
  onChange,
}: {
  label: string;
  device: string;
  value: string;
  onChange: (v: string) => void;
}) {
  const revisions = useRevisions(device, "running");
  const startups = useRevisions(device, "startup");
  const snapshots = useSnapshots(device);
  const [text, setText] = useState<string>();
  const options = useMemo(
    () => [
      { label: "now", options: ["running", "startup", "candidate"].map((v) => ({ value: v, label: v })) },
      {
        label: "snapshots",
        options: (snapshots.data ?? []).slice(0, 50).map((s) => ({
          value: `snapshot:${String(s.number)}`,
          label: `snapshot:${String(s.number)}  ${s.name}, ${whenShort(s.at)}`,
        })),
      },
      {
        label: "revisions",
        options: (revisions.data ?? []).slice(0, 200).map((r) => ({
          value: `rev:${String(r.number)}`,
          label: `rev:${String(r.number)}  ${whenShort(r.at)}  ${r.title ?? r.source}`,
        })),
      },
      {
        label: "startups",
        options: (startups.data ?? []).slice(0, 50).map((r) => ({
          value: `startup:${String(r.number)}`,
          label: `startup:${String(r.number)}  ${whenShort(r.at)}`,
        })),
      },
    ],
    [revisions.data, snapshots.data, startups.data],
  );
  return (
    <AutoComplete
      aria-label={label}
      style={{ width: 250 }}
      popupMatchSelectWidth={420}
      options={options}
      value={text ?? value}
      onChange={setText}
      onSelect={(v: string) => {
        setText(undefined);
        onChange(v);
      }}
      onBlur={() => {
        if (text && text !== value) onChange(text);
        setText(undefined);
      }}
    />
  );
}
