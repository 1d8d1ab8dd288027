import { Button, Flex, Table, Typography } from "antd";
import { Link } from "react-router";
import type { Change } from "../api";
import { StateTag } from "../parts/StateTag";
import { Trouble } from "../parts/Trouble";
import { useChanges } from "../queries";
import { when } from "../time";
import { NewChange } from "./NewChange";

export function Changes() {
  const found = useChanges();
  return (
    <>
      <Flex justify="space-between" align="center" style={{ marginBottom: 16 }}>
        <Typography.Title level={3} style={{ margin: 0 }}>Changes</Typography.Title>
        <NewChange />
      </Flex>
      <Trouble error={found.error} />
      <Table<Change>
        size="small" rowKey="number" loading={found.isPending} dataSource={found.data?.pages.flat() ?? []} pagination={{ pageSize: 25, hideOnSinglePage: true }}
        locale={{ emptyText: "No changes yet. Open one: it is private to you until it is committed." }}
        columns={[
          { title: "Change", dataIndex: "number", width: 90, render: (n: number) => <Link to={`/changes/${String(n)}`}>{n}</Link> },
          { title: "State", dataIndex: "state", width: 130, render: (s: string) => <StateTag state={s} /> },
          { title: "Title", dataIndex: "title", render: (t: string, c) => <Link to={`/changes/${String(c.number)}`}>{t}</Link> },
          { title: "Ticket", dataIndex: "ticket", width: 120 },
          { title: "By", dataIndex: "author", width: 110 },
          { title: "Devices", dataIndex: "devices", render: (d: string[]) => d.join(", ") },
          { title: "Updated", dataIndex: "updated", width: 210, render: when },
        ]}
      />
      {found.hasNextPage && <Button block style={{ marginTop: 8 }} loading={found.isFetchingNextPage} onClick={() => { void found.fetchNextPage(); }}>Older ones</Button>}
    </>
  );
}
