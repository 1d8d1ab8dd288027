import {
  Alert,
  Button,
  Card,
  Checkbox,
  Descriptions,
  Drawer,
  Flex,
  Input,
  Popconfirm,
  Select,
  Tag,
  Typography,
} from "antd";
import { useState } from "react";
import type { ReactNode } from "react";
import { Link, useSearchParams } from "react-router";
import type { LedgerEntry, Verified } from "../../lib/documents";
import {
  useAudit,
  useEntry,
  useForgetSearch,
  usePace,
  useSaveSearch,
  useSearches,
  useSignCheckpoint,
  useVerify,
} from "./queries";
import { Difference } from "../../parts/Difference";
import { PaceChart } from "./PaceChart";
import { SearchLine } from "./SearchLine";
import { Receivers } from "./Receivers";
import { Code } from "../../parts/Code";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { when, whenShort } from "../../lib/time";
import type { Session } from "../../lib/documents";
import { may } from "../../lib/may";

/** Who did what, when: the ledger, searched by a line. */
export function Audit({ session }: { session: Session }) {
  const [query, setQuery] = useSearchParams();
  const line = query.get("q") ?? "";
  const opened = Number(query.get("entry") ?? 0);
  const search = (q: string) => {
    setQuery(q ? { q } : {});
  };
  const found = useAudit(line);
  const pace = usePace(line);
  const entries = found.data?.pages.flatMap((p) => p.entries) ?? [];
  const told = query.get("receivers") === "true";
  const open = (seq: number) => {
    setQuery({ ...(line ? { q: line } : {}), ...(seq ? { entry: String(seq) } : {}) });
  };
  const link = (format: string) => `/api/v1/audit/export?${new URLSearchParams({ q: line, format }).toString()}`;
  return (
    <>
      <Flex justify="space-between" align="center" style={{ marginBottom: 12 }} wrap gap={8}>
        <PageTitle>Who did what, when</PageTitle>
        <Whole session={session} />
      </Flex>
      <SearchLine line={line} onSearch={search} status={found.error ? "error" : ""} />
      <Flex gap={12} style={{ margin: "8px 0 12px" }} align="center" wrap>
        <Kept line={line} session={session} onUse={search} />
        <span style={{ flex: 1 }} />
        {may(session, "audit") && (
          <Button
            size="small"
            onClick={() => {
              setQuery({ ...(line ? { q: line } : {}), receivers: "true" });
            }}
          >
            Who is told…
          </Button>
        )}
        <a href={link("csv")} download>
          CSV
        </a>
        <a href={link("jsonl")} download>
          JSON Lines
        </a>
      </Flex>
      <Trouble error={found.error} />
      {pace.data && pace.data.entries > 0 && !found.error && (
        <Card size="small" style={{ marginBottom: 12 }}>
          <PaceChart
            pace={pace.data}
            onPick={(from, to) => {
              search(`${line.replace(/\b(since|until):\S+/g, "").trim()} since:${from} until:${to}`.trim());
            }}
          />
          {!pace.data.whole && (
            <Typography.Text type="secondary">Of the newest {pace.data.entries} that it finds.</Typography.Text>
          )}
        </Card>
      )}
      <Rows<LedgerEntry>
        size="small"
        rowKey="seq"
        loading={found.isPending && !found.error}
        dataSource={entries}
        pagination={false}
        onRow={(e) => ({
          onClick: () => {
            open(e.seq);
          },
          style: { cursor: "pointer" },
        })}
        columns={[
          {
            title: "Entry",
            dataIndex: "seq",
            width: 80,
            render: (n: number) => (
              <Button
                size="small"
                type="link"
                style={{ padding: 0 }}
                onClick={() => {
                  open(n);
                }}
              >
                {n}
              </Button>
            ),
          },
          {
            title: "At",
            dataIndex: "at",
            width: 170,
            render: (at: string) => <span title={when(at)}>{whenShort(at)}</span>,
          },
          {
            title: "Who",
            dataIndex: "actor",
            width: 100,
            render: (w: string) => <Narrow by={`who:${w}`} shows={w} line={line} go={search} />,
          },
          {
            title: "What",
            dataIndex: "action",
            width: 190,
            render: (_, e) => (
              <>
                <Narrow by={`kind:${e.action}`} shows={e.action} line={line} go={search} />{" "}
                {e.outcome && <Tag color="volcano">{e.outcome}</Tag>}
              </>
            ),
          },
          {
            title: "Device",
            dataIndex: "device",
            width: 150,
            render: (d?: string) =>
              d && (
                <Link
                  to={`/devices/${d}`}
                  onClick={(ev) => {
                    ev.stopPropagation();
                  }}
                >
                  {d}
                </Link>
              ),
          },
          {
            title: "Change",
            dataIndex: "change",
            width: 80,
            render: (n?: number) =>
              n && (
                <Link
                  to={`/changes/${String(n)}`}
                  onClick={(ev) => {
                    ev.stopPropagation();
                  }}
                >
                  {n}
                </Link>
              ),
          },
          {
            title: "Detail",
            key: "detail",
            render: (_, e) => (
              <What entry={e} narrow={(by, shows) => <Narrow by={by} shows={shows} line={line} go={search} />} />
            ),
          },
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
      <Drawer
        open={told}
        size={980}
        onClose={() => {
          open(0);
        }}
        title="Who is told of what"
        destroyOnHidden
      >
        <Receivers session={session} />
      </Drawer>
      <Drawer
        open={opened > 0}
        size={760}
        onClose={() => {
          open(0);
        }}
        title={`Entry ${String(opened)}`}
        destroyOnHidden
      >
        <Entry seq={opened} />
      </Drawer>
    </>
  );
}

/** A value of the record; a click on it narrows the search to entries that have it. */
function Narrow({ by, shows, line, go }: { by: string; shows: string; line: string; go: (line: string) => void }) {
  return (
    <button
      type="button"
      className="narrow"
      title={`Search for ${by}`}
      aria-label={`${shows}: search for it`}
      onClick={(e) => {
        e.stopPropagation();
        if (!line.split(/\s+/).includes(by)) go(`${line} ${by}`.trim());
      }}
    >
      {shows}
    </button>
  );
}

/** A value that is searched for as a whole. */
const exact = (key: string, value: string) =>
  /[\s"]/.test(value) ? `${key}:"${value.replaceAll('"', "")}"` : `${key}:${value}`;

function What({ entry, narrow }: { entry: LedgerEntry; narrow: (by: string, shows: string) => ReactNode }) {
  return (
    <span style={{ overflowWrap: "anywhere" }}>
      {entry.path && <code>{narrow(exact("path", entry.path), entry.path)}</code>}{" "}
      {entry.before && (
        <>
          <bdi>{entry.before.split("\n")[0]}</bdi> →{" "}
        </>
      )}
      <bdi>{entry.after ? entry.after.split("\n")[0] : entry.before && "(gone)"}</bdi> <bdi>{entry.note}</bdi>
    </span>
  );
}

/** One entry, its before and after as every difference looks. */
function Entry({ seq }: { seq: number }) {
  const found = useEntry(seq || undefined);
  const e = found.data;
  if (!e) return <Trouble error={found.error} />;
  const rows: [string, React.ReactNode][] = [
    ["At", when(e.at)],
    ["Who", e.actor],
    ["From", [e.way, e.address, e.session && `session ${e.session}`].filter(Boolean).join(", ")],
    ["What", e.action],
    ["Outcome", e.outcome ?? "done"],
    ["Device", e.device && <Link to={`/devices/${e.device}`}>{e.device}</Link>],
    [
      "Change",
      e.change && (
        <Link to={`/changes/${String(e.change)}`}>
          {e.change} {e.ticket}
        </Link>
      ),
    ],
    ["Path", e.path && <code>{e.path}</code>],
    ["Note", e.note && <bdi>{e.note}</bdi>],
    ["Chained to", e.prev && <code style={{ fontSize: 11 }}>{e.prev}</code>],
    [
      "Digest",
      <code key="d" style={{ fontSize: 11 }}>
        {e.hash}
      </code>,
    ],
  ];
  return (
    <>
      <Descriptions
        size="small"
        column={1}
        items={rows.filter(([, v]) => v).map(([label, children]) => ({ key: label, label, children }))}
      />
      {e.lines.length > 0 && (
        <Card size="small" title="Before and after" style={{ marginTop: 12 }}>
          <Difference lines={e.lines} />
        </Card>
      )}
    </>
  );
}

/** Whether the ledger is whole. */
function Whole({ session }: { session: Session }) {
  const verify = useVerify();
  const sign = useSignCheckpoint();
  return (
    <Flex vertical gap={6} align="end">
      <Flex gap={6} wrap justify="end">
        {may(session, "audit") && (
          <Button
            loading={sign.isPending}
            onClick={() => {
              sign.mutate(undefined);
            }}
          >
            Sign a checkpoint
          </Button>
        )}
        <Button
          loading={verify.isPending}
          onClick={() => {
            verify.mutate(undefined);
          }}
        >
          Check the whole record
        </Button>
      </Flex>
      <Trouble error={verify.error ?? sign.error} />
      {sign.data && (
        <Alert
          type="success"
          showIcon
          title={`The record of ${String(sign.data.entries)} entries is signed, ${when(sign.data.at)}. Keep this elsewhere.`}
          description={
            <>
              <Code label="checkpoint" text={sign.data.checkpoint} />
              <a
                href={`data:text/plain;charset=utf-8,${encodeURIComponent(sign.data.checkpoint)}`}
                download={`checkpoint-${String(sign.data.entries)}.txt`}
              >
                Save it
              </a>
              {sign.data.witnesses.map((w) => (
                <div key={w.name}>
                  {w.name}: {w.trouble ?? "signed it, too"}
                </div>
              ))}
            </>
          }
        />
      )}
      {verify.data && <Answer v={verify.data} />}
    </Flex>
  );
}

const answers = {
  vouched: {
    type: "success",
    title: (v: Verified) => `It is what was seen from outside, up to entry ${String(v.vouched)} of ${String(v.last)}.`,
  },
  consistent: {
    type: "warning",
    title: (v: Verified) =>
      `Its ${String(v.entries)} entries are consistent in themselves. Nobody outside vouches for them.`,
  },
  altered: {
    type: "error",
    title: (v: Verified) =>
      `It was altered: ${v.wrong === 1 ? "one finding shows" : `${String(v.wrong)} findings show`} it.`,
  },
} as const;

function Answer({ v }: { v: Verified }) {
  const { type, title } = answers[v.answer];
  return (
    <Alert
      type={type}
      showIcon
      title={title(v)}
      description={
        <>
          {v.vouchedBy && (
            <div>
              Vouched for by {v.vouchedBy.join(", ")}
              {v.vouchedAt && `, ${when(v.vouchedAt)}`}.
            </div>
          )}
          {v.answer === "consistent" && (
            <div>
              Whoever can write to the database and to what lies beside it could have rewritten all of it. Have it
              watched over from outside: latch witness.
            </div>
          )}
          {v.findings.map((f) => (
            <div key={`${String(f.seq)} ${f.msg}`}>
              {f.seq > 0 && `entry ${String(f.seq)}: `}
              {f.msg}
            </div>
          ))}
          {v.held && v.heldAt && (
            <div>
              As it was signed at entry {v.held}, {when(v.heldAt)}.
            </div>
          )}
          {v.witnesses
            ?.filter((w) => w.trouble && !w.denies)
            .map((w) => (
              <div key={w.name}>
                {w.name} did not sign it as it is now: {w.trouble}
              </div>
            ))}
          {v.notes?.map((n) => (
            <div key={n}>{n}</div>
          ))}
          {v.clockBack?.map((n) => (
            <div key={n}>The service’s clock had been set back before entry {n}.</div>
          ))}
        </>
      }
    />
  );
}

/** Lines that are kept under a name, one's own and those of others. */
function Kept({ line, session, onUse }: { line: string; session: Session; onUse: (line: string) => void }) {
  const kept = useSearches();
  const save = useSaveSearch();
  const forget = useForgetSearch();
  const [name, setName] = useState("");
  const [shared, setShared] = useState(false);
  const own = kept.data?.find((s) => s.owner === session.account && s.line === line);
  return (
    <>
      <Select
        aria-label="saved searches"
        placeholder="saved searches"
        style={{ width: 240 }}
        value={null}
        notFoundContent="none is saved"
        options={(kept.data ?? []).map((s) => ({
          value: `${s.owner} ${s.name}`,
          label: s.owner === session.account ? s.name : `${s.name} (${s.owner})`,
          title: s.line,
        }))}
        onSelect={(v: string | null) => {
          onUse(kept.data?.find((s) => `${s.owner} ${s.name}` === v)?.line ?? "");
        }}
      />
      {own ? (
        <>
          <Typography.Text type="secondary">
            saved as {own.name}
            {own.shared ? ", for all" : ""}
          </Typography.Text>
          <Button
            size="small"
            type="text"
            onClick={() => {
              forget.mutate(own.name);
            }}
          >
            Forget it
          </Button>
        </>
      ) : (
        line && (
          <Popconfirm
            title="Save this search"
            okText="Save it"
            okButtonProps={{ disabled: !name.trim() }}
            icon={null}
            description={
              <Flex vertical gap={6}>
                <Input
                  aria-label="name of the search"
                  placeholder="a name"
                  maxLength={80}
                  value={name}
                  onChange={(e) => {
                    setName(e.target.value);
                  }}
                />
                <Checkbox
                  checked={shared}
                  onChange={(e) => {
                    setShared(e.target.checked);
                  }}
                >
                  for others too
                </Checkbox>
              </Flex>
            }
            onConfirm={() => {
              save.mutate(
                { name: name.trim(), line, shared },
                {
                  onSuccess: () => {
                    setName("");
                  },
                },
              );
            }}
          >
            <Button size="small">Save this search…</Button>
          </Popconfirm>
        )
      )}
      <Trouble error={save.error ?? forget.error} />
    </>
  );
}
