import { Button, Card, Flex, Popconfirm, Space, Typography } from "antd";
import { useState } from "react";
import type { Change, Unsettled } from "../../lib/documents";
import { BroughtBack } from "../history/BroughtBack";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { useSendBack, useSettle, useUnsettled } from "./queries";
import { when } from "../../lib/time";
import { disabledIf } from "../../lib/disabled";

const holds: Record<string, string> = {
  former: "its former configuration",
  change: "the change",
  neither: "neither its former configuration nor the change",
  "": "not known",
};

/** What a device was found to hold, in words. */
function found(u: Unsettled) {
  if (u.settled) return `settled: ${u.settled}, by ${u.by ?? ""} ${when(u.at)}`;
  if (u.error) return `not known: ${u.error}`;
  return holds[u.holds] + (u.pending === "yes" ? "; its own timer still runs, and reverts it" : "");
}

/**
 * A change whose commit was under way when the backup was taken that the records come from: its
 * devices are read when a person asks, and nothing is done to them by itself.
 */
export function Settle({ change }: { change: Change }) {
  const [asked, setAsked] = useState(false);
  const { data, error, isFetching, refetch } = useUnsettled(change.number, asked);
  const settle = useSettle(change.number);
  const back = useSendBack(change.number);
  const open = (data ?? []).filter((u) => !u.settled);
  const known = open.length > 0 && open.every((u) => u.holds !== "" && u.pending !== "yes");
  return (
    <Card size="small" title="What its devices hold" style={{ marginBottom: 12 }}>
      <Flex vertical gap={12}>
        <Space wrap>
          <Button
            type="primary"
            loading={isFetching}
            onClick={() => {
              if (asked) void refetch();
              else setAsked(true);
            }}
          >
            {asked ? "Read them again" : "Read its devices"}
          </Button>
          <Typography.Text type="secondary">
            Nothing is done to them. How the commit ended is told by what they hold.
          </Typography.Text>
        </Space>
        <Trouble error={error} />
        {data && (
          <Rows<Unsettled>
            size="small"
            rowKey="device"
            pagination={false}
            dataSource={data}
            scroll={{ x: true }}
            columns={[
              { title: "Device", dataIndex: "device" },
              { title: "Address", dataIndex: "address" },
              { title: "Holds", render: (_, u) => <span>{found(u)}</span> },
            ]}
          />
        )}
        {open.length > 0 && (
          <Space wrap>
            <Button
              {...disabledIf(!open.some((u) => u.holds === "change" || u.holds === "neither"))}
              loading={back.isPending}
              onClick={() => {
                back.mutate(open.filter((u) => u.holds === "change" || u.holds === "neither").map((u) => u.device));
              }}
            >
              Send it back…
            </Button>
            <Popconfirm
              title={`Accept ${open.map((u) => u.device).join(", ")} as found?`}
              okText="Leave them"
              cancelText="No"
              description="What each holds then stands as the end of this change. Nothing is sent."
              onConfirm={() => {
                settle.mutate(open.map((u) => u.device));
              }}
            >
              <Button {...disabledIf(!known)} loading={settle.isPending}>
                Accept them as found…
              </Button>
            </Popconfirm>
            <Typography.Text type="secondary">
              Sending back opens a change, to be previewed with what came since and committed on hold. Settle this one
              when that is confirmed.
            </Typography.Text>
          </Space>
        )}
        <Trouble error={settle.error ?? back.error} />
        <BroughtBack doc={back.data} />
      </Flex>
    </Card>
  );
}
