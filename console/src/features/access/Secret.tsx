import { Form, Input, Segmented } from "antd";
import type { Rule } from "antd/es/form";
import { useState } from "react";

/** What a form gives of it. */
export interface SecretEntered {
  way?: "password" | "private key";
  secret?: string;
}

/** The fields of the API that it fills in. */
export const signInWith = ({ way, secret }: SecretEntered) =>
  !secret ? {} : way === "private key" ? { privateKey: secret } : { password: secret };

/** How to sign in somewhere, as two items of a form. */
export function Secret({ rules = [] }: { rules?: Rule[] }) {
  const [way, setWay] = useState("password");
  return (
    <>
      <Form.Item name="way" label="Sign in with" initialValue="password">
        <Segmented
          onChange={(v) => {
            setWay(String(v));
          }}
          options={["password", "private key"]}
        />
      </Form.Item>
      <Form.Item
        name="secret"
        label={way === "password" ? "Password" : "Private key"}
        rules={rules}
        style={{ flex: 1, minWidth: 280 }}
      >
        {way === "password" ? (
          <Input.Password autoComplete="new-password" />
        ) : (
          <Input.TextArea rows={4} spellCheck={false} placeholder="in OpenSSH's form or PEM" />
        )}
      </Form.Item>
    </>
  );
}
