import { Button, Popconfirm, Tag, Typography } from "antd";
import { Link } from "react-router";
import type { Scheduled, Session } from "../../lib/documents";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { useSchedule, useUnschedule } from "./queries";
import { whenIn } from "../../lib/time";
import { may } from "../../lib/may";

const colours: Record<Scheduled["state"], string> = {
  waiting: "geekblue",
  begun: "cyan",
  missed: "red",
  stopped: "red",
  cancelled: "default",
};

/** What is to be done at a time, and what became of what was. */
export function SchedulePage({ session }: { session: Session }) {
  const { data, error, isPending } = useSchedule();
  const off = useUnschedule();
  return (
    <>
      <PageTitle>Schedule</PageTitle>
      <Typography.Paragraph type="secondary">
        A commit at a time is checked when it is scheduled and again when it is due. What the service slept through is
        missed, or begun within the lateness that was allowed; nothing runs late in silence.
      </Typography.Paragraph>
      <Trouble error={error ?? off.error} />
      <Rows<Scheduled>
        size="small"
        rowKey="id"
        loading={isPending}
        dataSource={data ?? []}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        locale={{ emptyText: "Nothing is on the schedule. A change's page puts it here: How, When, at a time." }}
        columns={[
          {
            title: "At",
            key: "at",
            render: (_, d) => <span style={{ whiteSpace: "nowrap" }}>{whenIn(d.at, d.zone)}</span>,
          },
          {
            title: "What",
            key: "what",
            render: (_, d) =>
              d.kind === "restart" ? (
                `restart ${d.devices.join(", ")}`
              ) : (
                <Link to={`/changes/${String(d.change)}`}>
                  commit change {d.change}: {d.title}
                </Link>
              ),
          },
          { title: "Devices", key: "devices", render: (_, d) => d.devices.join(", ") },
          { title: "By", dataIndex: "actor" },
          {
            title: "State",
            key: "state",
            render: (_, d) => (
              <>
                <Tag color={colours[d.state] ?? "default"}>{d.state}</Tag>
                {d.note}
              </>
            ),
          },
          {
            key: "off",
            render: (_, d) =>
              d.state === "waiting" &&
              may(session, "stage") && (
                <Popconfirm
                  title="Take it off the schedule?"
                  okText="Take it off"
                  onConfirm={() => {
                    off.mutate(d.id);
                  }}
                >
                  <Button size="small">Take off</Button>
                </Popconfirm>
              ),
          },
        ]}
      />
    </>
  );
}
