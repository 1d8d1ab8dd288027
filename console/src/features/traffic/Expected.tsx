import { Alert, Button, Card, Flex, Input, Popconfirm, Space, Tag, Typography } from "antd";
import { useState } from "react";
import type { Preview } from "../../lib/documents";
import { MovedList, placeName, placeWords, ruling } from "./Traffic";
import { Trouble } from "../../parts/Trouble";
import type { Expectation, SideEffect } from "../../lib/documents";
import { useAcceptEffect, useExpect, useUnexpect } from "./queries";
import { disabledIf } from "../../lib/disabled";

/** What traffic a change is meant to permit or deny, what of it is so, and what it does beside it. */
export function Expected({ preview, open }: { preview: Preview; open: boolean }) {
  const n = preview.change.number;
  const add = useExpect(n);
  const drop = useUnexpect(n);
  const accept = useAcceptEffect(n);
  const [line, setLine] = useState("");
  const [place, setPlace] = useState("");
  const expected = preview.expected ?? [];
  const beside = preview.beside ?? [];
  const touches = preview.parts.some((p) => p.effects?.length);
  if (!touches && expected.length === 0) return null;
  return (
    <Card size="small" title="What is expected of the traffic" style={{ margin: "12px 0" }}>
      <Flex vertical gap={8}>
        {expected.map((e) => (
          <One
            key={e.number}
            expectation={e}
            onDrop={
              open
                ? () => {
                    drop.mutate(e.number);
                  }
                : undefined
            }
          />
        ))}
        {expected.length > 0 && beside.length === 0 && (
          <Alert type="success" showIcon title="All other packets are treated as before, proved." />
        )}
        {beside.map((s) => (
          <Beside
            key={`${s.device}/${placeName(s)}`}
            effect={s}
            onAccept={
              open
                ? () => {
                    accept.mutate({ device: s.device, place: placeName(s) });
                  }
                : undefined
            }
          />
        ))}
        {open && (
          <Space.Compact style={{ width: "100%" }}>
            <Input
              aria-label="expectation"
              placeholder="permit tcp from 198.51.100.64/26 to 192.0.2.80 port 8443"
              value={line}
              onChange={(ev) => {
                setLine(ev.target.value);
              }}
            />
            <Input
              aria-label="at"
              placeholder="at DEVICE/FILTER; each place it touches"
              value={place}
              onChange={(ev) => {
                setPlace(ev.target.value);
              }}
              style={{ maxWidth: 260 }}
            />
            <Button
              {...disabledIf(line.trim() === "")}
              loading={add.isPending}
              onClick={() => {
                add.mutate(
                  { line, ...(place ? { place } : {}) },
                  {
                    onSuccess: () => {
                      setLine("");
                    },
                  },
                );
              }}
            >
              Expect it
            </Button>
          </Space.Compact>
        )}
        <Trouble error={add.error ?? drop.error ?? accept.error} />
      </Flex>
    </Card>
  );
}

function One({ expectation: e, onDrop }: { expectation: Expectation; onDrop?: (() => void) | undefined }) {
  const already = {
    wholly: "it is so already",
    partly: `a part of it is so already: ${(e.part ?? []).join("; ")}`,
    not: "",
    "": "",
  }[e.already];
  return (
    <Alert
      type={e.delivered ? "success" : "error"}
      showIcon
      title={
        <>
          <Tag color={e.delivered ? "cyan" : "red"}>
            {e.delivered ? "delivered" : e.trouble ? "not known" : "not delivered"}
          </Tag>
          <bdi>{e.line}</bdi> {e.place && <Typography.Text type="secondary">at {e.place}</Typography.Text>}
        </>
      }
      description={
        <>
          {e.trouble}
          {already}
          {e.missing?.map((m) => (
            <div key={m.packets}>
              missing:{" "}
              <strong>
                <bdi>{m.packets}</bdi>
              </strong>
              <div>
                <Typography.Text type="secondary" style={{ fontSize: 12 }}>
                  e.g. <bdi>{m.example}</bdi>: <bdi>{ruling(m.by)}</bdi> in {m.filter}
                </Typography.Text>
              </div>
            </div>
          ))}
          {e.dependsOn?.map((f) => (
            <div key={f}>
              depends on: <bdi>{f}</bdi>
            </div>
          ))}
          {onDrop && (
            <Button size="small" type="link" style={{ padding: 0 }} onClick={onDrop}>
              Remove it
            </Button>
          )}
        </>
      }
    />
  );
}

function Beside({ effect: s, onAccept }: { effect: SideEffect; onAccept?: (() => void) | undefined }) {
  return (
    <Alert
      type={s.acceptedBy ? "info" : "error"}
      showIcon
      title={`Side effect at ${placeWords(s)} of ${s.device}${s.acceptedBy ? `, accepted by ${s.acceptedBy}` : ", which nobody expects"}`}
      description={
        <>
          {s.trouble}
          <MovedList change={s} />
          {onAccept && !s.acceptedBy && !s.trouble && (
            <Popconfirm
              title={`Accept what it does at ${placeWords(s)} of ${s.device}, as it is now?`}
              okText="Accept it"
              onConfirm={onAccept}
            >
              <Button size="small" style={{ marginTop: 6 }}>
                Accept it by name…
              </Button>
            </Popconfirm>
          )}
        </>
      }
    />
  );
}
