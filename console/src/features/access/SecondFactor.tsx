import { Alert, Button, Flex, Form, Input, Modal } from "antd";
import { useState } from "react";
import type { Second, Shown } from "../../lib/documents";
import { ApiError, answer, api } from "../../lib/api";
import { Trouble } from "../../parts/Trouble";

/** Has the browser show a passkey. */
async function showPasskey(second: Second): Promise<unknown> {
  if (!second.passkey) throw new Error("There is no passkey to show here.");
  const got = await navigator.credentials.get({
    publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(
      (second.passkey as { publicKey: PublicKeyCredentialRequestOptionsJSON }).publicKey,
    ),
  });
  if (!(got instanceof PublicKeyCredential)) throw new Error("The browser gave no passkey.");
  return got.toJSON();
}

/** Asks for a second factor: a code, a recovery code, or a passkey. */
export function SecondForm({ second, show }: { second: Second; show: (shown: Shown) => Promise<void> }) {
  const [trouble, setTrouble] = useState<Error | null>(null);
  const [busy, setBusy] = useState(false);
  const [form] = Form.useForm<{ code: string }>();
  const codes = second.ways.includes("code") || second.ways.includes("recovery");
  const passkeys = second.ways.includes("passkey");
  const give = async (what: () => Promise<Omit<Shown, "ticket">>) => {
    setBusy(true);
    setTrouble(null);
    try {
      await show({ ticket: second.ticket, ...(await what()) });
    } catch (e) {
      setTrouble(e instanceof Error ? e : new Error(String(e)));
      form.resetFields();
    } finally {
      setBusy(false);
    }
  };
  if (!codes && !passkeys)
    return (
      <Alert
        type="warning"
        showIcon
        title="No second factor works here"
        description="Your passkey was made under another name of this service: open it by that name, or ask an administrator."
      />
    );
  return (
    <>
      <Trouble error={trouble} />
      {passkeys && (
        <Button
          type={codes ? "default" : "primary"}
          block
          loading={busy}
          style={{ marginBottom: 12 }}
          onClick={() => {
            void give(async () => ({ passkey: await showPasskey(second) }));
          }}
        >
          Show a passkey
        </Button>
      )}
      {codes && (
        <Form
          name="second"
          form={form}
          layout="vertical"
          requiredMark={false}
          onFinish={(v) => {
            void give(() => Promise.resolve({ code: v.code }));
          }}
        >
          <Form.Item
            name="code"
            label={second.ways.includes("code") ? "Code of your app, or a recovery code" : "A recovery code"}
            rules={[{ required: true, message: "Which code?" }]}
          >
            <Input autoFocus autoComplete="one-time-code" />
          </Form.Item>
          <Button type="primary" htmlType="submit" block loading={busy}>
            Show it
          </Button>
        </Form>
      )}
    </>
  );
}

/** Asks a person who is signed in to show their second factor again, where something grave needs it. */
export function AskAnew({ second, end }: { second: Second; end: (shown: boolean) => void }) {
  return (
    <Modal
      title="Show your second factor again"
      open
      footer={null}
      onCancel={() => {
        end(false);
      }}
      width={400}
      zIndex={2000}
    >
      <Flex vertical gap={8}>
        <div>This is a sensitive action. Your second factor counts for five minutes.</div>
        <SecondForm
          key={second.ticket}
          second={second}
          show={async (shown) => {
            await answer(api.POST("/me/proof", { body: shown }));
            end(true);
          }}
        />
      </Flex>
    </Modal>
  );
}

/** What is asked for beside the password, where an error says so. */
export const secondOf = (error: Error | null) =>
  error instanceof ApiError && error.problem.second?.anew !== true ? error.problem.second : undefined;
