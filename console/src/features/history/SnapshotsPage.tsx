import { Alert, Button, Card, Col, Flex, Input, Row, Select, Switch, Tag, Typography } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Session } from "../../lib/documents";
import type { Snapshot } from "../../lib/documents";
import { useMoved, useRelabel, useRestore, useSnapshot, useSnapshots, useTakeSnapshot } from "./queries";
import { BroughtBack } from "./BroughtBack";
import { ImportBundle } from "./ImportBundle";
import { PageTitle } from "../../parts/Headings";
import { Trouble } from "../../parts/Trouble";
import { useDevices } from "../devices/queries";
import { when } from "../../lib/time";
import { may } from "../../lib/may";
import { disabledIf } from "../../lib/disabled";

/** Names for the state of devices at one moment. */
export function SnapshotsPage({ session }: { session: Session }) {
  const list = useSnapshots();
  const [own, setOwn] = useState(false);
  const [number, setNumber] = useState<number>();
  const shown = (list.data ?? []).filter((s) => own || !s.change || s.protected);
  const mayEdit = may(session, "stage");
  return (
    <>
      <PageTitle>Snapshots</PageTitle>
      <Trouble error={list.error} />
      <Row gutter={16}>
        <Col flex="460px">
          {mayEdit && <Take onTaken={setNumber} />}
          <Card
            size="small"
            title="Newest first"
            extra={
              <label>
                before commits too <Switch size="small" checked={own} onChange={setOwn} />
              </label>
            }
          >
            {list.data && shown.length === 0 && <Typography.Text type="secondary">None yet.</Typography.Text>}
            {shown.map((s) => (
              <Button
                key={s.number}
                type={s.number === number ? "primary" : "text"}
                block
                style={{ height: "auto", whiteSpace: "normal", textAlign: "left", justifyContent: "start" }}
                onClick={() => {
                  setNumber(s.number);
                }}
              >
                <span>
                  <strong>{s.name}</strong> {s.protected && <Tag>protected</Tag>}
                  <br />
                  {when(s.at)}, {s.actor}, {s.devices} {s.devices === 1 ? "device" : "devices"}
                </span>
              </Button>
            ))}
          </Card>
          {mayEdit && (
            <div style={{ marginTop: 12 }}>
              <ImportBundle />
            </div>
          )}
        </Col>
        <Col flex="auto" style={{ minWidth: 0, width: 0 }}>
          {number !== undefined && <One key={number} number={number} mayEdit={mayEdit} />}
        </Col>
      </Row>
    </>
  );
}

function Take({ onTaken }: { onTaken: (n: number) => void }) {
  const devices = useDevices();
  const take = useTakeSnapshot();
  const [name, setName] = useState("");
  const [of, setOf] = useState<string[]>([]);
  const [site, setSite] = useState<string>();
  const sites = [...new Set((devices.data ?? []).flatMap((d) => (d.site ? [d.site] : [])))].sort();
  const what = of.length > 0 ? { devices: of } : site ? { site } : { all: true };
  return (
    <Card size="small" title="Name what is there now" style={{ marginBottom: 16 }}>
      <Trouble error={take.error} />
      <Flex vertical gap={8}>
        <Input
          aria-label="name of the snapshot"
          maxLength={200}
          placeholder="what it is for; its time is kept by itself"
          value={name}
          onChange={(e) => {
            setName(e.target.value);
          }}
        />
        <Select
          allowClear
          aria-label="site of the snapshot"
          placeholder="all sites"
          value={site}
          {...disabledIf(of.length > 0)}
          onChange={setSite}
          options={sites.map((s) => ({ value: s, label: s }))}
        />
        <Select
          mode="multiple"
          aria-label="devices of the snapshot"
          placeholder={site ? `all devices of ${site}` : "all devices"}
          value={of}
          onChange={setOf}
          options={(devices.data ?? []).map((d) => ({ value: d.name, label: d.name }))}
        />
        <Button
          type="primary"
          {...disabledIf(!name.trim())}
          loading={take.isPending}
          onClick={() => {
            take.mutate(
              { name, ...what },
              {
                onSuccess: (s) => {
                  setName("");
                  onTaken(s.number);
                },
              },
            );
          }}
        >
          Take it
        </Button>
      </Flex>
    </Card>
  );
}

function One({ number, mayEdit }: { number: number; mayEdit: boolean }) {
  const found = useSnapshot(number);
  const relabel = useRelabel(number);
  const restore = useRestore();
  const s = found.data;
  return (
    <>
      <Trouble error={found.error ?? relabel.error} />
      {s && (
        <Card
          size="small"
          title={`${String(s.number)}: ${s.name}`}
          extra={
            mayEdit && (
              <Flex gap={8}>
                <Button
                  size="small"
                  onClick={() => {
                    relabel.mutate({ protected: !s.protected });
                  }}
                >
                  {s.protected ? "Protect no more" : "Protect"}
                </Button>
                <Button
                  size="small"
                  {...disabledIf(s.protected ?? false)}
                  onClick={() => {
                    relabel.mutate({ retired: true });
                  }}
                >
                  Retire
                </Button>
              </Flex>
            )
          }
        >
          <Typography.Paragraph type="secondary">
            taken {when(s.at)} by {s.actor}
            {s.change ? (
              <>
                , by itself before the commit of <Link to={`/changes/${String(s.change)}`}>change {s.change}</Link>
              </>
            ) : (
              ""
            )}
          </Typography.Paragraph>
          {mayEdit ? (
            <Words
              key={s.name + (s.note ?? "")}
              snapshot={s}
              onSave={(name, note) => {
                relabel.mutate({ name, note });
              }}
            />
          ) : (
            <Typography.Paragraph>{s.note}</Typography.Paragraph>
          )}
          {s.unclean && <Alert type="warning" showIcon title="The moment was not clean" style={{ marginBottom: 8 }} />}
          {s.items?.map((i) => (
            <Device
              key={i.device}
              item={i}
              number={s.number}
              mayEdit={mayEdit}
              onRestore={() => {
                restore.mutate({ from: `snapshot:${String(s.number)}`, devices: [i.device] });
              }}
            />
          ))}
          {mayEdit && (
            <Button
              style={{ marginTop: 8 }}
              loading={restore.isPending}
              onClick={() => {
                restore.mutate({ from: `snapshot:${String(s.number)}` });
              }}
            >
              Bring back all of it…
            </Button>
          )}
          <a href={`/api/v1/export?from=snapshot:${String(s.number)}`} download style={{ marginLeft: 12 }}>
            Download it as a bundle
          </a>
          <Trouble error={restore.error} />
          <BroughtBack doc={restore.data} />
          <Moved number={s.number} />
        </Card>
      )}
    </>
  );
}

/** What moved on its devices since, in sum, each to be opened. */
function Moved({ number }: { number: number }) {
  const [wanted, setWanted] = useState(false);
  const from = `snapshot:${String(number)}`;
  const moved = useMoved(from, "running", wanted);
  const f = moved.data;
  return (
    <div style={{ marginTop: 16 }}>
      <Button
        size="small"
        loading={moved.isFetching}
        onClick={() => {
          if (wanted) void moved.refetch();
          else setWanted(true);
        }}
      >
        What moved since
      </Button>
      <Trouble error={moved.error} />
      {f && (
        <Typography.Paragraph type="secondary" style={{ margin: "8px 0" }}>
          {f.devices.length === 0
            ? "Nothing"
            : `${String(f.devices.length)} of ${String(f.devices.length + f.same)} devices`}{" "}
          differ from what the snapshot holds.
        </Typography.Paragraph>
      )}
      {f?.devices.map((d) => (
        <Flex key={d.device} gap={10} wrap align="baseline">
          <Link to={`/devices/${d.device}?view=compare&a=${from}&b=running`}>{d.device}</Link>
          {d.trouble ? (
            <Typography.Text type="danger">{d.trouble}</Typography.Text>
          ) : (
            <code>
              +{d.added} −{d.removed} ~{d.changed} ↕{d.moved}
            </code>
          )}
          <Typography.Text type="secondary">
            {[
              ...(d.changes ?? []).map((n) => `change ${String(n)}`),
              ...(d.outside ? [`${String(d.outside)} outside`] : []),
            ].join(", ")}
          </Typography.Text>
        </Flex>
      ))}
    </div>
  );
}

function Words({ snapshot: s, onSave }: { snapshot: Snapshot; onSave: (name: string, note: string) => void }) {
  const [name, setName] = useState(s.name);
  const [note, setNote] = useState(s.note ?? "");
  return (
    <Flex vertical gap={6} style={{ marginBottom: 12 }}>
      <Input
        aria-label="another name"
        maxLength={200}
        value={name}
        onChange={(e) => {
          setName(e.target.value);
        }}
      />
      <Input.TextArea
        aria-label="note"
        rows={2}
        placeholder="a note"
        value={note}
        onChange={(e) => {
          setNote(e.target.value);
        }}
      />
      <div>
        <Button
          size="small"
          {...disabledIf(!name.trim() || (name === s.name && note === (s.note ?? "")))}
          onClick={() => {
            onSave(name, note);
          }}
        >
          Keep the name and note
        </Button>
      </div>
    </Flex>
  );
}

function Device({
  item,
  number,
  mayEdit,
  onRestore,
}: {
  item: NonNullable<Snapshot["items"]>[number];
  number: number;
  mayEdit: boolean;
  onRestore: () => void;
}) {
  const go = useNavigate();
  return (
    <Flex gap={10} align="baseline" wrap style={{ marginBottom: 4 }}>
      <Link to={`/devices/${item.device}`}>{item.device}</Link>
      <Typography.Text type="secondary">
        {item.revision ? `revision ${String(item.revision)}` : "what a commit made of it, on hold"}, read{" "}
        {when(item.at)}
      </Typography.Text>
      <Button
        size="small"
        onClick={() => {
          void go(`/devices/${item.device}?view=compare&a=snapshot:${String(number)}&b=running`);
        }}
      >
        Compare with now
      </Button>
      {mayEdit && (
        <Button size="small" onClick={onRestore}>
          Bring it back…
        </Button>
      )}
      {item.unclean?.map((u) => (
        <Typography.Text key={u} type="warning">
          {u}
        </Typography.Text>
      ))}
    </Flex>
  );
}
