import { Alert, Button, Card, Flex, Form, Input, Select } from "antd";
import { Trouble } from "../parts/Trouble";
import { useDevices, useStage } from "../queries";

interface Fields {
  device: string;
  op: "put" | "delete";
  path: string;
  value?: string;
}

/** Stages one edit. Nothing of it reaches the device. */
export function StageForm({ number, devices }: { number: number; devices: string[] }) {
  const [form] = Form.useForm<Fields>();
  const op = Form.useWatch("op", form);
  const all = useDevices();
  const stage = useStage(number);
  const finish = (f: Fields) => {
    const value = f.op === "put" && f.value ? { value: f.value } : {};
    stage.mutate({ device: f.device, op: f.op, path: f.path, ...value }, { onSuccess: () => { form.resetFields(["path", "value"]); } });
  };
  return (
    <Card size="small" style={{ marginBottom: 16 }}>
      <Trouble error={stage.error} />
      {stage.data?.notes?.map((n) => <Alert key={n} type="info" showIcon title={n} style={{ marginBottom: 8 }} />)}
      <Form<Fields> form={form} onFinish={finish} initialValues={{ op: "put", device: devices[0] }} requiredMark={false}>
        <Flex gap={8} align="start" wrap>
          <Form.Item name="op" style={{ margin: 0 }}>
            <Select aria-label="operation" style={{ width: 100 }} options={[{ value: "put" }, { value: "delete" }]} />
          </Form.Item>
          <Form.Item name="device" style={{ margin: 0 }} rules={[{ required: true, message: "On which device?" }]}>
            <Select aria-label="device" placeholder="device" style={{ width: 200 }} showSearch options={(all.data ?? []).map((d) => ({ value: d.name }))} />
          </Form.Item>
          <Form.Item name="path" style={{ margin: 0, flex: 2, minWidth: 260 }} rules={[{ required: true, message: "Where? e.g. /interfaces/interface=port1/ipv4/mtu" }]}>
            <Input aria-label="path" placeholder="/interfaces/interface=port1/ipv4/mtu" style={{ fontFamily: "monospace" }} />
          </Form.Item>
          {op !== "delete" && (
            <Form.Item name="value" style={{ margin: 0, flex: 1, minWidth: 140 }}>
              <Input aria-label="value" placeholder="value" />
            </Form.Item>
          )}
          <Button htmlType="submit" loading={stage.isPending}>Stage</Button>
        </Flex>
      </Form>
    </Card>
  );
}
