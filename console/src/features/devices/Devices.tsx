import { Flex, Tag } from "antd";
import { Link } from "react-router";
import type { Device, Session } from "../../lib/documents";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { useDevices } from "./queries";
import { stateOf } from "./state";
import { AddDevice } from "./AddDevice";
import { SiteMap } from "./SiteMap";
import { mayEverywhere } from "../../lib/may";
import { when } from "../../lib/time";

/** How a device is, in one word and mark. */
export function DeviceState({ device }: { device: Device }) {
  const s = stateOf(device);
  return (
    <Tag color={s.color}>
      {s.mark} {s.text}
    </Tag>
  );
}

export function Devices({ session }: { session: Session }) {
  const { data, error, isPending } = useDevices();
  return (
    <>
      <Flex justify="space-between" align="center" wrap gap={8}>
        <PageTitle>Devices</PageTitle>
        {mayEverywhere(session, "administer") && <AddDevice />}
      </Flex>
      <SiteMap devices={data ?? []} />
      <Trouble error={error} />
      <Rows<Device>
        size="small"
        rowKey="name"
        loading={isPending}
        dataSource={data ?? []}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        locale={{ emptyText: "No devices yet." }}
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
