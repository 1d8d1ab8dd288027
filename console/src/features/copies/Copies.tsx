import { Button, Modal, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Copy } from "../../lib/documents";
import { useCopies, useCopyText } from "./queries";
import { when } from "../../lib/time";
import { Rows } from "../../parts/Rows";
import { Code } from "../../parts/Code";
import { Trouble } from "../../parts/Trouble";

/** The copies that an archive holds, each to be read and compared as it is there. */
export function Copies({ archive }: { archive: string }) {
  const list = useCopies(archive);
  const [read, setRead] = useState<Copy>();
  return (
    <>
      <Trouble error={list.error} />
      <Rows<Copy>
        size="small"
        rowKey="id"
        dataSource={list.data ?? []}
        loading={list.isPending}
        pagination={{ pageSize: 10, hideOnSinglePage: true, size: "small" }}
        columns={[
          {
            title: "Device",
            dataIndex: "device",
            render: (d: string) => <Link to={`/devices/${d}`}>{d}</Link>,
            filters: [...new Set((list.data ?? []).map((c) => c.device))].map((d) => ({ text: d, value: d })),
            onFilter: (v, c) => c.device === v,
          },
          { title: "Revision", dataIndex: "revision" },
          { title: "Copied", render: (_, c) => when(c.at) },
          { title: "Name there", dataIndex: "name", render: (n: string) => <code>{n}</code> },
          {
            title: "Read back",
            render: (_, c) =>
              c.trouble ? <Typography.Text type="danger">{c.trouble}</Typography.Text> : `whole, ${when(c.read)}`,
          },
          {
            title: "",
            onCell: () => ({ style: { whiteSpace: "nowrap" } }),
            render: (_, c) => (
              <>
                <Button
                  size="small"
                  type="link"
                  onClick={() => {
                    setRead(c);
                  }}
                >
                  Read it
                </Button>
                <Link to={`/devices/${c.device}?view=compare&a=archive:${String(c.id)}&b=running`}>
                  Compare with now
                </Link>
              </>
            ),
          },
        ]}
      />
      {read && (
        <Text
          copy={read}
          onClose={() => {
            setRead(undefined);
          }}
        />
      )}
    </>
  );
}

/** A copy, read from the archive and compared with its digest there and then. */
function Text({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const found = useCopyText(copy.id);
  return (
    <Modal open onCancel={onClose} footer={null} width={900} title={`${copy.name}, as ${copy.archive} has it`}>
      <Trouble error={found.error} />
      {found.isPending && !found.error && "Reading it back…"}
      {found.data && (
        <Typography.Paragraph type="secondary">
          {found.data.bytes} bytes, SHA-256 {found.data.sha256.slice(0, 16)}…, whole.
        </Typography.Paragraph>
      )}
      {found.data && <Code label="the copy" text={found.data.text} style={{ maxHeight: "60vh" }} />}
    </Modal>
  );
}
