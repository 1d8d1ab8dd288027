import {
  Alert,
  Button,
  Card,
  Descriptions,
  Drawer,
  Flex,
  Input,
  Popconfirm,
  Segmented,
  Select,
  Space,
  Tag,
  Typography,
} from "antd";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Session } from "../../lib/documents";
import { BroughtBack } from "../history/BroughtBack";
import { OutsideState } from "./OutsideState";
import { Difference } from "../../parts/Difference";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { useDraft } from "../../lib/draft";
import { Trouble } from "../../parts/Trouble";
import { useDevices } from "../devices/queries";
import type { Outside, Pushed } from "../../lib/documents";
import {
  useAdopt,
  useGoOn,
  useOutside,
  useOutsides,
  usePushBack,
  useSilence,
  useSilences,
  useUnsilence,
} from "./queries";
import { when, whenShort } from "../../lib/time";
import { may } from "../../lib/may";
import { disabledIf } from "../../lib/disabled";

/** What was changed on devices outside this service, and what is to be made of it. */
export function OutsidePage({ session }: { session: Session }) {
  const [query, setQuery] = useSearchParams();
  const all = query.get("all") === "true";
  const opened = Number(query.get("number") ?? 0);
  const list = useOutsides(all);
  const set = (next: Record<string, string>) => {
    setQuery({ ...(all ? { all: "true" } : {}), ...next });
  };
  return (
    <>
      <Flex justify="space-between" align="center" wrap gap={8} style={{ marginBottom: 12 }}>
        <PageTitle>Changed outside</PageTitle>
        <Segmented
          aria-label="which"
          value={all ? "all" : "open"}
          onChange={(v) => {
            setQuery(v === "all" ? { all: "true" } : {});
          }}
          options={[
            { value: "open", label: "to be decided" },
            { value: "all", label: "all there were" },
          ]}
        />
      </Flex>
      <Typography.Paragraph type="secondary">
        Found on a device and not made by this service. Who did it is what the device itself told; where it names
        nobody, that is said, and why that may be.
      </Typography.Paragraph>
      <Trouble error={list.error} />
      <Rows<Outside>
        size="small"
        rowKey="number"
        loading={list.isPending}
        dataSource={list.data ?? []}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        locale={{ emptyText: all ? "Nothing was ever changed outside." : "Nothing waits for a decision." }}
        onRow={(o) => ({
          onClick: () => {
            set({ number: String(o.number) });
          },
          style: { cursor: "pointer" },
        })}
        columns={[
          {
            title: "",
            dataIndex: "number",
            width: 60,
            render: (n: number) => (
              <Button
                size="small"
                type="link"
                style={{ padding: 0 }}
                onClick={() => {
                  set({ number: String(n) });
                }}
              >
                {n}
              </Button>
            ),
          },
          {
            title: "Found",
            dataIndex: "found",
            width: 170,
            render: (at: string) => <span title={when(at)}>{whenShort(at)}</span>,
          },
          { title: "Device", dataIndex: "device", width: 170 },
          { title: "Places", dataIndex: "places", width: 70 },
          { title: "Who", dataIndex: "who", render: (w: string) => <bdi>{w}</bdi> },
          { title: "", key: "state", width: 220, render: (_, o) => <OutsideState outside={o} /> },
        ]}
      />
      <Silences session={session} />
      <Drawer
        open={opened > 0}
        size={820}
        onClose={() => {
          set({});
        }}
        title={`Outside change ${String(opened)}`}
        destroyOnHidden
      >
        <One number={opened} session={session} />
      </Drawer>
    </>
  );
}

function One({ number, session }: { number: number; session: Session }) {
  const found = useOutside(number > 0 ? number : undefined);
  const o = found.data;
  if (!o) return <Trouble error={found.error} />;
  const rows: [string, React.ReactNode][] = [
    ["State", <OutsideState key="s" outside={o} />],
    [
      "Device",
      <Link key="d" to={`/devices/${o.device}?view=timeline`}>
        {o.device}
      </Link>,
    ],
    ["Who", <bdi key="w">{o.who}</bdi>],
    ["Between", `${when(o.since)} and ${when(o.found)}`],
    [
      "Its clock says",
      o.deviceAt && (
        <>
          {when(o.deviceAt)} {o.clockOff && <Tag color="volcano">that clock is wrong</Tag>}
        </>
      ),
    ],
    ["Made", `revision ${String(o.revision)} of revision ${String(o.before)}`],
    [
      "During",
      o.during && (
        <>
          the hold of <Link to={`/changes/${String(o.during)}`}>change {o.during}</Link>
        </>
      ),
    ],
    [
      "It told",
      o.told.length > 0 && (
        <div key="t">
          {o.told.map((t, i) => (
            <div key={i}>
              <bdi>{t}</bdi>
            </div>
          ))}
        </div>
      ),
    ],
    ["Listened", o.listened],
    ["Decided", o.decidedBy && `${o.decidedBy}, ${when(o.decidedAt)}`],
    ["Note", o.note && <bdi>{o.note}</bdi>],
  ];
  return (
    <>
      <Descriptions
        size="small"
        column={1}
        items={rows.filter(([, v]) => v).map(([label, children]) => ({ key: label, label, children }))}
      />
      <Card size="small" title={`What changed (${String(o.places)})`} style={{ margin: "12px 0" }}>
        <Difference lines={o.lines ?? []} />
      </Card>
      {o.state === "open" && may(session, "stage") && <Decide outside={o} />}
    </>
  );
}

/** What can be made of one: taken, taken back, gone on from, silenced. */
function Decide({ outside: o }: { outside: Outside }) {
  const adopt = useAdopt(o.number);
  const push = usePushBack(o.number);
  const goOn = useGoOn(o.number);
  const silence = useSilence();
  const devices = useDevices();
  const [note, setNote] = useDraft(`outside ${String(o.number)}`);
  const [onto, setOnto] = useState<string[]>([]);
  const paths = [...new Set((o.lines ?? []).map((l) => l.path).filter((p): p is string => Boolean(p)))];
  const [path, setPath] = useState<string>();
  const made: Pushed | undefined = push.data ?? goOn.data;
  return (
    <Card size="small" title="What is to be made of it">
      <Flex vertical gap={12}>
        <Space.Compact style={{ width: "100%" }}>
          <Input
            aria-label="note"
            placeholder="who did it and why, as far as you know"
            value={note}
            onChange={(e) => {
              setNote(e.target.value);
            }}
            maxLength={2000}
          />
          <Button
            type="primary"
            {...disabledIf(note.trim() === "")}
            loading={adopt.isPending}
            onClick={() => {
              adopt.mutate(note, {
                onSuccess: () => {
                  setNote("");
                },
              });
            }}
          >
            Take it as it is
          </Button>
        </Space.Compact>
        <Flex gap={8} wrap align="center">
          <Button
            {...disabledIf(Boolean(o.change))}
            loading={push.isPending}
            onClick={() => {
              push.mutate(undefined);
            }}
          >
            Push it back…
          </Button>
          <Typography.Text type="secondary">
            opens a change that undoes it, to be previewed and put on hold
          </Typography.Text>
        </Flex>
        <Flex gap={8} wrap align="center">
          <Select
            mode="multiple"
            aria-label="the same on"
            placeholder="the same on other devices"
            style={{ minWidth: 260 }}
            value={onto}
            onChange={setOnto}
            options={(devices.data ?? []).map((d) => ({ value: d.name, label: d.name }))}
          />
          <Button
            loading={goOn.isPending}
            onClick={() => {
              goOn.mutate(onto);
            }}
          >
            Open a change from it…
          </Button>
        </Flex>
        <Flex gap={8} wrap align="center">
          <Select
            aria-label="path that always moves"
            placeholder="a path that always moves"
            style={{ minWidth: 260 }}
            value={path ?? null}
            onChange={setPath}
            options={paths.map((p) => ({ value: p, label: p }))}
          />
          <Popconfirm
            title={`What changes there on ${o.device} needs no decision from now on; it stays on record.`}
            okText="Silence it"
            onConfirm={() => {
              if (path) silence.mutate({ device: o.device, path, note: `from outside change ${String(o.number)}` });
            }}
          >
            <Button {...disabledIf(!path)} loading={silence.isPending}>
              It always moves…
            </Button>
          </Popconfirm>
        </Flex>
        <Trouble error={adopt.error ?? push.error ?? goOn.error ?? silence.error} />
        {silence.data && (
          <Alert
            type="success"
            showIcon
            title={`Silenced from now on: ${silence.data.path}. This one is still to be decided.`}
          />
        )}
        {made && <BroughtBack doc={{ change: made.change, title: made.title ?? "", parts: made.parts }} />}
      </Flex>
    </Card>
  );
}

function Silences({ session }: { session: Session }) {
  const list = useSilences();
  const off = useUnsilence();
  if (!list.data?.length) return null;
  return (
    <Card size="small" title="Paths that always move" style={{ marginTop: 16 }}>
      <Trouble error={off.error} />
      {list.data.map((s) => (
        <Flex key={s.number} gap={12} align="center">
          <code>{s.path}</code> on {s.device ?? "every device"}{" "}
          <Typography.Text type="secondary">
            {s.note} ({s.actor}, {when(s.at)})
          </Typography.Text>
          {may(session, "stage") && (
            <Button
              size="small"
              type="link"
              onClick={() => {
                off.mutate(s.number);
              }}
            >
              Remove it
            </Button>
          )}
        </Flex>
      ))}
    </Card>
  );
}
