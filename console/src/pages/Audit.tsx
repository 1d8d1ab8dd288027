import { Flex, Input, Table, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { LedgerEntry } from "../api";
import { Trouble } from "../parts/Trouble";
import { useAudit } from "../queries";
import { when, whenShort } from "../time";

function What({ entry }: { entry: LedgerEntry }) {
  return (
    <span style={{ wordBreak: "break-word" }}>
      {entry.path && <code>{entry.path}</code>} {entry.before && <span>{entry.before.split("\n")[0]} → </span>}
      {entry.after ? entry.after.split("\n")[0] : entry.before && "(gone)"} {entry.note}
    </span>
  );
}

/** The ledger, newest first. */
export function Audit() {
  const [device, setDevice] = useState("");
  const [actor, setActor] = useState("");
  const filter = (device && `&device=${encodeURIComponent(device)}`) + (actor && `&actor=${encodeURIComponent(actor)}`);
  const { data, error, isPending } = useAudit(filter);
  return (
    <>
      <Flex justify="space-between" align="center" style={{ marginBottom: 16 }} wrap gap={8}>
        <Typography.Title level={3} style={{ margin: 0 }}>Who did what, when</Typography.Title>
        <Flex gap={8}>
          <Input.Search allowClear placeholder="device" aria-label="device" onSearch={setDevice} style={{ width: 200 }} />
          <Input.Search allowClear placeholder="person" aria-label="person" onSearch={setActor} style={{ width: 160 }} />
        </Flex>
      </Flex>
      <Trouble error={error} />
      <Table<LedgerEntry>
        size="small" rowKey="seq" loading={isPending} dataSource={data?.entries ?? []} pagination={{ pageSize: 50, hideOnSinglePage: true }}
        columns={[
          { title: "Entry", dataIndex: "seq", width: 70 },
          { title: "At", dataIndex: "at", width: 190, render: (at: string) => <span title={when(at)}>{whenShort(at)}</span> },
          { title: "Who", dataIndex: "actor", width: 100 },
          { title: "What", dataIndex: "action", width: 170 },
          { title: "Device", dataIndex: "device", width: 160, render: (d?: string) => d && <Link to={`/devices/${d}`}>{d}</Link> },
          { title: "Change", dataIndex: "change", width: 80, render: (n?: number) => n && <Link to={`/changes/${String(n)}`}>{n}</Link> },
          { title: "Detail", key: "detail", render: (_, e) => <What entry={e} /> },
        ]}
      />
    </>
  );
}
