import { Alert, Button, Card, Flex, Form, Input, Popconfirm, QRCode, Space, Tag, Typography } from "antd";
import { useState } from "react";
import type { Factor, FactorBegun } from "../../lib/documents";
import { useAddFactor, useBeginFactor, useDropFactor, useFactors, useNewCodes } from "./queries";
import { forgetCodes, unread } from "./unread";
import { Rows } from "../../parts/Rows";
import { Trouble } from "../../parts/Trouble";
import { when } from "../../lib/time";

/** Has the browser make a passkey. */
async function makePasskey(begun: FactorBegun): Promise<unknown> {
  if (!begun.create) throw new Error("The service asked for no passkey.");
  const made = await navigator.credentials.create({
    publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(
      (begun.create as { publicKey: PublicKeyCredentialCreationOptionsJSON }).publicKey,
    ),
  });
  if (!(made instanceof PublicKeyCredential)) throw new Error("The browser made no passkey.");
  return made.toJSON();
}

const Codes = ({ codes, read }: { codes: string[]; read: () => void }) => (
  <Alert
    type="success"
    showIcon
    style={{ marginBottom: 12 }}
    title="Recovery codes, shown only now"
    action={
      <Button size="small" onClick={read}>
        I wrote them down
      </Button>
    }
    description={
      <>
        <div>
          Each lets you in once where your second factors are lost. Write them down, and keep them where your password
          is not.
        </div>
        <Typography.Paragraph copyable={{ text: codes.join("\n") }} style={{ margin: "8px 0 0" }}>
          <code style={{ whiteSpace: "pre-wrap" }}>{codes.join("\n")}</code>
        </Typography.Paragraph>
      </>
    }
  />
);

/** One's own second factors. */
export function OwnFactors() {
  const own = useFactors();
  const [form] = Form.useForm<{ name: string; password?: string }>();
  const [trouble, setTrouble] = useState<Error | null>(null);
  const [codes, setCodes] = useState(unread.codes);
  const give = (list: string[] | undefined) => {
    if (!list?.length) return;
    unread.codes = list;
    setCodes(list);
  };
  const begin = useBeginFactor();
  const add = useAddFactor((added) => {
    give(added.codes);
    begin.reset();
    form.resetFields();
  });
  const drop = useDropFactor();
  const renew = useNewCodes((r) => {
    give(r.codes);
  });
  const first = own.data?.list.length === 0;
  const start = async (kind: "code" | "passkey") => {
    setTrouble(null);
    add.reset();
    const v = await form.validateFields().catch(() => undefined);
    if (!v) return;
    begin.mutate(
      { kind, name: v.name, ...(v.password && { password: v.password }) },
      {
        onSuccess: (begun) => {
          if (kind === "code") return;
          makePasskey(begun).then(
            (passkey) => {
              add.mutate({ ticket: begun.ticket, passkey });
            },
            (e: unknown) => {
              begin.reset();
              setTrouble(e instanceof Error ? e : new Error(String(e)));
            },
          );
        },
      },
    );
  };
  return (
    <Card
      size="small"
      title={<Space>Your own second factors{own.data?.required && <Tag color="gold">you have to have one</Tag>}</Space>}
    >
      <Typography.Paragraph type="secondary">
        What you show beside your password when you sign in, and again before sensitive actions: an authenticator
        app&apos;s code, or a passkey of this browser, your phone or a security key.
      </Typography.Paragraph>
      <Trouble error={own.error ?? drop.error ?? renew.error ?? begin.error ?? trouble} />
      {codes.length > 0 && (
        <Codes
          codes={codes}
          read={() => {
            forgetCodes();
            setCodes([]);
          }}
        />
      )}
      <Rows<Factor>
        size="small"
        rowKey="id"
        pagination={false}
        dataSource={own.data?.list ?? []}
        locale={{ emptyText: "None: your password alone lets in." }}
        columns={[
          { title: "Second factor", dataIndex: "name" },
          { title: "Kind", dataIndex: "kind", render: (k: string) => (k === "code" ? "app" : k) },
          { title: "Since", dataIndex: "created", render: when },
          { title: "Used last", dataIndex: "used", render: (t?: string) => (t ? when(t) : "never") },
          {
            key: "act",
            render: (_, f) => (
              <Popconfirm
                title={`Remove ${f.name}?`}
                okText="Take it away"
                onConfirm={() => {
                  drop.mutate(f.id);
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
      {own.data && !first && (
        <Flex gap={12} align="center" style={{ marginTop: 8 }}>
          <Typography.Text type="secondary">{own.data.recovery} recovery codes are left.</Typography.Text>
          <Popconfirm
            title="Make new recovery codes?"
            description="The old ones stop working."
            okText="Make them"
            onConfirm={() => {
              renew.mutate(undefined);
            }}
          >
            <Button size="small">Other codes…</Button>
          </Popconfirm>
        </Flex>
      )}
      {begin.data?.uri ? (
        <Flex gap={24} wrap style={{ marginTop: 12 }}>
          <QRCode value={begin.data.uri} size={200} color="#000000" bgColor="#ffffff" />
          <Flex vertical gap={8} style={{ maxWidth: 420 }}>
            <div>Have your app read this picture, or type in the secret. It is not shown again.</div>
            <Typography.Text code copyable>
              {begin.data.secret}
            </Typography.Text>
            <Form
              name="proof"
              layout="vertical"
              onFinish={(v: { code: string }) => {
                add.mutate({ ticket: begin.data.ticket, code: v.code });
              }}
            >
              <Form.Item
                name="code"
                label="Code that the app shows now"
                rules={[{ required: true, message: "Which code?" }]}
              >
                <Input autoComplete="one-time-code" autoFocus style={{ width: 160 }} />
              </Form.Item>
              <Space>
                <Button type="primary" htmlType="submit" loading={add.isPending}>
                  Set it up
                </Button>
                <Button
                  onClick={() => {
                    begin.reset();
                  }}
                >
                  Not now
                </Button>
              </Space>
            </Form>
            <Trouble error={add.error} />
          </Flex>
        </Flex>
      ) : (
        <Form name="factor" form={form} layout="vertical" style={{ marginTop: 12 }}>
          <Flex gap={12} align="start" wrap>
            <Form.Item
              name="name"
              label="New second factor, on what"
              rules={[{ required: true, message: "What is it on?" }]}
            >
              <Input autoComplete="off" placeholder="phone" maxLength={80} />
            </Form.Item>
            {first && (
              <Form.Item
                name="password"
                label="Your password"
                rules={[{ required: true, message: "It is asked for with the first." }]}
              >
                <Input.Password autoComplete="current-password" />
              </Form.Item>
            )}
            <Form.Item label=" ">
              <Space>
                <Button
                  loading={begin.isPending}
                  onClick={() => {
                    void start("code");
                  }}
                >
                  Set up an app
                </Button>
                <Button
                  loading={begin.isPending || add.isPending}
                  onClick={() => {
                    void start("passkey");
                  }}
                >
                  Make a passkey
                </Button>
              </Space>
            </Form.Item>
          </Flex>
          <Trouble error={add.error} />
        </Form>
      )}
    </Card>
  );
}
