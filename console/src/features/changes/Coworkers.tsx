import { Button, Drawer, Flex, Form, Input, Tag, Typography } from "antd";
import { useState } from "react";
import type { Change, Session } from "../../lib/documents";
import { SubTitle } from "../../parts/Headings";
import { Trouble } from "../../parts/Trouble";
import { useDesk, useUnstage } from "./queries";
import { when } from "../../lib/time";
import { useDraft } from "../../lib/draft";
import { disabledIf } from "../../lib/disabled";

/** Who works on a change, and what was written down with it. */
export function Coworkers({ change, session, open }: { change: Change; session: Session; open: boolean }) {
  const [shown, setShown] = useState(false);
  const [account, setAccount] = useState("");
  const [text, setText] = useDraft(`note ${String(change.number)}`);
  const desk = useDesk(change.number);
  const unstage = useUnstage(change.number);
  const author = session.account === change.author;
  const notes = change.notes ?? [];
  return (
    <>
      <Button
        size="small"
        onClick={() => {
          setShown(true);
        }}
      >
        People and notes{notes.length > 0 && ` (${String(notes.length)})`}
      </Button>
      <Drawer
        title={`Change ${String(change.number)}: people and notes`}
        open={shown}
        onClose={() => {
          setShown(false);
        }}
        size="default"
      >
        <Trouble error={desk.error ?? unstage.error} />
        <SubTitle>On it</SubTitle>
        <Flex vertical gap={6}>
          <span>
            {change.author} <Tag>author</Tag>
          </span>
          {(change.coworkers ?? []).map((a) => (
            <Flex key={a} gap={6} align="center">
              <span>{a}</span>
              {open && author && (
                <Button
                  size="small"
                  onClick={() => {
                    desk.mutate({ takeOff: a });
                  }}
                >
                  take off
                </Button>
              )}
              {open && (
                <Button
                  size="small"
                  type="link"
                  onClick={() => {
                    unstage.mutate({ by: a });
                  }}
                >
                  remove all that {a} staged
                </Button>
              )}
            </Flex>
          ))}
          {open && author && (
            <Flex gap={6}>
              <Input
                aria-label="account"
                placeholder="account"
                value={account}
                onChange={(e) => {
                  setAccount(e.target.value);
                }}
              />
              <Button
                {...disabledIf(!account)}
                loading={desk.isPending}
                onClick={() => {
                  desk.mutate(
                    { add: account },
                    {
                      onSuccess: () => {
                        setAccount("");
                      },
                    },
                  );
                }}
              >
                Add
              </Button>
            </Flex>
          )}
        </Flex>
        <SubTitle>Notes</SubTitle>
        {notes.map((n) => (
          <div key={n.at + n.actor} style={{ marginBottom: 10 }}>
            <div style={{ whiteSpace: "pre-wrap" }}>{n.text}</div>
            <Typography.Text type="secondary" style={{ fontSize: 12 }}>
              {n.actor}, {when(n.at)}
            </Typography.Text>
          </div>
        ))}
        <Input.TextArea
          aria-label="note"
          rows={3}
          maxLength={10000}
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
        />
        <Button
          style={{ marginTop: 6 }}
          {...disabledIf(!text.trim())}
          onClick={() => {
            desk.mutate(
              { note: text },
              {
                onSuccess: () => {
                  setText("");
                },
              },
            );
          }}
        >
          Write it down
        </Button>
        {open && (
          <Rename
            key={change.updated}
            change={change}
            save={(rename) => {
              desk.mutate({ rename });
            }}
          />
        )}
      </Drawer>
    </>
  );
}

function Rename({ change, save }: { change: Change; save: (v: { title: string; ticket: string }) => void }) {
  return (
    <>
      <SubTitle>Title and ticket</SubTitle>
      <Form<{ title: string; ticket: string }>
        layout="vertical"
        initialValues={{ title: change.title, ticket: change.ticket ?? "" }}
        onFinish={save}
        requiredMark={false}
      >
        <Form.Item name="title" rules={[{ required: true }]}>
          <Input aria-label="title" maxLength={200} />
        </Form.Item>
        <Form.Item name="ticket">
          <Input aria-label="ticket" maxLength={100} placeholder="ticket" />
        </Form.Item>
        <Button htmlType="submit">Rename</Button>
      </Form>
    </>
  );
}
