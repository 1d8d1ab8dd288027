import { AutoComplete, Button, Flex, Form, Input, InputNumber, Modal, Switch } from "antd";
import { useState } from "react";
import { useDevices } from "../devices/queries";
import { useAddRule } from "./queries";
import { covers } from "../../lib/may";
import { Trouble } from "../../parts/Trouble";

interface Rule {
  scope: string;
  path?: string;
  needed: number;
  emergency: boolean;
  note?: string;
}

/** What stands for every device where devices are asked for: that is never meant by leaving something out. */
const all = "all devices";

/** Makes a rule on what needs approval by others; whom it concerns is shown before it is made. */
export function NewRule() {
  const add = useAddRule();
  const devices = useDevices();
  const [form] = Form.useForm<Rule>();
  const [wanted, setWanted] = useState<Rule>();
  const list = devices.data ?? [];
  const meant = wanted ? list.filter((d) => wanted.scope === all || covers(wanted.scope, d)) : [];
  const scopes = [
    all,
    ...new Set(
      list.flatMap((d) => [
        ...(d.site ? [`site=${d.site}`] : []),
        ...(d.role ? [`role=${d.role}`] : []),
        ...(d.tags ?? []).map((t) => `tag=${t}`),
      ]),
    ),
    ...list.map((d) => `device=${d.name}`),
  ];
  const make = ({ scope, path, needed, emergency, note }: Rule) => {
    add.mutate(
      { needed, emergency, ...(scope !== all && { scope }), ...(path && { path }), ...(note && { note }) },
      {
        onSuccess: () => {
          form.resetFields();
        },
      },
    );
  };
  return (
    <Form<Rule>
      name="rule"
      form={form}
      layout="vertical"
      style={{ marginTop: 12 }}
      initialValues={{ needed: 1, emergency: true }}
      onFinish={setWanted}
    >
      <Flex gap={12} align="start" wrap>
        <Form.Item name="scope" label="Devices" rules={[{ required: true, message: `Which? Or: ${all}` }]}>
          <AutoComplete
            placeholder="tag=edge"
            style={{ minWidth: 200 }}
            options={scopes.map((value) => ({ value }))}
            showSearch={{ filterOption: (text, o) => (o?.value ?? "").includes(text) }}
          />
        </Form.Item>
        <Form.Item name="path" label="Path" extra="anywhere, if left out">
          <Input placeholder="/acls" />
        </Form.Item>
        <Form.Item name="needed" label="Persons">
          <InputNumber min={1} max={5} />
        </Form.Item>
        <Form.Item name="emergency" label="Emergencies" valuePropName="checked">
          <Switch checkedChildren="possible" unCheckedChildren="never" />
        </Form.Item>
        <Form.Item name="note" label="Note" style={{ flex: 1, minWidth: 160 }}>
          <Input />
        </Form.Item>
        <Form.Item label=" ">
          <Button htmlType="submit" loading={add.isPending}>
            Make the rule…
          </Button>
        </Form.Item>
      </Flex>
      <Trouble error={add.error} />
      <Modal
        open={wanted !== undefined}
        title="Make this rule?"
        destroyOnHidden
        okText="Make it"
        onCancel={() => {
          setWanted(undefined);
        }}
        onOk={() => {
          if (wanted) make(wanted);
          setWanted(undefined);
        }}
      >
        {wanted && (
          <>
            <p>
              From now on every commit that touches {wanted.path ? <code>{wanted.path}</code> : "anything"} on{" "}
              <strong>
                {wanted.scope === all ? all : wanted.scope}, {meant.length} of {list.length} devices now
              </strong>
              , waits for {wanted.needed === 1 ? "1 person" : `${String(wanted.needed)} persons`} who did not work on
              it. {wanted.emergency ? "In an emergency it can go without." : "Not even an emergency goes without."} It
              holds for everybody, you too.
            </p>
            <p>
              {meant
                .slice(0, 10)
                .map((d) => d.name)
                .join(", ")}
              {meant.length > 10 && ", …"}
              {meant.length === 0 && "No device that you see is meant now; it holds for those to come."}
            </p>
          </>
        )}
      </Modal>
    </Form>
  );
}
