import { Alert, Button, Card, Flex, Form, Input, InputNumber, Popconfirm, Select, Space, Tag, Typography } from "antd";
import { useState } from "react";
import type { Account, ApprovalRule, Token } from "../../lib/documents";
import {
  useAccounts,
  useAddAccount,
  useAddToken,
  useCloseAccount,
  useDropRule,
  useEndToken,
  useOwnPassword,
  useResetFactors,
  useRules,
  useSetAccount,
  useTokens,
} from "./queries";
import type { Session } from "../../lib/documents";
import { OwnFactors } from "./OwnFactors";
import { mayEverywhere, roles } from "../../lib/may";
import { NewRule } from "./NewRule";
import { PageTitle } from "../../parts/Headings";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { when } from "../../lib/time";

/** Who may do what: people, what lets in, and what needs the approval of others. */
export function AccessPage({ session }: { session: Session }) {
  const admin = mayEverywhere(session, "administer");
  return (
    <Flex vertical gap={16}>
      <PageTitle>Who may do what</PageTitle>
      {session.lacks && (
        <Alert
          type="warning"
          showIcon
          title="Your account has to have a second factor"
          description="Set one up here; before that, it may do nothing else."
        />
      )}
      {session.lacks && <OwnFactors />}
      {admin && !session.lacks && <Accounts />}
      {!session.lacks && (
        <>
          <Tokens session={session} />
          <Rules admin={admin} />
          <OwnFactors />
          <OwnPassword />
        </>
      )}
    </Flex>
  );
}

const May = ({ list }: { list: string[] }) => (
  <>
    {list.map((g) => (
      <Tag key={g} {...(g.startsWith("administer") || g.startsWith("reveal") ? { color: "gold" } : {})}>
        <bdi>{g}</bdi>
      </Tag>
    ))}
  </>
);

/** Roles, on all devices or written ROLE@site=NAME. */
const MayField = ({ needed = true }: { needed?: boolean }) => (
  <Form.Item
    name="may"
    label="May"
    rules={needed ? [{ required: true, message: "What may it do?" }] : []}
    extra="on all devices; or write stage@site=Saltern, commit@tag=edge, read@role=router, read@device=NAME"
    style={{ flex: 1, minWidth: 320 }}
  >
    <Select
      mode="tags"
      aria-label="May"
      options={roles.map((r) => ({ value: r, label: r }))}
      placeholder={needed ? "" : "all that you may"}
    />
  </Form.Item>
);

function Accounts() {
  const list = useAccounts(true);
  const close = useCloseAccount();
  const reset = useResetFactors();
  const set = useSetAccount();
  const add = useAddAccount();
  const [form] = Form.useForm<{ name: string; password: string; may: string[] }>();
  const [editing, setEditing] = useState<string>();
  const [may, setMay] = useState<string[]>([]);
  return (
    <Card size="small" title="Accounts">
      <Trouble error={list.error ?? close.error ?? set.error ?? reset.error} />
      <Rows<Account>
        size="small"
        rowKey="name"
        pagination={false}
        dataSource={list.data ?? []}
        columns={[
          {
            title: "Account",
            dataIndex: "name",
            render: (n: string, a) => (
              <Space>
                <strong>{n}</strong>
                {a.closed && <Tag>closed {when(a.closed)}</Tag>}
                {a.issuer && <Typography.Text type="secondary">vouched for by {a.issuer}</Typography.Text>}
              </Space>
            ),
          },
          {
            title: "May",
            key: "may",
            render: (_, a) =>
              editing === a.name ? (
                <Select
                  mode="tags"
                  aria-label={`what ${a.name} may`}
                  style={{ minWidth: 380 }}
                  value={may}
                  onChange={setMay}
                  options={roles.map((r) => ({ value: r, label: r }))}
                />
              ) : (
                <May list={a.may} />
              ),
          },
          { title: "Since", dataIndex: "created", render: when },
          {
            title: "2nd factors",
            key: "factors",
            render: (_, a) => (a.lacks ? <Tag color="orange">missing</Tag> : (a.factors ?? "-")),
          },
          {
            key: "act",
            render: (_, a) =>
              !a.closed && (
                <Flex gap={4}>
                  {editing === a.name ? (
                    <Button
                      size="small"
                      type="primary"
                      loading={set.isPending}
                      onClick={() => {
                        set.mutate(
                          { name: a.name, may },
                          {
                            onSuccess: () => {
                              setEditing(undefined);
                            },
                          },
                        );
                      }}
                    >
                      Keep it so
                    </Button>
                  ) : (
                    <Button
                      size="small"
                      onClick={() => {
                        setMay(a.may);
                        setEditing(a.name);
                      }}
                    >
                      Change…
                    </Button>
                  )}
                  {a.factors && (
                    <Popconfirm
                      title={`Remove all second factors of ${a.name}?`}
                      description="For somebody who lost them. Until others are set up, the password alone lets in; its sessions end."
                      okText="Take them away"
                      onConfirm={() => {
                        reset.mutate(a.name);
                      }}
                    >
                      <Button size="small" type="text">
                        Lost factor…
                      </Button>
                    </Popconfirm>
                  )}
                  <Popconfirm
                    title={`Close account ${a.name} permanently?`}
                    description="Its sessions and tokens end; its name is not given again."
                    okText="Close it"
                    onConfirm={() => {
                      close.mutate(a.name);
                    }}
                  >
                    <Button size="small" type="text">
                      Close…
                    </Button>
                  </Popconfirm>
                </Flex>
              ),
          },
        ]}
      />
      <Form
        name="account"
        form={form}
        layout="vertical"
        style={{ marginTop: 12 }}
        onFinish={(v) => {
          add.mutate(v, {
            onSuccess: () => {
              form.resetFields();
            },
          });
        }}
      >
        <Flex gap={12} align="start" wrap>
          <Form.Item name="name" label="New account" rules={[{ required: true, message: "Its name?" }]}>
            <Input autoComplete="off" />
          </Form.Item>
          <Form.Item
            name="password"
            label="Its password"
            rules={[{ required: true, min: 12, message: "12 characters at least" }]}
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          <MayField />
          <Form.Item label=" ">
            <Button htmlType="submit" loading={add.isPending}>
              Make the account
            </Button>
          </Form.Item>
        </Flex>
        <Trouble error={add.error} />
      </Form>
    </Card>
  );
}

function Tokens({ session }: { session: Session }) {
  const list = useTokens();
  const end = useEndToken();
  const add = useAddToken();
  const [form] = Form.useForm<{ name: string; may?: string[]; days: number }>();
  return (
    <Card size="small" title="Sessions and tokens">
      <Trouble error={list.error ?? end.error} />
      {add.data?.token && (
        <Alert
          type="success"
          showIcon
          style={{ marginBottom: 12 }}
          title={`The token of ${add.data.name ?? ""}, shown only now`}
          description={
            <Typography.Text copyable code>
              {add.data.token}
            </Typography.Text>
          }
        />
      )}
      <Rows<Token>
        size="small"
        rowKey="id"
        pagination={false}
        dataSource={list.data ?? []}
        columns={[
          { title: "Id", dataIndex: "id", render: (id: string) => <code>{id}</code> },
          { title: "Account", dataIndex: "account" },
          {
            title: "What",
            key: "what",
            render: (_, t) =>
              t.kind === "session" ? (
                <Space>session {t.own && <Tag color="cyan">this one</Tag>}</Space>
              ) : (
                <Space>
                  <Tag color="purple">machine</Tag>
                  {t.name}
                </Space>
              ),
          },
          {
            title: "May",
            key: "may",
            render: (_, t) =>
              t.may ? (
                <May list={t.may} />
              ) : (
                <Typography.Text type="secondary">all that the account may</Typography.Text>
              ),
          },
          {
            title: "Used",
            key: "used",
            render: (_, t) => (t.used ? `${when(t.used)} from ${t.source ?? ""}` : "never"),
          },
          {
            title: "Ends",
            key: "ends",
            render: (_, t) => (
              <>
                {when(t.expires)}
                {t.idleUntil && (
                  <div>
                    <Typography.Text type="secondary">unused: {when(t.idleUntil)}</Typography.Text>
                  </div>
                )}
              </>
            ),
          },
          {
            key: "act",
            render: (_, t) => (
              <Popconfirm
                title={`End ${t.kind} ${t.id} of ${t.account}?`}
                okText="End it"
                onConfirm={() => {
                  end.mutate(t.id);
                }}
              >
                <Button size="small" type="text">
                  End…
                </Button>
              </Popconfirm>
            ),
          },
        ]}
      />
      <Form
        name="token"
        form={form}
        layout="vertical"
        style={{ marginTop: 12 }}
        initialValues={{ days: 90 }}
        onFinish={(v) => {
          add.mutate(
            {
              name: v.name,
              until: new Date(Date.now() + v.days * 86_400_000).toISOString(),
              ...(v.may && v.may.length > 0 && { may: v.may }),
            },
            {
              onSuccess: () => {
                form.resetFields();
              },
            },
          );
        }}
      >
        <Flex gap={12} align="start" wrap>
          <Form.Item
            name="name"
            label="New token for the machine"
            rules={[{ required: true, message: "Which machine uses it?" }]}
          >
            <Input autoComplete="off" placeholder="nightly export" />
          </Form.Item>
          <MayField needed={false} />
          <Form.Item name="days" label="For days">
            <InputNumber min={1} max={400} />
          </Form.Item>
          <Form.Item label=" ">
            <Button htmlType="submit" loading={add.isPending}>
              Make a token of {session.account}
            </Button>
          </Form.Item>
        </Flex>
        <Trouble error={add.error} />
      </Form>
    </Card>
  );
}

function Rules({ admin }: { admin: boolean }) {
  const list = useRules();
  const drop = useDropRule();
  return (
    <Card size="small" title="What needs approval by others">
      <Typography.Paragraph type="secondary">
        A commit of such a change waits until as many agreed to its preview as the rule says, who did not work on it.
        What they agreed to falls when anything moves.
      </Typography.Paragraph>
      <Trouble error={list.error ?? drop.error} />
      <Rows<ApprovalRule>
        size="small"
        rowKey="number"
        pagination={false}
        dataSource={list.data ?? []}
        locale={{ emptyText: "Nothing does." }}
        columns={[
          { title: "Rule", dataIndex: "number" },
          {
            title: "Changes of",
            key: "of",
            render: (_, r) => (
              <>
                <bdi>{r.scope ?? "all devices"}</bdi> {r.path && <code>{r.path}</code>}
              </>
            ),
          },
          {
            title: "Need",
            dataIndex: "needed",
            render: (n: number) => (n === 1 ? "1 person" : `${String(n)} persons`),
          },
          {
            title: "In an emergency",
            dataIndex: "emergency",
            render: (e: boolean) => (e ? "possible, for a reason" : "not possible"),
          },
          { title: "Note", dataIndex: "note" },
          {
            key: "act",
            render: (_, r) =>
              admin && (
                <Popconfirm
                  title={`Remove rule ${String(r.number)}?`}
                  okText="Take it away"
                  onConfirm={() => {
                    drop.mutate(r.number);
                  }}
                >
                  <Button size="small" type="text">
                    Take away…
                  </Button>
                </Popconfirm>
              ),
          },
        ]}
      />
      {admin && <NewRule />}
    </Card>
  );
}

function OwnPassword() {
  const set = useOwnPassword();
  const [form] = Form.useForm<{ old: string; new: string }>();
  return (
    <Card size="small" title="Your own password">
      <Form
        name="password"
        form={form}
        layout="vertical"
        onFinish={(v) => {
          set.mutate(v, {
            onSuccess: () => {
              form.resetFields();
            },
          });
        }}
      >
        <Flex gap={12} align="start" wrap>
          <Form.Item name="old" label="As it is" rules={[{ required: true, message: "Which is it now?" }]}>
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          <Form.Item
            name="new"
            label="As it is to be"
            rules={[{ required: true, min: 12, message: "12 characters at least" }]}
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          <Form.Item label=" ">
            <Button htmlType="submit" loading={set.isPending}>
              Change it
            </Button>
          </Form.Item>
        </Flex>
        {set.isSuccess && <Alert type="success" showIcon title="It is changed; your other sessions have ended." />}
        <Trouble error={set.error} />
      </Form>
    </Card>
  );
}
