import { Alert, Card, Descriptions, Segmented, Space, Spin, Tabs, Typography } from "antd";
import { Suspense, useState } from "react";
import type { ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Clock, Device, Session } from "../../lib/documents";
import { HostKey } from "./HostKey";
import { Code } from "../../parts/Code";
import { PageTitle } from "../../parts/Headings";
import { Trouble } from "../../parts/Trouble";
import { useConfig, useDevice } from "./queries";
import { span, when } from "../../lib/time";
import { BlameView } from "../history/BlameView";
import { Care } from "./Care";
import { CompareView } from "../history/CompareView";
import { DeviceState } from "./Devices";
import { ReplaceBox } from "./ReplaceBox";
import { Reserved } from "./Reserved";
import { Timeline } from "../history/Timeline";
import { may, on } from "../../lib/may";
import { page } from "../../parts/page";

const LifeView = page(() => import("../history/LifeView").then((m) => m.LifeView));
const ReadText = page(() => import("./ReadText").then((m) => m.ReadText));
const FiltersView = page(() => import("../traffic/FiltersView").then((m) => m.FiltersView));

export function DevicePage({ session }: { session: Session }) {
  const name = useParams().name ?? "";
  const [query, setQuery] = useSearchParams();
  const view = query.get("view") ?? "device";
  const device = useDevice(name);
  const d = device.data;
  const here = on(session, d);
  if (!d && device.error)
    return (
      <>
        <PageTitle title={`Device ${name}`}>There is no device {name} that you could see</PageTitle>
        <Trouble error={device.error} />
        <Link to="/devices">All devices</Link>
      </>
    );
  return (
    <>
      <Space align="center" style={{ marginBottom: 16 }}>
        <PageTitle title={`Device ${name}`}>{name}</PageTitle>
        {d && <DeviceState device={d} />}
      </Space>
      <Trouble error={device.error} />
      <Tabs
        activeKey={view}
        onChange={(v) => {
          setQuery({ view: v });
        }}
        destroyOnHidden
        items={[
          {
            key: "device",
            label: "Device",
            children: (
              <>
                {d && <Details device={d} session={here} />}
                {d && <Configuration device={d} />}
              </>
            ),
          },
          {
            key: "timeline",
            label: "Timeline",
            children: (
              <Timeline
                device={name}
                session={here}
                onCompare={(a, b) => {
                  setQuery({ view: "compare", a, b });
                }}
              />
            ),
          },
          {
            key: "filters",
            label: "Filters",
            children: (
              <Later>
                <FiltersView device={name} />
              </Later>
            ),
          },
          { key: "blame", label: "Who set it", children: <BlameView device={name} /> },
          {
            key: "life",
            label: "Life of a value",
            children: (
              <Later>
                <LifeView
                  key={query.get("path") ?? ""}
                  device={name}
                  path={query.get("path") ?? ""}
                  go={(path) => {
                    setQuery({ view: "life", path });
                  }}
                />
              </Later>
            ),
          },
          {
            key: "text",
            label: "Check a text",
            children: (
              <Later>
                <ReadText device={name} />
              </Later>
            ),
          },
          {
            key: "compare",
            label: "Compare and bring back",
            children: (
              <CompareView
                device={name}
                session={here}
                pair={{ a: query.get("a") ?? "startup", b: query.get("b") ?? "running" }}
                setPair={(p) => {
                  setQuery({ view: "compare", a: p.a, b: p.b });
                }}
              />
            ),
          },
        ]}
      />
    </>
  );
}

/** What is loaded when it is looked at. */
const Later = ({ children }: { children: ReactNode }) => <Suspense fallback={<Spin />}>{children}</Suspense>;

/** What is known of a device, and what is done to it beside commits. */
function Details({ device: d, session }: { device: Device; session: Session }) {
  return (
    <>
      <Card
        size="small"
        title="The device"
        extra={may(session, "administer") && <ReplaceBox device={d} />}
        style={{ marginBottom: 16 }}
      >
        <Descriptions
          size="small"
          column={{ xs: 1, sm: 2 }}
          items={[
            { key: "site", label: "Site", children: [d.role, d.site].filter(Boolean).join(", ") },
            {
              key: "address",
              label: "Address",
              children: (
                <code>
                  {d.account}@{d.address}
                </code>
              ),
            },
            {
              key: "guard",
              label: "Guard",
              children:
                d.guard === "device"
                  ? "the device reverts by itself"
                  : [`${d.guard}: ${d.guardWhy ?? ""}`, d.risk].filter(Boolean).join("; "),
            },
            { key: "seen", label: "Seen", children: when(d.seen) },
            { key: "revision", label: "Revision", children: d.revision },
            { key: "clock", label: "Clock", children: d.clock ? <ClockText clock={d.clock} /> : "not read yet" },
            ...((d.model ?? d.serial)
              ? [
                  {
                    key: "box",
                    label: "Box",
                    children: [d.model, d.serial && `serial number ${d.serial}`].filter(Boolean).join(", "),
                  },
                ]
              : []),
            ...(d.seenAs ? [{ key: "seenAs", label: "In the network", children: d.seenAs }] : []),
            ...(d.via ? [{ key: "via", label: "Way to it", children: `through ${d.via.join(", ")}` }] : []),
            { key: "modules", label: "Modules", children: `${String(d.modules ?? 0)} understood` },
          ]}
        />
        {d.trouble && <Alert type="error" showIcon title={d.trouble} />}
        {!d.trusted && (
          <Alert
            type="warning"
            showIcon
            title="Nobody accepted its host key yet: nothing is read from it, nothing committed."
            style={{ marginTop: 6 }}
            description={
              may(session, "administer") ? (
                <HostKey of={{ device: d.name }} whose="the device" />
              ) : (
                `An administrator does: latch device trust ${d.name}`
              )
            }
          />
        )}
        {d.unread?.map((u) => (
          <Alert
            key={u}
            type="warning"
            showIcon
            title={`Not understood, carried unread: ${u}`}
            style={{ marginTop: 6 }}
          />
        ))}
      </Card>
      <Reserved device={d} session={session} />
      <Care device={d} session={session} />
    </>
  );
}

/** What a device holds: by the record, where no device is asked, or read from it when a person says so. */
function Configuration({ device }: { device: Device }) {
  const known = device.revision ? `rev:${String(device.revision)}` : undefined;
  const [datastore, setDatastore] = useState<string>();
  const from = datastore ?? known;
  const config = useConfig(device.name, from);
  return (
    <Card
      size="small"
      title="Configuration"
      extra={
        <Segmented
          size="small"
          value={datastore ?? "known"}
          onChange={(v) => {
            setDatastore(v === "known" ? undefined : v);
          }}
          options={[
            { value: "known", label: known === undefined ? "never read" : `revision ${String(device.revision)}` },
            { value: "running", label: "read running" },
            { value: "startup", label: "read startup" },
            { value: "candidate", label: "read candidate" },
          ]}
          aria-label="datastore"
        />
      }
    >
      <Trouble error={config.error} />
      {config.isFetching && <Spin />}
      {from === undefined && <Typography.Text type="secondary">Nothing was read from it yet.</Typography.Text>}
      {config.data && (
        <Typography.Paragraph type="secondary">
          {datastore === undefined
            ? `As it was when revision ${String(device.revision)} was read, ${when(config.data.read)}.`
            : `Read from the device, ${when(config.data.read)}.`}
        </Typography.Paragraph>
      )}
      <Code label="configuration" text={config.data?.outline} />
    </Card>
  );
}

function ClockText({ clock }: { clock: Clock }) {
  const seconds = Math.round(clock.aheadSeconds);
  const text =
    seconds === 0 ? "right to the second" : `${span(seconds)} ${seconds > 0 ? "ahead of" : "behind"} this service's`;
  return (
    <Typography.Text type={clock.off ? "danger" : "secondary"}>
      {text}, read {when(clock.read)}
    </Typography.Text>
  );
}
