import { Alert, Button, Card, Flex, Modal, Popconfirm, Spin, Switch, Typography } from "antd";
import { useState } from "react";
import type { Device, Session, Visitor } from "../../lib/documents";
import { Difference } from "../../parts/Difference";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { useCare, useStoreDifference, useVisitors } from "./queries";
import { when } from "../../lib/time";
import { may } from "../../lib/may";
import { disabledIf } from "../../lib/disabled";

/** What can be done to a device beside commits: saving, restarting, clearing up. */
export function Care({ device, session }: { device: Device; session: Session }) {
  const care = useCare(device.name);
  const [restarting, setRestarting] = useState(false);
  const [visiting, setVisiting] = useState(false);
  const unsaved = useStoreDifference(device.name, "startup", "running", device.unsaved && !device.heldBy);
  const admin = may(session, "administer");
  const free = !device.heldBy && may(session, "stage");
  return (
    <Card size="small" title="Care" style={{ marginBottom: 16 }}>
      <Trouble error={care.error} />
      {device.unsaved && !device.heldBy && (
        <Alert
          type="warning"
          showIcon
          style={{ marginBottom: 12 }}
          title="What runs here is not in its startup: a restart would lose this"
          description={
            <>
              <Trouble error={unsaved.error} />
              {unsaved.isPending ? <Spin size="small" /> : <Difference lines={unsaved.data?.lines ?? []} />}
              {free && (
                <Button
                  type="primary"
                  size="small"
                  style={{ marginTop: 8 }}
                  loading={care.isPending && care.variables === "save"}
                  onClick={() => {
                    care.mutate("save");
                  }}
                >
                  Save it to startup
                </Button>
              )}
            </>
          }
        />
      )}
      <Flex gap={16} align="center" wrap>
        <span>
          <Switch
            aria-label="save to startup"
            size="small"
            checked={device.save}
            {...disabledIf(!admin)}
            onChange={(save) => {
              care.mutate({ settings: { save } });
            }}
          />{" "}
          save confirmed changes to its startup
        </span>
        <Button
          size="small"
          onClick={() => {
            care.mutate("clock");
          }}
        >
          Read its clock
        </Button>
        <Button
          size="small"
          onClick={() => {
            setVisiting(!visiting);
          }}
        >
          Who is on it
        </Button>
        {admin && (
          <Popconfirm
            title={`Discard what is in the candidate of ${device.name}?`}
            description="Whatever somebody else left there, uncommitted, is gone with it. It goes on record first."
            okText="Discard it"
            onConfirm={() => {
              care.mutate("clear");
            }}
          >
            <Button size="small" {...disabledIf(!free)} loading={care.isPending && care.variables === "clear"}>
              Discard its candidate…
            </Button>
          </Popconfirm>
        )}
        {admin && (
          <Button
            size="small"
            danger
            {...disabledIf(!free)}
            onClick={() => {
              setRestarting(true);
            }}
          >
            Restart…
          </Button>
        )}
      </Flex>
      {visiting && (
        <Visitors
          name={device.name}
          admin={admin}
          end={(id) => {
            care.mutate({ endSession: id });
          }}
        />
      )}
      <RestartDialog
        name={device.name}
        open={restarting}
        onClose={() => {
          setRestarting(false);
        }}
        onGo={() => {
          setRestarting(false);
          care.mutate("restart");
        }}
      />
    </Card>
  );
}

function RestartDialog({
  name,
  open,
  onGo,
  onClose,
}: {
  name: string;
  open: boolean;
  onGo: () => void;
  onClose: () => void;
}) {
  const lost = useStoreDifference(name, "running", "startup", open);
  return (
    <Modal
      open={open}
      title={`Restart ${name}?`}
      okText="Restart it"
      okButtonProps={{ danger: true, disabled: lost.isPending }}
      onOk={onGo}
      onCancel={onClose}
      width={760}
      destroyOnHidden
    >
      <Trouble error={lost.error} />
      {open && lost.isPending && <Spin />}
      {lost.data?.count === 0 && (
        <Typography.Paragraph>It would come back as it is: its startup holds what runs there.</Typography.Paragraph>
      )}
      {lost.data && lost.data.count > 0 && (
        <>
          <Typography.Paragraph>
            It would come back with its startup, and differ from now like this:
          </Typography.Paragraph>
          <Difference lines={lost.data.lines} />
        </>
      )}
    </Modal>
  );
}

function Visitors({ name, admin, end }: { name: string; admin: boolean; end: (id: string) => void }) {
  const { data, error, isPending } = useVisitors(name, true);
  if (error) return <Trouble error={error} />;
  return (
    <Rows<Visitor>
      size="small"
      rowKey="id"
      loading={isPending}
      dataSource={data ?? []}
      pagination={false}
      style={{ marginTop: 12 }}
      columns={[
        { title: "Session", dataIndex: "id" },
        { title: "Account", dataIndex: "account" },
        { title: "From", dataIndex: "source" },
        { title: "Since (its clock)", key: "since", render: (_, v) => when(v.since) },
        {
          title: "Locks",
          key: "locks",
          render: (_, v) => (v.locks ?? []).map((l) => `${l.datastore} since ${when(l.since)}`).join(", "),
        },
        {
          key: "end",
          render: (_, v) =>
            v.own
              ? "this service"
              : admin && (
                  <Popconfirm
                    title={`End session ${v.id}?`}
                    description="Its locks are free then. What it has uncommitted may be gone with it; that goes on record first."
                    okText="End it"
                    onConfirm={() => {
                      end(v.id);
                    }}
                  >
                    <Button size="small">End</Button>
                  </Popconfirm>
                ),
        },
      ]}
    />
  );
}
