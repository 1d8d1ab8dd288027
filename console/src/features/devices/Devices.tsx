import { Tag } from "antd";
import { Link } from "react-router";
import type { Device } from "../../lib/documents";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { useDevices } from "./queries";
import { when } from "../../lib/time";

/** How a device is, in one word and mark. */
export function DeviceState({ device }: { device: Device }) {
  if (!device.trusted) return <Tag color="red">✗ host key not accepted</Tag>;
  if (device.heldBy) return <Tag color="orange">◔ held by change {device.heldBy}</Tag>;
  if (device.trouble) return <Tag color="red">✗ trouble</Tag>;
  if (device.reserved) return <Tag color="purple">⊘ reserved by {device.reserved.holder}</Tag>;
  if (device.unsaved) return <Tag color="gold">! not saved</Tag>;
  return <Tag color="cyan">✓ OK</Tag>;
}

export function Devices() {
  const { data, error, isPending } = useDevices();
  return (
    <>
      <PageTitle>Devices</PageTitle>
      <Trouble error={error} />
      <Rows<Device>
        size="small"
        rowKey="name"
        loading={isPending}
        dataSource={data ?? []}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        locale={{ emptyText: "No devices yet. Add one with: latch device add" }}
        columns={[
          { title: "Device", dataIndex: "name", render: (n: string) => <Link to={`/devices/${n}`}>{n}</Link> },
          { title: "State", key: "state", render: (_, d) => <DeviceState device={d} /> },
          { title: "Site", dataIndex: "site" },
          { title: "Role", dataIndex: "role" },
          { title: "Address", dataIndex: "address", render: (a: string) => <code>{a}</code> },
          { title: "Revision", dataIndex: "revision" },
          { title: "Guard", dataIndex: "guard" },
          { title: "Seen", dataIndex: "seen", render: when },
        ]}
      />
    </>
  );
}
