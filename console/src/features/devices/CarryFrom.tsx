import { Alert, Button, Flex, Input, Select, Typography } from "antd";
import { useState } from "react";
import { BroughtBack } from "../history/BroughtBack";
import { Trouble } from "../../parts/Trouble";
import { useCarry } from "./queries";
import { useDevices } from "./queries";
import { disabledIf } from "../../lib/disabled";

/** What another device holds, staged on this one; what is this one's own stays. */
export function CarryFrom({ device }: { device: string }) {
  const devices = useDevices();
  const carry = useCarry();
  const [from, setFrom] = useState<string>();
  const [place, setPlace] = useState("running");
  const own = carry.data?.own ?? [];
  const look = own.filter((o) => !o.kept);
  return (
    <div style={{ marginTop: 16 }}>
      <Flex gap={8} wrap align="center">
        <Typography.Text>Carry from</Typography.Text>
        <Select
          aria-label="device to carry from"
          size="small"
          showSearch
          placeholder="another device"
          style={{ width: 200 }}
          value={from}
          onChange={setFrom}
          options={(devices.data ?? []).filter((d) => d.name !== device).map((d) => ({ value: d.name, label: d.name }))}
        />
        <Input
          aria-label="place to carry"
          size="small"
          style={{ width: 130 }}
          value={place}
          onChange={(e) => {
            setPlace(e.target.value);
          }}
        />
        <Button
          size="small"
          {...disabledIf(!from || !place.trim())}
          loading={carry.isPending}
          onClick={() => {
            carry.mutate({ from: from ?? "", place: place.trim(), onto: device });
          }}
        >
          Stage it on {device}
        </Button>
        <Typography.Text type="secondary">
          Addresses, names and what else is {device}’s own stay as they are.
        </Typography.Text>
      </Flex>
      <Trouble error={carry.error} />
      <BroughtBack doc={carry.data} />
      {look.length > 0 && (
        <Alert
          type="warning"
          showIcon
          style={{ marginTop: 8 }}
          title={`Look at ${look.length === 1 ? "one place" : `${String(look.length)} places`}: carried as on ${from ?? ""}, and perhaps another here`}
          description={look.map((o) => (
            <div key={o.path}>
              <code>{o.path}</code> is {o.from}: {o.why}
            </div>
          ))}
        />
      )}
      {own.length > look.length && (
        <Alert
          type="info"
          showIcon
          style={{ marginTop: 8 }}
          title={`Left as it is on ${device}`}
          description={own
            .filter((o) => o.kept)
            .map((o) => (
              <div key={o.path}>
                <code>{o.path}</code> stays {o.kept} ({from} has {o.from}): {o.why}
              </div>
            ))}
        />
      )}
    </div>
  );
}
