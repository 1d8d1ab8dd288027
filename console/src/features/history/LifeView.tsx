import { Card, Flex, Input, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { LifeStep } from "../../lib/documents";
import { useLife } from "./queries";
import { Code } from "../../parts/Code";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { when } from "../../lib/time";
import { whose } from "./whose";

/** What happened at one place of a device's configuration, oldest first: the life of a value. */
export function LifeView({ device, path, go }: { device: string; path: string; go: (path: string) => void }) {
  const [typed, setTyped] = useState(path);
  const life = useLife(device, path);
  const revisions = new Map(life.data?.revisions.map((r) => [r.number, r]));
  return (
    <Card size="small" title="The life of a value">
      <Input.Search
        aria-label="path"
        placeholder="/system/contact"
        enterButton="Show"
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
        }}
        onSearch={(v) => {
          go(v.trim());
        }}
        style={{ maxWidth: 560, marginBottom: 12 }}
      />
      <Trouble error={life.error} />
      {life.data && (
        <Flex vertical gap={12}>
          <div>
            <Typography.Text type="secondary">now at {life.data.path}:</Typography.Text>
            <Code label="now" text={life.data.now || "(nothing)"} style={{ maxHeight: 160 }} />
          </div>
          <Rows<LifeStep>
            size="small"
            rowKey={(e) => `${String(e.revision)} ${e.kind} ${e.path}`}
            pagination={{ pageSize: 50, hideOnSinglePage: true }}
            dataSource={life.data.events}
            locale={{ emptyText: "Nothing ever happened there, as far as is known." }}
            columns={[
              {
                title: "Revision",
                render: (_, e) => `${String(e.revision)}, ${when(revisions.get(e.revision)?.at)}`,
              },
              {
                title: "By",
                render: (_, e) => {
                  const r = revisions.get(e.revision);
                  if (!r) return "";
                  return r.change ? (
                    <Link to={`/changes/${String(r.change)}`}>
                      {whose(r)}, change {r.change}
                    </Link>
                  ) : (
                    whose(r)
                  );
                },
              },
              { title: "What", dataIndex: "kind" },
              { title: "Where", render: (_, e) => <code>{e.path}</code> },
              {
                title: "From, to",
                render: (_, e) => (
                  <bdi>
                    {e.old?.split("\n")[0] ?? "(nothing)"} → {e.new?.split("\n")[0] ?? "(gone)"}
                  </bdi>
                ),
              },
            ]}
          />
        </Flex>
      )}
    </Card>
  );
}
