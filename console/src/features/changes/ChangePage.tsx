import { Alert, Button, Card, Col, Flex, Row, Space, Spin, Tag, Typography } from "antd";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Change, DiffLine, Scheduled, PartPreview, Preview, Session } from "../../lib/documents";
import { useUndo } from "../history/queries";
import { BroughtBack } from "../history/BroughtBack";
import { StateTag } from "../../parts/StateTag";
import { Steps } from "../record/Steps";
import { ReportLinks } from "../record/ReportLinks";
import { Trouble } from "../../parts/Trouble";
import { useChange, useDesk, usePreview, useStage, useUnstage } from "./queries";
import { useUnschedule } from "../schedule/queries";
import { span, when, whenIn } from "../../lib/time";
import { Approvals } from "./Approvals";
import { CommitForm } from "./CommitForm";
import { Coworkers } from "./Coworkers";
import { Expected } from "../traffic/Expected";
import { EditList, PartList } from "./PartList";
import { PartView } from "./PartView";
import { Settle } from "./Settle";
import { StagePanel } from "./StagePanel";
import { Verdicts } from "./Verdicts";
import type { Remedies } from "./Verdicts";
import { may } from "../../lib/may";

const editable = new Set(["draft", "failed", "reverted"]);

/** What the reason of a state is a reason for. */
const what: Partial<Record<string, string>> = {
  failed: "It failed; nothing of it is on any device",
  draft: "It was not begun",
  reverted: "It was reverted",
  partly: "Its devices do not all hold the same",
  unsettled: "How it ended is not known",
};

/** What somebody else changed on the devices of a change while it was on hold. */
function Meanwhile({ change }: { change: Change }) {
  const back = change.state === "reverted" || change.state === "partly";
  return (change.meanwhile ?? []).map((o) => (
    <Alert
      key={o.number}
      type="warning"
      showIcon
      style={{ marginBottom: 12 }}
      title={`While it was on hold, somebody else changed ${String(o.places)} ${o.places === 1 ? "place" : "places"} of ${o.device}`}
      description={
        <>
          {o.who}.{" "}
          {back && o.state === "open" && "It may have been lost when the change was reverted; it can be staged again. "}
          <Link to={`/outside?number=${String(o.number)}`}>See it and decide</Link>
        </>
      }
    />
  ));
}

/** A change's desk: what is staged, what it does, what is wrong, the next step. */
export function ChangePage({ session }: { session: Session }) {
  const number = Number(useParams().number);
  const [search, setSearch] = useSearchParams();
  const [context, setContext] = useState(2);
  const [validate, setValidate] = useState<string>();
  const change = useChange(number);
  const updated = change.data?.updated;
  const { data, error, isPending, refetch } = usePreview(number, updated, {
    context,
    validate: validate !== undefined && validate === updated,
  });
  if (change.error) return <Trouble error={change.error} />;
  if (isPending || !change.data)
    return (
      <Spin description="Reading the devices…" size="large">
        <div style={{ minHeight: 200 }} />
      </Spin>
    );
  if (!data) return <Trouble error={error} />;
  const now = change.data;
  const mine =
    (now.author === session.account || (now.coworkers ?? []).includes(session.account)) && may(session, "stage");
  const open = mine && editable.has(now.state);
  const part = data.parts.find((p) => p.device === search.get("device")) ?? data.parts[0];
  const choose = (device: string) => {
    setSearch({ device }, { replace: true });
  };
  return (
    <>
      <Heading change={now} session={session} open={open} />
      <Trouble error={error} />
      {now.reason && (
        <Alert
          style={{ marginBottom: 12 }}
          showIcon
          type={now.state === "failed" ? "error" : "warning"}
          title={what[now.state] ?? "It reverts"}
          description={<span style={{ whiteSpace: "pre-wrap" }}>{now.reason}</span>}
        />
      )}
      {now.state === "unsettled" && (mine || may(session, "administer")) && <Settle change={now} />}
      <Meanwhile change={now} />
      {now.scheduled && <OnSchedule due={now.scheduled} mine={mine || may(session, "administer")} />}
      {open && <StagePanel number={number} chosen={part?.device} />}
      {!part && <Alert type="info" showIcon title="The change is empty: nothing is staged." />}
      {part && (
        <Desk
          part={part}
          preview={data}
          change={now}
          open={open}
          choose={choose}
          context={context}
          setContext={setContext}
          validate={() => {
            setValidate(updated);
          }}
        />
      )}
      <Expected preview={data} open={open} />
      <Approvals preview={data} session={session} mine={mine} />
      {now.commit && <Standings change={now} />}
      <Space style={{ marginTop: 12 }}>
        <ReportLinks path={`/changes/${String(number)}/report`} />
        {now.commit && <Link to={`/commits?change=${String(number)}`}>Its commits</Link>}
      </Space>
      {now.state === "confirmed" && may(session, "stage") && <Undo number={number} />}
      {open && (
        <CommitForm
          preview={data}
          again={() => {
            void refetch();
          }}
        />
      )}
    </>
  );
}

/** Takes a kept change back, in a change of its own. */
function Undo({ number }: { number: number }) {
  const undo = useUndo();
  return (
    <Card size="small" style={{ marginTop: 12 }}>
      <Space>
        <Button
          loading={undo.isPending}
          onClick={() => {
            undo.mutate(number);
          }}
        >
          Undo this change…
        </Button>
        <Typography.Text type="secondary">
          Opens a change that undoes it, and nothing that came after it.
        </Typography.Text>
      </Space>
      <Trouble error={undo.error} />
      <BroughtBack doc={undo.data} />
    </Card>
  );
}

interface DeskProps {
  part: PartPreview;
  preview: Preview;
  change: Change;
  open: boolean;
  choose: (device: string) => void;
  context: number;
  setContext: (n: number) => void;
  validate: () => void;
}

/** Devices and edits on one side, the difference in the middle, verdicts beside it. */
function Desk({ part, preview, change, open, choose, context, setContext, validate }: DeskProps) {
  const unstage = useUnstage(change.number);
  const stage = useStage(change.number);
  const desk = useDesk(change.number);
  const remedies: Remedies = {
    fix: (fix) => {
      stage.mutate({
        devices: [part.device],
        op: fix.edit,
        path: fix.path,
        ...(fix.value === undefined ? {} : { value: fix.value }),
      });
    },
    decide: (path, keep) => {
      desk.mutate({ decide: { device: part.device, path, keep } });
    },
    rebase: () => {
      desk.mutate({ rebase: [part.device] });
    },
    validate,
    busy: desk.isPending,
  };
  const takeBack = (line: DiffLine) => {
    unstage.mutate({ device: part.device, path: line.path ?? "" });
  };
  const ahead = preview.against === "running";
  return (
    <>
      <Trouble error={unstage.error ?? stage.error ?? desk.error} />
      <Row gutter={12} wrap={false} style={{ marginBottom: 12 }}>
        <Col flex="250px">
          <Card size="small">
            <PartList parts={preview.parts} chosen={part.device} choose={choose} />
            <EditList
              edits={part.edits}
              onTakeBack={
                open
                  ? (id) => {
                      unstage.mutate({ id });
                    }
                  : undefined
              }
            />
          </Card>
        </Col>
        <Col flex="auto" style={{ minWidth: 0 }}>
          <Card size="small">
            <PartView
              key={part.device}
              part={part}
              preview={preview}
              updated={change.updated}
              context={context}
              setContext={setContext}
              onTakeBack={open ? takeBack : undefined}
            />
          </Card>
        </Col>
        {ahead && (
          <Col flex="320px">
            <Verdicts part={part} remedies={open ? remedies : undefined} />
          </Col>
        )}
      </Row>
    </>
  );
}

function Heading({ change, session, open }: { change: Change; session: Session; open: boolean }) {
  return (
    <Flex justify="space-between" align="start" style={{ marginBottom: 12 }}>
      <div>
        <Space align="center" wrap>
          <Typography.Title level={3} style={{ margin: 0 }}>
            Change {change.number}: {change.title}
          </Typography.Title>
          <StateTag state={change.state} />
        </Space>
        <div>
          <Typography.Text type="secondary">
            by {change.author}, opened {when(change.opened)}
            {change.ticket && `, ticket ${change.ticket}`}
          </Typography.Text>
          {(change.coworkers ?? []).map((a) => (
            <Tag key={a} style={{ marginLeft: 8 }}>
              with {a}
            </Tag>
          ))}
        </div>
      </div>
      <Coworkers change={change} session={session} open={open} />
    </Flex>
  );
}

function Standings({ change }: { change: Change }) {
  if (!change.commit) return null;
  return (
    <Card size="small" title="The last commit, device by device" style={{ marginBottom: 12 }}>
      <Steps commit={change.commit} kept={change.state === "confirmed"} />
      <Typography.Text type="secondary">
        committed by {change.commit.actor} at {when(change.commit.started)}, on hold for{" "}
        {span(change.commit.holdSeconds)}
        {change.commit.by && `, decided by ${change.commit.by}`}
      </Typography.Text>
    </Card>
  );
}

function OnSchedule({ due, mine }: { due: Scheduled; mine: boolean }) {
  const off = useUnschedule();
  return (
    <>
      <Trouble error={off.error} />
      <Alert
        type="info"
        showIcon
        style={{ marginBottom: 12 }}
        title={`On the schedule: goes on hold at ${whenIn(due.at, due.zone)}`}
        description="It is checked again then. While it waits it cannot be edited or committed."
        action={
          mine && (
            <Button
              size="small"
              loading={off.isPending}
              onClick={() => {
                off.mutate(due.id);
              }}
            >
              Take it off
            </Button>
          )
        }
      />
    </>
  );
}
