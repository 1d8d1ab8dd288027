import { Button, Form, Input, Modal } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { Trouble } from "../../parts/Trouble";
import { useOpenChange } from "./queries";

interface Fields {
  title: string;
  ticket?: string;
}

/** The button that opens a change, and its form. */
export function NewChange() {
  const [shown, setShown] = useState(false);
  const [form] = Form.useForm<Fields>();
  const open = useOpenChange();
  const go = useNavigate();
  return (
    <>
      <Button
        type="primary"
        onClick={() => {
          setShown(true);
        }}
      >
        Open a change
      </Button>
      <Modal
        title="Open a change"
        open={shown}
        okText="Open"
        onCancel={() => {
          setShown(false);
        }}
        onOk={() => {
          form.submit();
        }}
        confirmLoading={open.isPending}
      >
        <Trouble error={open.error} />
        <Form<Fields>
          form={form}
          layout="vertical"
          requiredMark={false}
          onFinish={(f) => {
            open.mutate(
              { title: f.title, ticket: f.ticket ?? "" },
              {
                onSuccess: (c) => {
                  setShown(false);
                  void go(`/changes/${String(c.number)}`);
                },
              },
            );
          }}
        >
          <Form.Item
            name="title"
            label="What is it for?"
            rules={[{ required: true, message: "Say in a few words what it is for." }]}
          >
            <Input maxLength={200} />
          </Form.Item>
          <Form.Item name="ticket" label="Ticket (if there is one)">
            <Input maxLength={100} />
          </Form.Item>
        </Form>
      </Modal>
    </>
  );
}
