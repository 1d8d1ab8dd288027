import { Alert, Button, Card, Col, Flex, Row, Space, Spin, Typography } from "antd";
import { useParams } from "react-router";
import type { Change, Due, PartPreview, Preview, Session } from "../api";
import { Difference } from "../parts/Difference";
import { Groups } from "../parts/Groups";
import { StateTag } from "../parts/StateTag";
import { Steps } from "../parts/Steps";
import { Trouble } from "../parts/Trouble";
import { useChange, usePreview, useStage, useUnschedule, useUnstage } from "../queries";
import { span, when, whenIn } from "../time";
import { CommitForm } from "./CommitForm";
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
          title={now.state === "failed" ? "It failed; nothing of it is on any device" : now.state === "draft" ? "It was not begun" : "It went back"}
          description={<span style={{ whiteSpace: "pre-wrap" }}>{now.reason}</span>}
        />
      )}
      {now.due && <OnSchedule due={now.due} mine={mine || session.role === "admin"} />}
      {open && <StageForm number={number} devices={now.devices} />}
      {data.parts.length === 0 && <Alert type="info" showIcon title="The change is empty: nothing is staged." />}
      {data.parts.map((p) => <Part key={p.device} part={p} preview={data} open={open} />)}
      {now.commit && <Standings change={now} />}
      {open && <CommitForm preview={data} again={() => { void refetch(); }} />}
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
  if (!change.commit) return null;
  return (
    <Card size="small" title="The last commit, device by device" style={{ marginBottom: 16 }}>
      <Steps commit={change.commit} kept={change.state === "kept"} />
      <Typography.Text type="secondary">
        committed by {change.commit.actor} at {when(change.commit.started)}, on hold for {span(change.commit.holdSeconds)}{change.commit.by && `, decided by ${change.commit.by}`}
      </Typography.Text>
    </Card>
  );
}

function OnSchedule({ due, mine }: { due: Due; mine: boolean }) {
  const off = useUnschedule();
  return (
    <>
      <Trouble error={off.error} />
      <Alert
        type="info" showIcon style={{ marginBottom: 16 }} title={`On the schedule: goes on hold at ${whenIn(due.at, due.zone)}`}
        description="It is checked again then. While it waits it cannot be edited or committed."
        action={mine && <Button size="small" loading={off.isPending} onClick={() => { off.mutate(due.id); }}>Take it off</Button>}
      />
    </>
  );
}
