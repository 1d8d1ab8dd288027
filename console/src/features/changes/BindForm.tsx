import { AutoComplete, Button, Flex, Form, Select, Typography } from "antd";
import { useState } from "react";
import { LoadedList } from "./LoadedList";
import { Code } from "../../parts/Code";
import { Trouble } from "../../parts/Trouble";
import { useBind } from "./queries";
import { useStencil, useStencils } from "../stencils/queries";
import { disabledIf } from "../../lib/disabled";

/** Stages what a stencil sets on the devices that are chosen. */
export function BindForm({ number, devices }: { number: number; devices: string[] }) {
  const [name, setName] = useState<string>();
  const list = useStencils();
  const stencil = useStencil(name, devices[0]);
  const bind = useBind();
  const [form] = Form.useForm<Record<string, string>>();
  const blanks = (stencil.data?.blanks ?? []).filter((b) => !b.shared);
  return (
    <Flex vertical gap={8}>
      <Trouble error={stencil.error ?? bind.error} />
      <Select
        aria-label="stencil"
        placeholder={list.data?.length === 0 ? "there are no stencils yet" : "which stencil?"}
        style={{ width: 320 }}
        value={name}
        onChange={setName}
        options={(list.data ?? []).map((s) => ({ value: s.name, label: `${s.name}, version ${String(s.version)}` }))}
      />
      {name && stencil.data && (
        <Form
          form={form}
          layout="vertical"
          requiredMark={false}
          onFinish={(values) => {
            bind.mutate({ stencil: name, change: number, devices, blanks: values });
          }}
        >
          <Flex gap={12} wrap>
            {blanks.map((b) => (
              <Form.Item
                key={b.name}
                name={b.name}
                label={b.name}
                help={b.type}
                rules={[{ required: true, message: `${b.name} is left unfilled` }]}
                style={{ minWidth: 200 }}
              >
                <AutoComplete aria-label={b.name} options={(b.values ?? []).map((v) => ({ value: v }))} />
              </Form.Item>
            ))}
          </Flex>
          <Code label="the stencil" text={stencil.data.text} style={{ maxHeight: 160, margin: "8px 0" }} />
          <Flex gap={8}>
            <Button
              type="primary"
              ghost
              htmlType="submit"
              loading={bind.isPending}
              {...disabledIf(devices.length === 0)}
            >
              Stage on {devices.length === 1 ? devices[0] : `${String(devices.length)} devices`}
            </Button>
            <Button
              onClick={() => {
                bind.mutate({ stencil: name, change: number, devices, off: true });
              }}
              {...disabledIf(devices.length === 0)}
            >
              Take off what it set
            </Button>
          </Flex>
        </Form>
      )}
      {!name && (
        <Typography.Text type="secondary">
          A stencil is a piece of configuration with blanks, kept under a name.
        </Typography.Text>
      )}
      <LoadedList list={bind.data} />
    </Flex>
  );
}
