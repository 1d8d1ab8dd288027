import { Alert, Button, Card, Flex, Input, InputNumber, Popconfirm } from "antd";
import { useState } from "react";
import type { Device, Session } from "../../lib/documents";
import { useDraft } from "../../lib/draft";
import { Trouble } from "../../parts/Trouble";
import { useAskFor, useRelease, useReserve } from "./queries";
import { when } from "../../lib/time";
import { may } from "../../lib/may";
import { disabledIf } from "../../lib/disabled";

/** Reserving a device for oneself, asking whoever has it, and ending that. */
export function Reserved({ device, session }: { device: Device; session: Session }) {
  const [reason, setReason] = useDraft(`reservation ${device.name}`);
  const [hours, setHours] = useState(2);
  const [text, setText] = useDraft(`ask ${device.name}`);
  const reserve = useReserve(device.name);
  const release = useRelease(device.name);
  const ask = useAskFor(device.name);
  const r = device.reserved;
  const own = r?.holder === session.account;
  if (!may(session, "stage") && !r) return null;
  return (
    <Card size="small" title="Reserved" style={{ marginBottom: 16 }}>
      <Trouble error={reserve.error ?? release.error ?? ask.error} />
      {r && (
        <Alert
          type="warning"
          showIcon
          title={`By ${own ? "you" : r.holder} until ${when(r.until)}`}
          description={
            <>
              {r.reason}
              {r.asks?.map((a) => (
                <div key={a.at + a.actor}>
                  <strong>{a.actor}</strong> asks: {a.text} ({when(a.at)})
                </div>
              ))}
            </>
          }
          action={
            (own || may(session, "administer")) && (
              <Popconfirm
                title={own ? "End it?" : `Lift the reservation of ${r.holder}?`}
                okText={own ? "End it" : "Lift it"}
                onConfirm={() => {
                  release.mutate(undefined);
                }}
              >
                <Button size="small">{own ? "Release" : "Lift"}</Button>
              </Popconfirm>
            )
          }
        />
      )}
      {r && !own && may(session, "stage") && (
        <Flex gap={6} style={{ marginTop: 8 }}>
          <Input
            aria-label="ask"
            placeholder={`ask ${r.holder}`}
            maxLength={500}
            value={text}
            onChange={(e) => {
              setText(e.target.value);
            }}
          />
          <Button
            {...disabledIf(!text.trim())}
            loading={ask.isPending}
            onClick={() => {
              ask.mutate(text, {
                onSuccess: () => {
                  setText("");
                },
              });
            }}
          >
            Ask
          </Button>
        </Flex>
      )}
      {!r && (
        <Flex gap={6} align="center">
          <Input
            aria-label="reason"
            placeholder="why? others read it"
            maxLength={500}
            value={reason}
            onChange={(e) => {
              setReason(e.target.value);
            }}
          />
          <span style={{ whiteSpace: "nowrap" }}>
            for{" "}
            <InputNumber
              aria-label="hours"
              min={1}
              max={336}
              value={hours}
              onChange={(v) => {
                setHours(v ?? 2);
              }}
              style={{ width: 70 }}
            />{" "}
            h
          </span>
          <Button
            {...disabledIf(!reason.trim())}
            loading={reserve.isPending}
            onClick={() => {
              reserve.mutate(
                { reason, seconds: hours * 3600 },
                {
                  onSuccess: () => {
                    setReason("");
                  },
                },
              );
            }}
          >
            Reserve it for me
          </Button>
        </Flex>
      )}
    </Card>
  );
}
