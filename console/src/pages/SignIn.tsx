import { Button, Card, Flex, Form, Input, Typography, theme } from "antd";
import { useWays } from "../accessQueries";
import type { Session } from "../api";
import { call } from "../api";
import { Trouble } from "../parts/Trouble";
import { useAct } from "../queries";

interface Fields {
  account: string;
  password: string;
}

export function SignIn() {
  const { token } = theme.useToken();
  const ways = useWays();
  const login = useAct((f: Fields) => call<Session>("POST", "/login", f));
  return (
    <Flex align="center" justify="center" style={{ minHeight: "100vh", background: token.colorBgLayout }}>
      <Card style={{ width: 400, borderTop: "4px solid #c79a55" }}>
        <Flex align="center" gap={12} style={{ marginBottom: 20 }}>
          <img src="/latch.svg" alt="" width={40} height={40} />
          <div>
            <Typography.Title level={4} style={{ margin: 0 }}>Oaken Latch</Typography.Title>
            <Typography.Text type="secondary">Nothing typed takes effect by itself.</Typography.Text>
          </div>
        </Flex>
        <Trouble error={login.error} />
        <Form<Fields> layout="vertical" onFinish={(f) => { login.mutate(f); }} requiredMark={false}>
          <Form.Item name="account" label="Account" rules={[{ required: true, message: "Which account?" }]}>
            <Input autoFocus autoComplete="username" />
          </Form.Item>
          <Form.Item name="password" label="Password" rules={[{ required: true, message: "Its password?" }]}>
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          <Button type="primary" htmlType="submit" block loading={login.isPending}>Sign in</Button>
        </Form>
        {ways.data?.elsewhere && <Button block style={{ marginTop: 12 }} href={`/api/v1/login/elsewhere?page=${encodeURIComponent(window.location.pathname)}`}>Sign in at {new URL(ways.data.elsewhere).host}</Button>}
      </Card>
    </Flex>
  );
}
