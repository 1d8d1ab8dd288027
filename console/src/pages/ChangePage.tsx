import { Alert, Button, Card, Col, Flex, InputNumber, Popconfirm, Row, Select, Space, Spin, Typography, theme } from "antd";
import { useState } from "react";
import { useParams } from "react-router";
import type { Change, PartPreview, Preview, Session } from "../api";
import { Difference } from "../parts/Difference";
import { Groups } from "../parts/Groups";
import { StateTag } from "../parts/StateTag";
import { Trouble } from "../parts/Trouble";
import { useChange, useCommit, usePreview, useSay, useStage, useUnstage } from "../queries";
import { when } from "../time";
import { StageForm } from "./StageForm";
import { Verdicts } from "./Verdicts";

const editable = new Set(["draft", "failed", "reverted"]);

/** A change's desk: what is staged, what it does, what is wrong, the next step. */
export function ChangePage({ session }: { session: Session }) {
  const number = Number(useParams().number);
  const change = useChange(number);
  const { data, error, isPending, refetch } = usePreview(number, change.data?.updated);
  if (change.error) return <Trouble error={change.error} />;
  if (isPending || !change.data) return <Spin description="Reading the devices…" size="large"><div style={{ minHeight: 200 }} /></Spin>;
  if (!data) return <Trouble error={error} />;
  const now = change.data;
  const mine = now.author === session.account && session.role !== "viewer";
  const open = mine && editable.has(now.state);
  return (
    <>
      <Heading change={now} />
      <Trouble error={error} />
      {now.reason && (
        <Alert
          style={{ marginBottom: 16 }} showIcon type={now.state === "failed" ? "error" : "warning"}
          title={now.state === "failed" ? "It failed; nothing of it is on any device" : "It went back"}
          description={<span style={{ whiteSpace: "pre-wrap" }}>{now.reason}</span>}
        />
      )}
      {open && <StageForm number={number} devices={now.devices} />}
      {data.parts.length === 0 && <Alert type="info" showIcon title="The change is empty: nothing is staged." />}
      {data.parts.map((p) => <Part key={p.device} part={p} preview={data} open={open} />)}
      {now.commit && <Standings change={now} />}
      {open && <NextStep preview={data} again={() => { void refetch(); }} />}
    </>
  );
}

function Heading({ change }: { change: Change }) {
  return (
    <div style={{ marginBottom: 16 }}>
      <Space align="center" wrap>
        <Typography.Title level={3} style={{ margin: 0 }}>Change {change.number}: {change.title}</Typography.Title>
        <StateTag state={change.state} />
      </Space>
      <div>
        <Typography.Text type="secondary">
          by {change.author}, opened {when(change.opened)}{change.ticket && `, ticket ${change.ticket}`}
        </Typography.Text>
      </div>
    </div>
  );
}

function Part({ part, preview, open }: { part: PartPreview; preview: Preview; open: boolean }) {
  const unstage = useUnstage(preview.change.number);
  const stage = useStage(preview.change.number);
  const where = preview.against === "record" ? "as committed" : part.read ? "against running as just read" : `against revision ${String(part.base)}, the last known`;
  return (
    <Card size="small" title={part.device} extra={<Typography.Text type="secondary">{where}</Typography.Text>} style={{ marginBottom: 16 }}>
      <Trouble error={unstage.error ?? stage.error} />
      <Row gutter={20}>
        <Col xs={24} lg={preview.against === "running" ? 16 : 24}>
          {part.groups && <Groups groups={part.groups} lines={part.lines} />}
          {part.groups ? null : part.count > 0 ? <Difference lines={part.lines} /> : <Typography.Text type="secondary">{preview.against === "record" ? "Nothing was sent to it yet." : "Nothing would change here."}</Typography.Text>}
          <div style={{ marginTop: 14 }}>
            {part.edits.map((e) => (
              <Flex key={e.id} gap={8} align="baseline" wrap>
                <Typography.Text type="secondary" style={{ fontSize: 12 }}>
                  edit {e.id}: {e.op} <code>{e.path}</code>{e.value && <> <code>{e.value}</code></>} ({e.actor}, {when(e.at)})
                </Typography.Text>
                {open && <Button size="small" type="link" onClick={() => { unstage.mutate(e.id); }}>take back</Button>}
              </Flex>
            ))}
          </div>
        </Col>
        {preview.against === "running" && <Col xs={24} lg={8}><Verdicts part={part} onMend={open ? (fix) => { stage.mutate({ device: part.device, op: fix.edit, path: fix.path, value: fix.value }); } : undefined} /></Col>}
      </Row>
    </Card>
  );
}

function Standings({ change }: { change: Change }) {
  return (
    <Card size="small" title="The last commit, device by device" style={{ marginBottom: 16 }}>
      {change.commit?.devices.map((d) => (
        <div key={d.name}>
          <strong>{d.name}</strong>: {d.standing}
          {change.state === "kept" && d.settled && (d.saved ? ", saved to startup" : ", not saved to startup")}
          {d.unreachable && ", unreachable"}{d.said && `: ${d.said}`}
        </div>
      ))}
      <Typography.Text type="secondary">
        committed by {change.commit?.actor} at {when(change.commit?.started)}{change.commit?.by && `, decided by ${change.commit.by}`}
      </Typography.Text>
    </Card>
  );
}

const units = [{ value: 1, label: "seconds" }, { value: 60, label: "minutes" }, { value: 3600, label: "hours" }];

/** The bar at the foot that is always the next step. */
function NextStep({ preview, again }: { preview: Preview; again: () => void }) {
  const { token } = theme.useToken();
  const number = preview.change.number;
  const commit = useCommit(number);
  const say = useSay(number);
  const [amount, setAmount] = useState(10);
  const [unit, setUnit] = useState(60);
  return (
    <div role="region" aria-label="next step" style={{ position: "sticky", bottom: 0, background: token.colorBgElevated, border: `1px solid ${token.colorBorder}`, borderRadius: 6, padding: 14 }}>
      <Trouble error={commit.error ?? say.error} />
      <Flex align="center" gap={12} wrap>
        <div style={{ flex: 1 }}>
          <Typography.Text strong>{preview.ready ? "Ready to commit on hold." : preview.empty ? "Nothing to commit." : "Not ready: see what must be mended first."}</Typography.Text>{" "}
          <Typography.Text type="secondary">It goes back by itself unless you keep it in time.</Typography.Text>
        </div>
        <Popconfirm title="Abandon this change?" okText="Abandon" onConfirm={() => { say.mutate("drop"); }}>
          <Button type="text">Abandon</Button>
        </Popconfirm>
        <Button onClick={again}>Preview again</Button>
        <Space.Compact>
          <InputNumber aria-label="hold" min={1} value={amount} onChange={(v) => { setAmount(v ?? 10); }} style={{ width: 80 }} />
          <Select aria-label="unit of the hold" value={unit} onChange={setUnit} options={units} style={{ width: 110 }} />
        </Space.Compact>
        <Button type="primary" disabled={!preview.ready} loading={commit.isPending} onClick={() => { commit.mutate(amount * unit); }}>
          Commit on hold
        </Button>
      </Flex>
    </div>
  );
}
