import { Card, Flex, Select, Tabs } from "antd";
import { useState } from "react";
import { useDevices } from "../devices/queries";
import { BindForm } from "./BindForm";
import { StageForm } from "./StageForm";
import { EditText, LoadForm } from "./TextForm";

/** The ways to stage, on one device or several. Nothing of it reaches them. */
export function StagePanel({ number, chosen }: { number: number; chosen: string | undefined }) {
  const all = useDevices();
  // What was picked holds until another device is looked at.
  const [picked, setPicked] = useState<{ at: string | undefined; list: string[] }>();
  const devices = picked && picked.at === chosen ? picked.list : chosen ? [chosen] : [];
  return (
    <Card size="small" style={{ marginBottom: 12 }} styles={{ body: { paddingTop: 4 } }}>
      <Flex gap={6} align="center">
        on
        <Select
          aria-label="device"
          mode="multiple"
          maxTagCount={2}
          placeholder="device"
          style={{ minWidth: 230 }}
          value={devices}
          onChange={(list) => {
            setPicked({ at: chosen, list });
          }}
          options={(all.data ?? []).map((d) => ({ value: d.name }))}
        />
      </Flex>
      <Tabs
        size="small"
        items={[
          { key: "value", label: "Value", children: <StageForm number={number} devices={devices} /> },
          {
            key: "text",
            label: "Edit as text",
            children: devices[0] ? (
              <EditText key={devices[0]} number={number} device={devices[0]} />
            ) : (
              "Choose a device first."
            ),
          },
          { key: "load", label: "File or copy", children: <LoadForm number={number} devices={devices} /> },
          { key: "stencil", label: "Stencil", children: <BindForm number={number} devices={devices} /> },
        ]}
      />
    </Card>
  );
}
