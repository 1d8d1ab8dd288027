import { Alert, Button, Card, Flex, Space, Spin, Tabs, Tag, Typography } from "antd";
import { useState } from "react";
import type { ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Change, Scheduled, PartPreview, Preview, Session } from "../../lib/documents";
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
import { TrafficEffect } from "../traffic/Traffic";
import { Expected } from "../traffic/Expected";
import { EditList, PartList, PlaceTree } from "./PartList";
import { PartView } from "./PartView";
import { Readdress } from "./Readdress";
import { Settle } from "./Settle";
import { StagePanel } from "./StagePanel";
import { Verdicts } from "./Verdicts";
import type { Remedies } from "./Remedies";
import { Verdict } from "./Verdict";
import { Foot } from "../../parts/Foot";
import { PageTitle } from "../../parts/Headings";
import { placesOf } from "../../lib/focus";
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

/** A change's desk: what it comes to, what is wrong, the difference, and then all else, each one click away. */
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
  const doing = useDeskActs(number);
  const [staging, setStaging] = useState<boolean>();
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
  const go = (to: Record<string, string>) => {
    const next = new URLSearchParams(search);
    for (const [key, value] of Object.entries(to)) {
      if (value) next.set(key, value);
      else next.delete(key);
    }
    setSearch(next, { replace: true });
  };
  const remedies = (device: string): Remedies => ({
    ...doing.remedies(device),
    validate: () => {
      setValidate(updated);
    },
  });
  const place = search.get("place") ?? "";
  const several = data.parts.length > 1;
  const places = part ? placesOf(part) : [];
  // Where there is little, all of it is seen at once; what narrows it can always be left.
  const aside = several || places.length > 2 || place !== "";
  const tabs = part
    ? views({
        part,
        preview: data,
        change: now,
        session,
        mine,
        open,
        remedies: open ? remedies(part.device) : undefined,
        difference: (
          <PartView
            key={part.device}
            part={part}
            preview={data}
            updated={now.updated}
            context={context}
            setContext={setContext}
            place={place}
            onTakeBack={
              open
                ? (line) => {
                    doing.unstage({ device: part.device, path: line.path ?? "" });
                  }
                : undefined
            }
          />
        ),
        takeBack: open
          ? (id) => {
              doing.unstage({ id });
            }
          : undefined,
      })
    : [];
  const view = tabs.find((t) => t.key === search.get("view"))?.key ?? "difference";
  // An empty change is there to be filled; what was opened for that stays open.
  if (staging === undefined) setStaging(data.parts.length === 0);
  const panel = open && (staging ?? false);
  return (
    <>
      <Heading
        change={now}
        session={session}
        open={open}
        stage={
          open && (
            <Button
              size="small"
              aria-expanded={panel}
              onClick={() => {
                setStaging(!panel);
              }}
            >
              {panel ? "Close staging" : "Stage…"}
            </Button>
          )
        }
      />
      <Trouble error={error ?? doing.error} />
      {now.reason && (
        <Alert
          style={{ marginBottom: 8 }}
          showIcon
          type={now.state === "failed" ? "error" : "warning"}
          title={what[now.state] ?? "It reverts"}
          description={<span style={{ whiteSpace: "pre-wrap" }}>{now.reason}</span>}
        />
      )}
      {now.state === "unsettled" && (mine || may(session, "administer")) && <Settle change={now} />}
      <Meanwhile change={now} />
      {now.scheduled && <OnSchedule due={now.scheduled} mine={mine || may(session, "administer")} />}
      <Verdict
        preview={data}
        choose={(device) => {
          go({ device, view: "details", place: "" });
        }}
        remedies={open ? remedies : undefined}
      />
      {panel && <StagePanel number={number} chosen={part?.device} />}
      {part && (
        <div className={`desk${aside ? "" : " alone"}`}>
          {aside && (
            <Card size="small">
              {several && (
                <PartList
                  parts={data.parts}
                  chosen={part.device}
                  choose={(device) => {
                    go({ device, place: "" });
                  }}
                />
              )}
              {(places.length > 2 || place !== "") && (
                <PlaceTree
                  part={part}
                  places={places}
                  place={place}
                  go={(to) => {
                    go({ place: to, view: "" });
                  }}
                />
              )}
            </Card>
          )}
          <Card size="small" styles={{ body: { paddingTop: 0 } }} style={{ minWidth: 0 }}>
            <Tabs
              size="small"
              activeKey={view}
              onChange={(to) => {
                go({ view: to === "difference" ? "" : to });
              }}
              items={tabs}
            />
          </Card>
        </div>
      )}
      {!part && <Approvals preview={data} session={session} mine={mine} />}
      <Space wrap>
        <ReportLinks path={`/changes/${String(number)}/report`} />
        {now.commit && <Link to={`/commits?change=${String(number)}`}>Its commits</Link>}
      </Space>
      {now.state === "confirmed" && may(session, "stage") && <Undo number={number} />}
      {!mine && data.digest && (data.approval?.missing ?? 0) > 0 && may(session, "approve") && (
        <Foot>
          <div role="region" aria-label="next step" className="foot-line foot-plain">
            <strong className="foot-words">
              {data.approval?.missing} {data.approval?.missing === 1 ? "approval is" : "approvals are"} missing.
            </strong>
            <Button
              type="primary"
              onClick={() => {
                go({ view: "approval" });
              }}
            >
              To the approval
            </Button>
          </div>
        </Foot>
      )}
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

/** What can be done on the desk beside staging. */
function useDeskActs(number: number) {
  const unstage = useUnstage(number);
  const stage = useStage(number);
  const desk = useDesk(number);
  return {
    error: unstage.error ?? stage.error ?? desk.error,
    unstage: unstage.mutate,
    remedies: (device: string): Omit<Remedies, "validate"> => ({
      fix: (fix) => {
        stage.mutate({
          devices: [device],
          op: fix.edit,
          path: fix.path,
          ...(fix.value === undefined ? {} : { value: fix.value }),
        });
      },
      decide: (path, keep) => {
        desk.mutate({ decide: { device, path, keep } });
      },
      rebase: () => {
        desk.mutate({ rebase: [device] });
      },
      busy: desk.isPending,
    }),
  };
}

interface ViewsOf {
  part: PartPreview;
  preview: Preview;
  change: Change;
  session: Session;
  mine: boolean;
  open: boolean;
  remedies: Remedies | undefined;
  difference: ReactNode;
  takeBack: ((id: number) => void) | undefined;
}

/** What there is to see of a change, each behind a tab. */
function views({ part, preview, change, session, mine, open, remedies, difference, takeBack }: ViewsOf) {
  const ahead = preview.against === "running";
  const several = preview.parts.length > 1;
  const tabs = [{ key: "difference", label: "Difference", children: difference }];
  if (ahead)
    tabs.push({
      key: "details",
      label: several ? `Details of ${part.device}` : "Details",
      children: (
        <Flex vertical gap={12}>
          <Verdicts part={part} remedies={remedies} />
          {open && <Readdress key={part.device} number={change.number} part={part} />}
        </Flex>
      ),
    });
  tabs.push({
    key: "edits",
    label: `Edits (${String(part.edits.length)})`,
    children: <EditList edits={part.edits} onTakeBack={takeBack} />,
  });
  if ((preview.expected ?? []).length > 0 || preview.parts.some((p) => p.effects?.length))
    tabs.push({
      key: "traffic",
      label: "Traffic",
      children: (
        <Flex vertical gap={8}>
          {part.effects?.map((c) => (
            <TrafficEffect key={(c.filter ?? "") + (c.interface ?? "") + (c.direction ?? "")} change={c} />
          ))}
          <Expected preview={preview} open={open} />
        </Flex>
      ),
    });
  if (preview.approval)
    tabs.push({
      key: "approval",
      label: preview.approval.missing > 0 ? `Approval (${String(preview.approval.missing)} missing)` : "Approval",
      children: <Approvals preview={preview} session={session} mine={mine} />,
    });
  if ((preview.steps ?? []).length > 0)
    tabs.push({
      key: "steps",
      label: "What a commit does",
      children: (
        <ol style={{ margin: 0, paddingLeft: 20 }}>
          {preview.steps?.map((s) => (
            <li key={s}>{s}</li>
          ))}
        </ol>
      ),
    });
  if (change.commit) tabs.push({ key: "commit", label: "Last commit", children: <Standings change={change} /> });
  return tabs;
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

function Heading({
  change,
  session,
  open,
  stage,
}: {
  change: Change;
  session: Session;
  open: boolean;
  stage: ReactNode;
}) {
  return (
    <Flex justify="space-between" align="center" wrap gap={8}>
      <Space align="center" wrap size={[10, 2]}>
        <PageTitle title={`Change ${String(change.number)}: ${change.title}`}>
          Change {change.number}: {change.title}
        </PageTitle>
        <StateTag state={change.state} />
        <Typography.Text type="secondary">
          by {change.author}, opened {when(change.opened)}
          {change.ticket && `, ticket ${change.ticket}`}
        </Typography.Text>
        {(change.coworkers ?? []).map((a) => (
          <Tag key={a}>with {a}</Tag>
        ))}
      </Space>
      <Space>
        {stage}
        <Coworkers change={change} session={session} open={open} />
      </Space>
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
