import { Button, Form, Input, Modal, Typography } from "antd";
import { useState } from "react";
import type { Device } from "../../lib/documents";
import { Secret, signInWith } from "../access/Secret";
import type { SecretEntered } from "../access/Secret";
import { Trouble } from "../../parts/Trouble";
import { useReplaceBox } from "./queries";

interface Entered extends SecretEntered {
  address: string;
  account: string;
}

/** Another box in a device's place: its history goes on in one line. */
export function ReplaceBox({ device }: { device: Device }) {
  const [shown, setShown] = useState(false);
  const replace = useReplaceBox(device.name);
  const end = () => {
    setShown(false);
    replace.reset();
  };
  return (
    <>
      <Button
        size="small"
        onClick={() => {
          setShown(true);
        }}
      >
        Another box in its place…
      </Button>
      <Modal
        open={shown}
        onCancel={end}
        footer={null}
        title={`Another box in the place of ${device.name}`}
        destroyOnHidden
        width={620}
      >
        <Form<Entered>
          layout="vertical"
          requiredMark={false}
          initialValues={{ address: device.address, account: device.account }}
          onFinish={(v) => {
            replace.mutate(
              { name: device.name, address: v.address, account: v.account, ...signInWith(v) },
              { onSuccess: end },
            );
          }}
        >
          <Typography.Paragraph type="secondary">
            Revisions, snapshots and copies stay as they are. Its host key is to be accepted next; what it runs then
            becomes the next revision.
          </Typography.Paragraph>
          <Form.Item
            name="address"
            label="Address, host:port"
            rules={[{ required: true, message: "where is it reached?" }]}
          >
            <Input />
          </Form.Item>
          <Form.Item name="account" label="Account on the box" rules={[{ required: true, message: "whose account?" }]}>
            <Input autoComplete="off" />
          </Form.Item>
          <Secret rules={[{ required: true, message: "it is kept sealed" }]} />
          <Trouble error={replace.error} />
          <Button type="primary" danger htmlType="submit" loading={replace.isPending} style={{ marginTop: 8 }}>
            Put it in the place of {device.name}
          </Button>
        </Form>
      </Modal>
    </>
  );
}
