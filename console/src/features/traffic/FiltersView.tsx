import { Alert, Button, Card, Flex, Input, Segmented, Spin, Tag, Typography } from "antd";
import { useState } from "react";
import { ruling } from "./Traffic";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import type { FilterRule, Traced } from "../../lib/documents";
import { useFilter, useFilters, useTrace } from "./queries";

/** A device's packet filters: what each rule decides, and what becomes of packets. */
export function FiltersView({ device }: { device: string }) {
  const list = useFilters(device);
  const [picked, setPicked] = useState<string>();
  const name = picked ?? list.data?.filters[0]?.name;
  const found = useFilter(device, name);
  if (list.isPending && !list.error) return <Spin />;
  if (list.data?.filters.length === 0) return <Alert type="info" showIcon title={`${device} has no packet filters.`} />;
  const where = (list.data?.attached ?? [])
    .filter((a) => name !== undefined && a.filters.includes(name))
    .map((a) => `${a.interface} ${a.direction}`);
  const f = found.data;
  return (
    <>
      <Trouble error={list.error ?? found.error} />
      <Flex gap={12} align="center" wrap style={{ marginBottom: 12 }}>
        <Segmented
          aria-label="filter"
          value={name ?? ""}
          onChange={setPicked}
          options={(list.data?.filters ?? []).map((x) => ({ value: x.name, label: x.name }))}
        />
        <Typography.Text type="secondary">
          {where.length > 0 ? `works on ${where.join(", ")}` : "attached nowhere"}; what no rule fits is dropped
        </Typography.Text>
      </Flex>
      {name && <Question device={device} filter={name} />}
      {f?.trouble && <Alert type="error" showIcon title={f.trouble} />}
      {f?.cleanUnknown && <Alert type="info" showIcon style={{ marginBottom: 12 }} title={f.cleanUnknown} />}
      {f?.clean && f.clean.length > 0 && (
        <Alert
          type="warning"
          showIcon
          style={{ marginBottom: 12 }}
          title={`These can all go, and every packet is treated as before, proved: ${f.clean.join(", ")}`}
        />
      )}
      <Rows<FilterRule>
        size="small"
        rowKey={(r) => r.path + r.name}
        loading={found.isPending && !found.error}
        dataSource={f?.rules ?? []}
        pagination={{ pageSize: 100, hideOnSinglePage: true }}
        columns={[
          { title: "Rule", dataIndex: "name", render: (n: string) => <bdi>{n}</bdi> },
          {
            title: "Does",
            dataIndex: "action",
            width: 90,
            render: (a: string) => <Tag color={a === "accept" ? "blue" : "volcano"}>{a}</Tag>,
          },
          {
            title: "Fits",
            key: "fits",
            render: (_, r) =>
              r.fits.map((l) => (
                <div key={l}>
                  <bdi>{l}</bdi>
                </div>
              )),
          },
          {
            title: "Decides",
            key: "decides",
            render: (_, r) =>
              r.standing === "never-reached" ? (
                <Tag color="red">never reached</Tag>
              ) : (
                <>
                  {r.standing === "redundant" && <Tag color="gold">redundant</Tag>}
                  {JSON.stringify(r.fits) === JSON.stringify(r.decides)
                    ? "all of it"
                    : (r.decides ?? []).map((l) => (
                        <div key={l}>
                          <bdi>{l}</bdi>
                        </div>
                      ))}
                  {r.more && "…"}
                </>
              ),
          },
        ]}
      />
      {f?.clashes?.map((c) => (
        <div key={`${c.first} ${c.second}`}>
          <Typography.Text type="secondary">
            Rules <bdi>{c.first}</bdi> and <bdi>{c.second}</bdi> treat the same packets differently, e.g.{" "}
            <bdi>{c.example}</bdi>; the first decides.
          </Typography.Text>
        </div>
      ))}
    </>
  );
}

/** What becomes of packets at a filter, and why. */
function Question({ device, filter }: { device: string; filter: string }) {
  const trace = useTrace();
  const [packets, setPackets] = useState("");
  const ask = () => {
    if (packets.trim()) trace.mutate({ way: `${device}/${filter}`, packets });
  };
  return (
    <Card size="small" title="What becomes of these packets?" style={{ marginBottom: 12 }}>
      <Flex gap={8}>
        <Input
          aria-label="packets"
          placeholder="tcp from 198.51.100.7 to 192.0.2.13 port 830"
          value={packets}
          onChange={(e) => {
            setPackets(e.target.value);
          }}
          onPressEnter={ask}
        />
        <Button loading={trace.isPending} onClick={ask}>
          Ask
        </Button>
      </Flex>
      <Trouble error={trace.error} />
      {trace.data && <Answer traced={trace.data} />}
    </Card>
  );
}

const words = {
  permitted: "Permitted, all of it.",
  denied: "Denied, all of it.",
  partly: "Some of it is permitted, some is denied.",
};

function Answer({ traced: t }: { traced: Traced }) {
  return (
    <Alert
      style={{ marginTop: 8 }}
      type={t.answer === "permitted" ? "success" : t.answer === "denied" ? "error" : "warning"}
      showIcon
      title={t.trouble ?? words[t.answer]}
      description={t.parts.map((p) => (
        <div key={p.packets} style={{ marginTop: 4 }}>
          <Tag color={p.permitted ? "blue" : "volcano"}>{p.permitted ? "permitted" : "denied"}</Tag>{" "}
          <strong>
            <bdi>{p.packets}</bdi>
          </strong>
          {p.way.map((w) => (
            <div key={w.filter} style={{ paddingLeft: 16 }}>
              e.g. <bdi>{p.example}</bdi>: <bdi>{ruling(w.by)}</bdi>
              {w.not?.map((m) => (
                <div key={m.rule} style={{ paddingLeft: 16 }}>
                  <Typography.Text type="secondary">
                    not <bdi>{m.rule}</bdi>: <bdi>{m.why}</bdi>
                  </Typography.Text>
                </div>
              ))}
            </div>
          ))}
        </div>
      ))}
    />
  );
}
