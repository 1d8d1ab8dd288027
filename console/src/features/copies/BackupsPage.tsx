import { Alert, Button, Card, Flex, Popconfirm, Progress, Space, Tag, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Session } from "../../lib/documents";
import type { Archive, Job, Standing, Copied, VerifiedArchive } from "../../lib/documents";
import {
  useArchives,
  useCopyNow,
  useJob,
  useSetArchive,
  useStanding,
  useStopJob,
  useRebuild,
  useVerifyArchive,
} from "./queries";
import { Copies } from "./Copies";
import { HostKey } from "../devices/HostKey";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { span, when } from "../../lib/time";
import { AddArchive } from "./AddArchive";
import { may, mayEverywhere } from "../../lib/may";

/** How what is saved stands, and where copies of it are. */
export function BackupsPage({ session }: { session: Session }) {
  const standing = useStanding();
  const archives = useArchives();
  return (
    <>
      <PageTitle>Backups</PageTitle>
      <Trouble error={standing.error ?? archives.error} />
      {archives.data?.length === 0 && (
        <Alert
          type="warning"
          showIcon
          style={{ marginBottom: 16 }}
          title="Nothing is copied off this machine."
          description="An administrator adds an archive: below, or with latch archive add"
        />
      )}
      <Card size="small" title="Devices" style={{ marginBottom: 16 }}>
        <Rows<Standing>
          size="small"
          rowKey="device"
          pagination={{ pageSize: 50, hideOnSinglePage: true }}
          dataSource={standing.data ?? []}
          loading={standing.isPending}
          columns={[
            {
              title: "Device",
              dataIndex: "device",
              render: (d: string) => <Link to={`/devices/${d}?view=timeline`}>{d}</Link>,
            },
            { title: "Changed", render: (_, s) => `${when(s.changed)}, revision ${String(s.revision ?? 0)}` },
            {
              title: "Saved to startup",
              render: (_, s) => (s.unsaved ? <Typography.Text type="danger">behind</Typography.Text> : when(s.saved)),
            },
            {
              title: "Copied away",
              render: (_, s) =>
                s.copy ? (
                  <>
                    {when(s.copied)}, revision {s.copy} in {s.archive}
                  </>
                ) : (
                  <Typography.Text type="secondary">never</Typography.Text>
                ),
            },
            {
              title: "",
              render: (_, s) =>
                s.behind.map((b) => (
                  <Tag key={b} color="volcano">
                    {b} behind
                  </Tag>
                )),
            },
          ]}
        />
      </Card>
      {archives.data?.map((a) => (
        <One key={a.name} archive={a} session={session} />
      ))}
      {mayEverywhere(session, "administer") && <AddArchive />}
    </>
  );
}

function One({ archive: a, session }: { archive: Archive; session: Session }) {
  const verify = useVerifyArchive();
  const rebuild = useRebuild();
  const copy = useCopyNow();
  const set = useSetArchive(a.name);
  const [id, setID] = useState<number>();
  const [listed, setListed] = useState(false);
  const begun = {
    onSuccess: (j: Job) => {
      setID(j.id);
    },
  };
  return (
    <Card
      size="small"
      title={`${a.name}: ${a.kind} ${a.place}`}
      style={{ marginBottom: 16 }}
      extra={
        may(session, "stage") && (
          <Space>
            {mayEverywhere(session, "administer") && (
              <Popconfirm
                title={`Use ${a.name} no more? What is in it stays there.`}
                okText="Retire it"
                onConfirm={() => {
                  set.mutate({ retired: true });
                }}
              >
                <Button size="small" type="text">
                  Retire…
                </Button>
              </Popconfirm>
            )}
            {mayEverywhere(session, "administer") && (
              <Popconfirm
                title={`Make devices and revisions again from ${a.name}?`}
                description="For records that were lost: what is there already stays as it is, and no device is asked."
                okText="Make them again"
                onConfirm={() => {
                  rebuild.mutate(a.name, begun);
                }}
              >
                <Button size="small" loading={rebuild.isPending}>
                  Restore from it…
                </Button>
              </Popconfirm>
            )}
            <Button
              size="small"
              loading={copy.isPending}
              onClick={() => {
                copy.mutate(a.name, begun);
              }}
            >
              Copy now
            </Button>
            <Button
              size="small"
              loading={verify.isPending}
              onClick={() => {
                verify.mutate(a.name, begun);
              }}
            >
              Read all of it back
            </Button>
          </Space>
        )
      }
    >
      <Typography.Paragraph type="secondary">
        {a.copies} {a.copies === 1 ? "copy" : "copies"}
        {a.copied ? `, up to date ${when(a.copied)}` : ""}; {a.afterChange ? "after each change" : "not after changes"}
        {a.everySeconds ? `, every ${span(a.everySeconds)}` : ""}
        {a.keepLast ? `, keeps ${String(a.keepLast)} a device` : ""}
      </Typography.Paragraph>
      <Flex vertical gap={6}>
        {!a.trusted && (
          <Alert
            type="error"
            showIcon
            title="Nobody accepted its host key yet: nothing is copied to it."
            description={
              mayEverywhere(session, "administer") ? (
                <HostKey of={{ archive: a.name }} whose="the server" />
              ) : (
                `An administrator does: latch archive trust ${a.name}`
              )
            }
          />
        )}
        {a.trouble && (
          <Alert type="error" showIcon title={`It does not take copies since ${when(a.troubleAt)}: ${a.trouble}`} />
        )}
        {a.stale && <Alert type="error" showIcon title="It is stale: its interval is over." />}
        {a.damaged !== undefined && (
          <Alert
            type="error"
            showIcon
            title={`${String(a.damaged)} did not read back whole. Copy now makes them again.`}
          />
        )}
        {a.caveat && <Alert type="warning" showIcon title={a.caveat} />}
        <Trouble error={verify.error ?? rebuild.error ?? copy.error ?? set.error} />
        <Work id={id} />
        {a.copies > 0 && (
          <div>
            <Button
              size="small"
              type="link"
              style={{ padding: 0 }}
              aria-expanded={listed}
              onClick={() => {
                setListed(!listed);
              }}
            >
              {listed ? "Hide the copies" : "Its copies"}
            </Button>
          </div>
        )}
        {listed && <Copies archive={a.name} />}
      </Flex>
    </Card>
  );
}

/** Long work as it goes on. */
function Work({ id }: { id: number | undefined }) {
  const job = useJob(id);
  const stop = useStopJob();
  const j = job.data;
  if (!j) return null;
  if (j.state === "running") {
    return (
      <Flex gap={12} align="center">
        <Progress percent={j.total > 0 ? Math.round((100 * j.done) / j.total) : 0} style={{ maxWidth: 360 }} />
        <Typography.Text type="secondary">{j.doing}</Typography.Text>
        <Button
          size="small"
          onClick={() => {
            stop.mutate(j.id);
          }}
        >
          Stop
        </Button>
      </Flex>
    );
  }
  if (j.state !== "done") return <Alert type="error" showIcon title={j.trouble ?? j.state} />;
  const result = (j.result ?? {}) as Partial<Copied & VerifiedArchive>;
  const wrong = result.wrong ?? [];
  const text =
    j.kind === "copy"
      ? `${String(result.copies)} copies made, each read back and compared`
      : `${String(result.whole)} of ${String(result.copies)} copies read back whole`;
  return (
    <Alert
      type={wrong.length > 0 ? "error" : "success"}
      showIcon
      title={text}
      description={wrong.map((w) => (
        <div key={w}>{w}</div>
      ))}
    />
  );
}
