import { Form, Input, Modal } from "antd";
import type { InputRef } from "antd";
import { useRef } from "react";
import { useNavigate } from "react-router";
import { Trouble } from "../../parts/Trouble";
import { fieldsOf, keepFields } from "../../lib/draft";
import { useOpenChange } from "./queries";

interface Fields {
  title: string;
  ticket?: string;
}

/** The form that opens a change. */
export function NewChangeForm({ shown, onClose }: { shown: boolean; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const title = useRef<InputRef>(null);
  const open = useOpenChange();
  const go = useNavigate();
  return (
    <Modal
      title="Open a change"
      open={shown}
      okText="Open"
      onCancel={onClose}
      afterOpenChange={(open) => {
        if (open) title.current?.focus();
      }}
      onOk={() => {
        form.submit();
      }}
      confirmLoading={open.isPending}
    >
      <Trouble error={open.error} />
      <Form<Fields>
        form={form}
        initialValues={fieldsOf<Fields>("new change")}
        onValuesChange={(_, all: Fields) => {
          keepFields("new change", all);
        }}
        layout="vertical"
        requiredMark={false}
        onFinish={(f) => {
          open.mutate(
            { title: f.title, ticket: f.ticket ?? "" },
            {
              onSuccess: (c) => {
                keepFields("new change", {});
                form.resetFields();
                onClose();
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
          <Input ref={title} maxLength={200} />
        </Form.Item>
        <Form.Item name="ticket" label="Ticket (if there is one)">
          <Input maxLength={100} />
        </Form.Item>
        <input type="submit" hidden tabIndex={-1} />
      </Form>
    </Modal>
  );
}
