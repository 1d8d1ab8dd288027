import { Button, Flex, Input, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Change } from "../../lib/documents";
import { StateTag, states } from "../../parts/StateTag";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { useChanges, type ChangesWanted } from "./queries";
import { when } from "../../lib/time";
import { NewChange } from "./NewChange";

export function Changes() {
  const [wanted, want] = useState<ChangesWanted>({});
  const found = useChanges(wanted);
  const narrowed = wanted.state !== undefined || wanted.text !== undefined;
  return (
    <>
      <Flex justify="space-between" align="center" style={{ marginBottom: 16 }}>
        <PageTitle>Changes</PageTitle>
        <NewChange />
      </Flex>
      <Flex gap={8} style={{ marginBottom: 8 }}>
        <Input.Search
          allowClear
          placeholder="Title or ticket"
          aria-label="Title or ticket"
          style={{ maxWidth: 320 }}
          onSearch={(text) => {
            want(({ state }) => ({ ...(state ? { state } : {}), ...(text.trim() ? { text: text.trim() } : {}) }));
          }}
        />
        <Select
          allowClear
          placeholder="Any state"
          aria-label="State"
          style={{ width: 160 }}
          value={wanted.state ?? null}
          options={states.map((s) => ({ value: s, label: <StateTag state={s} /> }))}
          onChange={(state: string | undefined) => {
            want(({ text }) => ({ ...(state ? { state } : {}), ...(text ? { text } : {}) }));
          }}
        />
      </Flex>
      <Trouble error={found.error} />
      <Rows<Change>
        size="small"
        rowKey="number"
        loading={found.isPending}
        dataSource={found.data?.pages.flat() ?? []}
        pagination={{ pageSize: 25, hideOnSinglePage: true }}
        locale={{
          emptyText: narrowed
            ? "No such changes."
            : "No changes yet. Open one: it is private to you until it is committed.",
        }}
        columns={[
          {
            title: "Change",
            dataIndex: "number",
            width: 90,
            render: (n: number) => <Link to={`/changes/${String(n)}`}>{n}</Link>,
          },
          { title: "State", dataIndex: "state", width: 130, render: (s: string) => <StateTag state={s} /> },
          {
            title: "Title",
            dataIndex: "title",
            render: (t: string, c) => <Link to={`/changes/${String(c.number)}`}>{t}</Link>,
          },
          { title: "Ticket", dataIndex: "ticket", width: 120 },
          { title: "By", dataIndex: "author", width: 110 },
          { title: "Devices", dataIndex: "devices", render: (d: string[]) => d.join(", ") },
          { title: "Updated", dataIndex: "updated", width: 210, render: when },
        ]}
      />
      {found.hasNextPage && (
        <Button
          block
          style={{ marginTop: 8 }}
          loading={found.isFetchingNextPage}
          onClick={() => {
            void found.fetchNextPage();
          }}
        >
          Older ones
        </Button>
      )}
    </>
  );
}
