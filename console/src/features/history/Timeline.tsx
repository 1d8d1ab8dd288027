import { Button, Card, Empty, Flex, Space, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Session } from "../../lib/documents";
import type { Moment } from "../../lib/documents";
import { useRestore, useTimeline } from "./queries";
import { BroughtBack } from "./BroughtBack";
import { Strip } from "./Strip";
import { Trouble } from "../../parts/Trouble";
import { when } from "../../lib/time";
import { may } from "../../lib/may";

/** What happened to a device, and what can be done with each moment of it. */
export function Timeline({
  device,
  session,
  onCompare,
}: {
  device: string;
  session: Session;
  onCompare: (a: string, b: string) => void;
}) {
  const list = useTimeline(device);
  const [chosen, setChosen] = useState(0);
  const moments = list.data ?? [];
  const m = moments[chosen];
  return (
    <Card size="small" title="What happened here">
      <Trouble error={list.error} />
      {list.data?.length === 0 && (
        <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description="Nothing is on record yet." />
      )}
      {moments.length > 0 && <Strip moments={moments} chosen={chosen} onChoose={setChosen} />}
      {m && <Chosen key={chosen} moment={m} device={device} session={session} onCompare={onCompare} />}
    </Card>
  );
}

/** The place that a moment leaves behind, and the one before it. */
function places(m: Moment): { at?: string; before?: string } {
  if (m.snapshot) return { at: `snapshot:${String(m.snapshot)}` };
  if (m.revision)
    return m.revision > 1
      ? { at: `rev:${String(m.revision)}`, before: `rev:${String(m.revision - 1)}` }
      : { at: `rev:${String(m.revision)}` };
  if (m.startup) return { at: `startup:${String(m.startup)}` };
  return {};
}

function Chosen({
  moment: m,
  device,
  session,
  onCompare,
}: {
  moment: Moment;
  device: string;
  session: Session;
  onCompare: (a: string, b: string) => void;
}) {
  const restore = useRestore();
  const { at, before } = places(m);
  return (
    <Flex vertical gap={8} style={{ marginTop: 8 }}>
      <div>
        <Typography.Text strong>
          {m.change ? (
            <Link to={`/changes/${String(m.change)}`}>
              change {m.change}: {m.text}
            </Link>
          ) : (
            m.text
          )}
        </Typography.Text>{" "}
        <Typography.Text type="secondary">
          {m.revision ? `revision ${String(m.revision)}, ` : ""}
          {m.startup ? `startup ${String(m.startup)}, ` : ""}
          {when(m.at)}
          {m.actor ? `, ${m.actor}` : ""}
          {m.kind === "outside" ? ", by whom is not known" : ""}
        </Typography.Text>
      </div>
      <Space wrap>
        {before && at && (
          <Button
            size="small"
            onClick={() => {
              onCompare(before, at);
            }}
          >
            What it changed
          </Button>
        )}
        {at && (
          <Button
            size="small"
            onClick={() => {
              onCompare(at, "running");
            }}
          >
            Compare with now
          </Button>
        )}
        {at && may(session, "stage") && (
          <Button
            size="small"
            loading={restore.isPending}
            onClick={() => {
              restore.mutate({ from: at, devices: [device] });
            }}
          >
            Bring it all back…
          </Button>
        )}
      </Space>
      <Trouble error={restore.error} />
      <BroughtBack doc={restore.data} />
    </Flex>
  );
}
