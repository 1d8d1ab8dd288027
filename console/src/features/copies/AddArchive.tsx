import { Button, Card, Checkbox, Flex, Form, Input, InputNumber, Segmented, Typography } from "antd";
import { useState } from "react";
import { Secret, signInWith } from "../access/Secret";
import type { SecretEntered } from "../access/Secret";
import { Trouble } from "../../parts/Trouble";
import { useAddArchive } from "./queries";

interface Entered extends SecretEntered {
  name: string;
  place: string;
  account?: string;
  afterChange: boolean;
  hours?: number | null;
  keepLast?: number | null;
  keepDays?: number | null;
}

const places: Record<string, { label: string; hint: string }> = {
  folder: { label: "Folder", hint: "/mnt/vault/network, on another machine's disk" },
  sftp: { label: "SFTP", hint: "vault.example.net:22/srv/network" },
  git: { label: "Git", hint: "a repository's URL or folder; one commit for each confirmed change" },
};

/** A place that copies go to from now on. */
export function AddArchive() {
  const [kind, setKind] = useState("folder");
  const [form] = Form.useForm<Entered>();
  const add = useAddArchive();
  const enter = (v: Entered) => {
    add.mutate(
      {
        name: v.name,
        kind,
        place: v.place,
        afterChange: v.afterChange,
        ...(kind !== "folder" ? { ...(v.account ? { account: v.account } : {}), ...signInWith(v) } : {}),
        ...(v.hours ? { everySeconds: v.hours * 3600 } : {}),
        ...(v.keepLast ? { keepLast: v.keepLast } : {}),
        ...(v.keepDays ? { keepDays: v.keepDays } : {}),
      },
      {
        onSuccess: () => {
          form.resetFields();
        },
      },
    );
  };
  return (
    <Card size="small" title="Add an archive" style={{ marginBottom: 16 }}>
      <Form<Entered>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ afterChange: true }}
        onFinish={enter}
      >
        <Flex gap={12} wrap align="start">
          <Form.Item label="Kind">
            <Segmented
              aria-label="kind of archive"
              value={kind}
              onChange={setKind}
              options={Object.entries(places).map(([value, p]) => ({ value, label: p.label }))}
            />
          </Form.Item>
          <Form.Item name="name" label="Name" rules={[{ required: true, message: "a name to speak of it" }]}>
            <Input style={{ width: 160 }} />
          </Form.Item>
          <Form.Item
            name="place"
            label="Place"
            rules={[{ required: true, message: "where?" }]}
            style={{ flex: 1, minWidth: 320 }}
          >
            <Input placeholder={places[kind]?.hint} />
          </Form.Item>
        </Flex>
        {kind !== "folder" && (
          <Flex gap={12} wrap align="start">
            <Form.Item name="account" label="Account">
              <Input style={{ width: 160 }} autoComplete="off" />
            </Form.Item>
            <Secret />
          </Flex>
        )}
        <Flex gap={12} wrap align="end">
          <Form.Item name="afterChange" valuePropName="checked">
            <Checkbox>after each confirmed change</Checkbox>
          </Form.Item>
          <Form.Item name="hours" label="Also every">
            <InputNumber min={1} max={8760} suffix="h" style={{ width: 110 }} />
          </Form.Item>
          {kind !== "git" && (
            <Form.Item name="keepLast" label="Keep of each device">
              <InputNumber min={1} max={100000} suffix="copies" style={{ width: 140 }} />
            </Form.Item>
          )}
          {kind !== "git" && (
            <Form.Item name="keepDays" label="And of the last">
              <InputNumber min={1} max={36500} suffix="days" style={{ width: 120 }} />
            </Form.Item>
          )}
          <Form.Item>
            <Button type="primary" htmlType="submit" loading={add.isPending}>
              Add it
            </Button>
          </Form.Item>
        </Flex>
        <Typography.Text type="secondary">
          Archives are tried in order: the next is used when one fails. Each copy is read back and compared before it
          counts.
        </Typography.Text>
        <Trouble error={add.error} />
      </Form>
    </Card>
  );
}
