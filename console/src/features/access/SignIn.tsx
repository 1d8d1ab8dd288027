import { Button, Card, Flex, Form, Input, Typography, theme } from "antd";
import { useEffect } from "react";
import { useWays } from "./queries";
import type { Shown } from "../../lib/documents";
import { answer, api } from "../../lib/api";
import { SecondForm, secondOf } from "./SecondFactor";
import { Trouble } from "../../parts/Trouble";
import { useAct } from "../../lib/query";
import { forgetCodes } from "./unread";
import { tellOthers } from "./Others";

interface Fields {
  account: string;
  password: string;
}

export function SignIn() {
  const { token } = theme.useToken();
  const ways = useWays();
  useEffect(forgetCodes, []);
  const login = useAct(async (f: Fields) => {
    tellOthers(await answer(api.POST("/login", { body: f })));
  });
  const showSecond = useAct(async (shown: Shown) => {
    tellOthers(await answer(api.POST("/login/second", { body: shown })));
  });
  const second = secondOf(login.error);
  return (
    <Flex align="center" justify="center" style={{ minHeight: "100vh", background: token.colorBgLayout }}>
      <Card style={{ width: 400, borderTop: "4px solid #c79a55" }}>
        <Flex align="center" gap={12} style={{ marginBottom: 20 }}>
          <img src="/latch.svg" alt="" width={40} height={40} />
          <div>
            <Typography.Title level={4} style={{ margin: 0 }}>
              Oaken Latch
            </Typography.Title>
            <Typography.Text type="secondary">Nothing typed takes effect by itself.</Typography.Text>
          </div>
        </Flex>
        {second && (
          <>
            <Typography.Paragraph>
              Your password is right. This account signs in with a second factor, too.
            </Typography.Paragraph>
            <SecondForm
              key={second.ticket}
              second={second}
              show={async (shown) => {
                await showSecond.mutateAsync(shown);
              }}
            />
            <Button
              type="link"
              block
              style={{ marginTop: 8 }}
              onClick={() => {
                login.reset();
              }}
            >
              Begin again
            </Button>
          </>
        )}
        <Trouble error={second ? null : login.error} />
        {!second && (
          <Form<Fields>
            layout="vertical"
            onFinish={(f) => {
              login.mutate(f);
            }}
            requiredMark={false}
          >
            <Form.Item name="account" label="Account" rules={[{ required: true, message: "Which account?" }]}>
              <Input autoFocus autoComplete="username" />
            </Form.Item>
            <Form.Item name="password" label="Password" rules={[{ required: true, message: "Its password?" }]}>
              <Input.Password autoComplete="current-password" />
            </Form.Item>
            <Button type="primary" htmlType="submit" block loading={login.isPending}>
              Sign in
            </Button>
          </Form>
        )}
        {!second && ways.data?.elsewhere && (
          <Button
            block
            style={{ marginTop: 12 }}
            href={`/api/v1/login/elsewhere?page=${encodeURIComponent(window.location.pathname)}`}
          >
            Sign in at {new URL(ways.data.elsewhere).host}
          </Button>
        )}
      </Card>
    </Flex>
  );
}
