import { Alert, Button, Flex, Form, Input, Popconfirm, Select, Typography } from "antd";
import type { Session } from "../../lib/documents";
import { SearchLine } from "./SearchLine";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import type { NewReceiver, Receiver } from "../../lib/documents";
import { useAddReceiver, useReceivers, useRetireReceiver, useTryReceiver } from "./queries";
import { when } from "../../lib/time";
import { may, mayEverywhere } from "../../lib/may";

const places: Record<Receiver["kind"], string> = {
  syslog: "tls://192.0.2.5:6514, tcp:// or udp://",
  webhook: "https://hook.example/latch",
  mail: "smtp://192.0.2.25:25 or smtps://",
};

/** Who is told of what, and how that goes. */
export function Receivers({ session }: { session: Session }) {
  const list = useReceivers(may(session, "audit"));
  const retire = useRetireReceiver();
  const attempt = useTryReceiver();
  const mayAdd = mayEverywhere(session, "administer");
  return (
    <Flex vertical gap={12}>
      <Typography.Text type="secondary">
        Each is told of what its line finds, from when it was added on. What it did not take is told again, and nothing
        is left out.
      </Typography.Text>
      <Trouble error={list.error ?? retire.error ?? attempt.error} />
      {attempt.isSuccess && <Alert type="success" showIcon title={`${attempt.variables} took it.`} />}
      <Rows<Receiver>
        size="small"
        rowKey="name"
        pagination={false}
        dataSource={list.data ?? []}
        locale={{ emptyText: "No receivers yet." }}
        columns={[
          { title: "Receiver", dataIndex: "name" },
          { title: "Kind", dataIndex: "kind" },
          { title: "Place", dataIndex: "place", render: (p: string) => <code>{p}</code> },
          {
            title: "Is told of",
            dataIndex: "line",
            render: (l: string) =>
              l ? (
                <code>
                  <bdi>{l}</bdi>
                </code>
              ) : (
                "everything"
              ),
          },
          {
            title: "Stands",
            key: "stands",
            render: (_, r) =>
              r.trouble ? (
                <Typography.Text type="danger">
                  since {when(r.since)}: {r.trouble}; {r.behind} behind
                </Typography.Text>
              ) : (
                `${String(r.told)} told`
              ),
          },
          {
            key: "act",
            render: (_, r) =>
              mayAdd && (
                <Flex gap={4}>
                  <Button
                    size="small"
                    loading={attempt.isPending && attempt.variables === r.name}
                    onClick={() => {
                      attempt.mutate(r.name);
                    }}
                  >
                    Try
                  </Button>
                  <Popconfirm
                    title={`Stop sending to ${r.name}?`}
                    okText="Nothing any more"
                    onConfirm={() => {
                      retire.mutate(r.name);
                    }}
                  >
                    <Button size="small" type="text">
                      Retire…
                    </Button>
                  </Popconfirm>
                </Flex>
              ),
          },
        ]}
      />
      {mayAdd && <Add />}
    </Flex>
  );
}

interface Fields {
  name: string;
  kind: Receiver["kind"];
  place: string;
  secret?: string;
  authority?: string;
  from?: string;
  to?: string;
}

function Add() {
  const add = useAddReceiver();
  const [form] = Form.useForm<Fields & { line: string }>();
  const kind = Form.useWatch("kind", form) ?? "syslog";
  const line = Form.useWatch("line", form) ?? "";
  const submit = ({ to, secret, authority, from, ...v }: Fields) => {
    const doc: NewReceiver = { ...v, line };
    if (secret) doc.secret = secret;
    if (authority) doc.authority = authority;
    if (kind === "mail") {
      if (from) doc.from = from;
      doc.to = (to ?? "").split(/[\s,]+/).filter(Boolean);
    }
    add.mutate(doc, {
      onSuccess: () => {
        form.resetFields();
      },
    });
  };
  return (
    <Form<Fields & { line: string }>
      form={form}
      layout="vertical"
      initialValues={{ kind: "syslog", line: "" }}
      onFinish={submit}
      requiredMark={false}
    >
      <Flex gap={8} wrap>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: "a name" }]}>
          <Input style={{ width: 150 }} />
        </Form.Item>
        <Form.Item name="kind" label="Kind">
          <Select style={{ width: 120 }} options={Object.keys(places).map((k) => ({ value: k, label: k }))} />
        </Form.Item>
        <Form.Item
          name="place"
          label="Place"
          rules={[{ required: true, message: "a place" }]}
          style={{ flex: 1, minWidth: 260 }}
        >
          <Input placeholder={places[kind]} />
        </Form.Item>
      </Flex>
      <Form.Item label="Is told of what this finds; of everything, if it is empty">
        <SearchLine
          line={line}
          onSearch={(l) => {
            form.setFieldValue("line", l);
          }}
        />
      </Form.Item>
      <Form.Item name="line" hidden>
        <Input />
      </Form.Item>
      {kind === "mail" && (
        <Flex gap={8} wrap>
          <Form.Item name="from" label="From">
            <Input style={{ width: 260 }} placeholder="latch@tidewell.example" />
          </Form.Item>
          <Form.Item name="to" label="To" style={{ flex: 1, minWidth: 260 }}>
            <Input placeholder="office@tidewell.example, pier@tidewell.example" />
          </Form.Item>
        </Flex>
      )}
      {kind === "webhook" && (
        <Form.Item name="secret" label="Secret that signs what it is told">
          <Input.Password autoComplete="off" />
        </Form.Item>
      )}
      <Form.Item name="authority" label="Certificate (PEM) that vouches for it; the system's, if this is empty">
        <Input.TextArea rows={2} spellCheck={false} />
      </Form.Item>
      <Trouble error={add.error} />
      <Button type="primary" htmlType="submit" loading={add.isPending}>
        Start sending
      </Button>
    </Form>
  );
}
