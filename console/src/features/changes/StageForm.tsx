import { Alert, AutoComplete, Button, Descriptions, Flex, Form, Radio, Select, Typography } from "antd";
import { useState } from "react";
import type { Hint } from "../../lib/documents";
import { Trouble } from "../../parts/Trouble";
import { useHints, useStage } from "./queries";
import { fieldsOf, keepFields } from "../../lib/draft";
import { disabledIf } from "../../lib/disabled";

interface Fields {
  op: "put" | "delete" | "move";
  path: string;
  value?: string;
  several?: "add" | "only";
}

/** Stages one edit on the devices that are chosen. Nothing of it reaches them. */
export function StageForm({ number, devices }: { number: number; devices: string[] }) {
  const [form] = Form.useForm<Fields>();
  const draft = `stage ${String(number)}`;
  const [path, setPath] = useState(fieldsOf<Fields>(draft).path ?? "");
  const op = Form.useWatch("op", form) ?? "put";
  const stage = useStage(number);
  const hints = useHints(devices[0], path || "/", number);
  const here = hints.data?.find((h) => h.path === path.replace(/=[^/]*$/, "") || h.path === path);
  const finish = (f: Fields) => {
    const value = f.op !== "delete" && f.value ? { value: f.value } : {};
    const several = f.op === "put" && here?.several && f.several ? { several: f.several } : {};
    stage.mutate(
      { devices, op: f.op, path: f.path, ...value, ...several },
      {
        onSuccess: () => {
          keepFields(draft, {});
          form.setFieldsValue({ path: "", value: "" });
          form.resetFields(["several"]);
          setPath("");
        },
      },
    );
  };
  const go = (h: Hint) => (h.kind === "container" || h.kind === "entry" ? `${h.path}/` : h.path);
  return (
    <>
      <Trouble error={stage.error} />
      {stage.data
        ?.flatMap((s) => (s.notes ?? []).map((n) => ({ key: `${String(s.edit.id)} ${n}`, device: s.edit.device, n })))
        .map((x) => (
          <Alert
            key={x.key}
            type="info"
            showIcon
            title={stage.data.length > 1 ? `${x.device}: ${x.n}` : x.n}
            style={{ marginBottom: 8 }}
          />
        ))}
      <Form<Fields>
        form={form}
        onFinish={finish}
        initialValues={{ op: "put", ...fieldsOf<Fields>(draft) }}
        requiredMark={false}
        onValuesChange={(v: Partial<Fields>, all: Fields) => {
          keepFields(draft, { path: all.path, value: all.value });
          if (v.path !== undefined) setPath(v.path);
        }}
      >
        <Flex gap={8} align="start" wrap>
          <Form.Item name="op" style={{ margin: 0 }}>
            <Select
              aria-label="operation"
              style={{ width: 100 }}
              options={[{ value: "put" }, { value: "delete" }, { value: "move" }]}
            />
          </Form.Item>
          <Form.Item
            name="path"
            style={{ margin: 0, flex: 2, minWidth: 240 }}
            rules={[{ required: true, message: "Where? e.g. /interfaces/interface=port1/ipv4/mtu" }]}
          >
            <AutoComplete
              aria-label="path"
              placeholder="/interfaces/interface=port1/ipv4/mtu"
              style={{ fontFamily: "monospace" }}
              defaultActiveFirstOption={false}
              options={(hints.data ?? []).map((h) => ({ value: go(h), label: <HintLine hint={h} /> }))}
              popupMatchSelectWidth={520}
            />
          </Form.Item>
          {op !== "delete" && (
            <Form.Item name="value" style={{ margin: 0, flex: 1, minWidth: 130 }}>
              <AutoComplete
                aria-label="value"
                placeholder={op === "move" ? "first, last, before KEY, after KEY" : "value"}
                defaultActiveFirstOption={false}
                options={(op === "move" ? ["first", "last"] : (here?.values ?? [])).map((v) => ({ value: v }))}
              />
            </Form.Item>
          )}
          <Button
            htmlType="submit"
            type="primary"
            ghost
            loading={stage.isPending}
            {...disabledIf(devices.length === 0)}
          >
            Stage
          </Button>
        </Flex>
        {op === "put" && here?.several && here.kind === "leaf-list" && (
          <Form.Item name="several" style={{ margin: "8px 0 0" }}>
            <Radio.Group
              options={[
                { value: "add", label: `one more, beside ${here.current ?? "none"}` },
                { value: "only", label: "the only one, the others go" },
              ]}
            />
          </Form.Item>
        )}
      </Form>
      {here && <About hint={here} />}
    </>
  );
}

function HintLine({ hint }: { hint: Hint }) {
  return (
    <Flex justify="space-between" gap={12}>
      <code>{hint.path}</code>
      <Typography.Text type="secondary" ellipsis style={{ maxWidth: 240 }}>
        {hint.current ?? hint.type ?? hint.kind}
      </Typography.Text>
    </Flex>
  );
}

/** What the schema says of the place that is being written. */
function About({ hint }: { hint: Hint }) {
  const items = [
    { label: "type", text: [hint.type ?? hint.kind, hint.units && `in ${hint.units}`].filter(Boolean).join(", ") },
    { label: "now", text: hint.current },
    { label: "default", text: hint.default },
    { label: "about", text: hint.help },
  ].filter((i) => i.text);
  return (
    <Descriptions
      size="small"
      column={{ xs: 1, sm: 2 }}
      style={{ marginTop: 8 }}
      items={items.map((i) => ({ key: i.label, label: i.label, children: i.text }))}
    />
  );
}
