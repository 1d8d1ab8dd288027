import { Button, Card, Descriptions, Flex, Input, Select, Tag } from "antd";
import { Link, useParams, useSearchParams } from "react-router";
import { Difference } from "../../parts/Difference";
import { ReportLinks } from "./ReportLinks";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { useDevices } from "../devices/queries";
import type { CommitRecord } from "../../lib/documents";
import { useCommitRecord, useCommits } from "./queries";
import { span, when, whenShort } from "../../lib/time";

const colours: Record<string, string> = { confirmed: "cyan", reverted: "gold", failed: "red", partly: "magenta" };

const Outcome = ({ commit: c }: { commit: CommitRecord }) => (
  <Tag color={colours[c.outcome ?? ""] ?? "orange"}>{c.outcome ?? "not decided"}</Tag>
);

/** Every commit: who had a hand in it, how long it took, what it came to. */
export function CommitsPage() {
  const [query, setQuery] = useSearchParams();
  const filter: Record<string, string> = {};
  for (const key of ["who", "device", "change", "since", "until"]) {
    const value = query.get(key);
    if (value) filter[key] = value;
  }
  const set = (key: string, value: string | undefined) => {
    setQuery(Object.fromEntries(Object.entries({ ...filter, [key]: value ?? "" }).filter(([, v]) => v !== "")));
  };
  const devices = useDevices();
  const found = useCommits(filter);
  const link = (path: string, n: number) => <Link to={`${path}/${String(n)}`}>{n}</Link>;
  return (
    <>
      <Flex justify="space-between" align="center" wrap gap={8} style={{ marginBottom: 12 }}>
        <PageTitle>What was committed</PageTitle>
        <ReportLinks
          path={`/report?${new URLSearchParams(Object.fromEntries(Object.entries({ since: "30d", ...filter }).filter(([k]) => k !== "change"))).toString()}`}
        />
      </Flex>
      <Flex gap={8} wrap style={{ marginBottom: 12 }}>
        <Input.Search
          key={filter["who"] ?? ""}
          aria-label="person"
          placeholder="who staged, committed or confirmed"
          defaultValue={filter["who"] ?? ""}
          allowClear
          style={{ width: 300 }}
          onSearch={(v) => {
            set("who", v.trim());
          }}
        />
        <Select
          aria-label="device"
          placeholder="on any device"
          allowClear
          style={{ width: 220 }}
          value={filter["device"] ?? null}
          onChange={(v: string | undefined) => {
            set("device", v);
          }}
          options={(devices.data ?? []).map((d) => ({ value: d.name, label: d.name }))}
        />
        <Input.Search
          key={`since ${filter["since"] ?? ""}`}
          aria-label="since"
          placeholder="since: 7d, 2026-11-20"
          defaultValue={filter["since"] ?? ""}
          allowClear
          style={{ width: 220 }}
          onSearch={(v) => {
            set("since", v.trim());
          }}
        />
      </Flex>
      <Trouble error={found.error} />
      <Rows<CommitRecord>
        size="small"
        rowKey="number"
        loading={found.isPending && !found.error}
        dataSource={found.data?.pages.flatMap((p) => p.commits) ?? []}
        pagination={false}
        locale={{ emptyText: "Nothing was committed." }}
        columns={[
          { title: "Commit", dataIndex: "number", width: 80, render: (n: number) => link("/commits", n) },
          {
            title: "Began",
            dataIndex: "started",
            width: 170,
            render: (at: string) => <span title={when(at)}>{whenShort(at)}</span>,
          },
          { title: "Took", key: "took", width: 90, render: (_, c) => (c.ended ? span(c.seconds ?? 0) : "…") },
          { title: "Outcome", key: "outcome", width: 110, render: (_, c) => <Outcome commit={c} /> },
          {
            title: "Change",
            key: "change",
            render: (_, c) => (
              <>
                <Link to={`/changes/${String(c.change)}`}>
                  {c.change}: {c.title}
                </Link>{" "}
                {c.ticket && <Tag>{c.ticket}</Tag>}
              </>
            ),
          },
          { title: "Staged by", key: "staged", width: 120, render: (_, c) => c.staged.join(", ") },
          { title: "Committed by", dataIndex: "committed", width: 120 },
          { title: "Confirmed by", dataIndex: "confirmed", width: 120 },
          { title: "Devices", key: "devices", render: (_, c) => c.devices.join(", ") },
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

/** One commit, whole. */
export function CommitPage() {
  const number = Number(useParams()["number"]);
  const found = useCommitRecord(number);
  const c = found.data;
  if (!c) return <Trouble error={found.error} />;
  const rows: [string, React.ReactNode][] = [
    ["Outcome", <Outcome key="o" commit={c} />],
    ["Because", c.reason],
    [
      "Change",
      <Link key="c" to={`/changes/${String(c.change)}`}>
        {c.change}: {c.title}
      </Link>,
    ],
    ["Ticket", c.ticket],
    ["Staged by", c.staged.join(", ")],
    ["Committed by", c.committed],
    ["Confirmed by", c.confirmed],
    ["Began", when(c.started)],
    ["Took", c.ended && span(c.seconds ?? 0)],
    ["Hold", span(c.holdSeconds)],
    [
      "Notes",
      c.notes && c.notes.length > 0 && (
        <div key="n">
          {c.notes.map((n) => (
            <div key={n.at}>
              <strong>{n.actor}</strong>, {when(n.at)}: <bdi>{n.text}</bdi>
            </div>
          ))}
        </div>
      ),
    ],
  ];
  return (
    <>
      <Flex justify="space-between" align="center" wrap gap={8} style={{ marginBottom: 12 }}>
        <PageTitle title={`Commit ${String(c.number)}`}>Commit {c.number}</PageTitle>
        <ReportLinks path={`/changes/${String(c.change)}/report`} />
      </Flex>
      <Card size="small" style={{ marginBottom: 16 }}>
        <Descriptions
          size="small"
          column={{ xs: 1, sm: 2 }}
          items={rows.filter(([, v]) => v).map(([label, children]) => ({ key: label, label, children }))}
        />
      </Card>
      {(c.parts ?? []).map((p) => (
        <Card
          key={p.device}
          size="small"
          style={{ marginBottom: 16 }}
          title={
            <>
              What it made of <Link to={`/devices/${p.device}`}>{p.device}</Link> ({p.count})
            </>
          }
          extra={
            <Link
              to={`/devices/${p.device}?${new URLSearchParams({ view: "compare", a: `change:${String(c.change)}`, b: "running" }).toString()}`}
            >
              Compare with now
            </Link>
          }
        >
          <Difference lines={p.lines} who={c.edits?.filter((e) => e.device === p.device)} />
        </Card>
      ))}
      <Card size="small" title="Steps">
        <Rows
          size="small"
          rowKey="seq"
          pagination={{ pageSize: 100, hideOnSinglePage: true }}
          dataSource={c.steps ?? []}
          columns={[
            {
              title: "At",
              dataIndex: "at",
              width: 170,
              render: (at: string) => <span title={when(at)}>{whenShort(at)}</span>,
            },
            { title: "Who", dataIndex: "actor", width: 110 },
            { title: "What", dataIndex: "action", width: 180 },
            { title: "Device", dataIndex: "device", width: 170 },
            {
              title: "Detail",
              key: "d",
              render: (_, e) => (
                <bdi>{[e.path, e.before && `${e.before} → ${e.after ?? ""}`, e.note].filter(Boolean).join(" ")}</bdi>
              ),
            },
            {
              title: "",
              dataIndex: "seq",
              width: 90,
              render: (n: number) => <Link to={`/audit?entry=${String(n)}`}>entry {n}</Link>,
            },
          ]}
        />
      </Card>
    </>
  );
}
