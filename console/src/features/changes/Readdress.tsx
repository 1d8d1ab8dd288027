import { Button, Flex, Input, Typography } from "antd";
import { useState } from "react";
import type { PartPreview } from "../../lib/documents";
import { Trouble } from "../../parts/Trouble";
import { useReaddress } from "./queries";
import { disabledIf } from "../../lib/disabled";

/** Says where a part moves its device's management to: on hold, it is proved that the device is reached there. */
export function Readdress({ number, part }: { number: number; part: PartPreview }) {
  const set = useReaddress(number);
  const [address, setAddress] = useState(part.movesTo ?? "");
  const [seenAs, setSeenAs] = useState("");
  return (
    <div>
      <Typography.Text type="secondary">
        Does this move the management address of {part.device}? Then say where it is reached afterwards.
      </Typography.Text>
      <Flex gap={6} wrap style={{ marginTop: 4 }}>
        <Input
          aria-label="new management address"
          placeholder="192.0.2.22:830"
          value={address}
          onChange={(e) => {
            setAddress(e.target.value);
          }}
          style={{ width: 190 }}
        />
        <Input
          aria-label="as packets have it"
          placeholder="as packets have it, if other"
          value={seenAs}
          onChange={(e) => {
            setSeenAs(e.target.value);
          }}
          style={{ width: 220 }}
        />
        <Button
          loading={set.isPending}
          {...disabledIf(address === (part.movesTo ?? "") && seenAs === "")}
          onClick={() => {
            set.mutate({ device: part.device, address: address.trim(), ...(seenAs && { seenAs: seenAs.trim() }) });
          }}
        >
          {address === "" ? "It does not move" : "It moves there"}
        </Button>
      </Flex>
      <Trouble error={set.error} />
    </div>
  );
}
