import { Alert, Button, Card, Flex, Input, Popconfirm, Space, Typography } from "antd";
import { useApprove, useAsk, useUnapprove } from "./queries";
import type { Preview, Session } from "../../lib/documents";
import { may } from "../../lib/may";
import { useDraft } from "../../lib/draft";
import { Trouble } from "../../parts/Trouble";
import { when } from "../../lib/time";

/** Who else has to agree to a change, who has, and the word to do so. */
export function Approvals({ preview, session, mine }: { preview: Preview; session: Session; mine: boolean }) {
  const n = preview.change.number;
  const x = preview.approval;
  const ask = useAsk(n);
  const approve = useApprove(n);
  const unapprove = useUnapprove(n);
  const [note, setNote] = useDraft(`approval ${String(n)}`);
  if (!x || !preview.digest) return null;
  const digest = preview.digest;
  const own = x.have.some((g) => g.actor === session.account);
  return (
    <Card size="small" title="Approval by others" style={{ margin: "12px 0" }}>
      <Flex vertical gap={8}>
        <Alert
          showIcon
          type={x.missing > 0 ? "warning" : "success"}
          title={
            x.needed === 0
              ? "No rule needs it; it was asked for."
              : x.missing > 0
                ? `It needs ${String(x.needed)} who did not work on it: ${String(x.missing)} missing.`
                : "It has the approvals it needs."
          }
          description={x.rules.map((r) => (
            <div key={r.number}>
              rule {r.number}:{" "}
              <bdi>
                {r.scope ?? "all devices"} {r.path}
              </bdi>
              {r.note && (
                <>
                  : <bdi>{r.note}</bdi>
                </>
              )}
            </div>
          ))}
        />
        {x.have.map((g) => (
          <div key={g.actor}>
            ✓ <strong>{g.actor}</strong> agreed {when(g.at)} to preview <code>{g.digest}</code>
            {g.note && (
              <>
                : <bdi>{g.note}</bdi>
              </>
            )}
          </div>
        ))}
        {x.fallen?.map((g) => (
          <div key={g.actor}>
            <Typography.Text type="danger">
              ✕ {g.actor} agreed {when(g.at)} to preview <code>{g.digest}</code>: no longer valid
            </Typography.Text>
          </div>
        ))}
        {x.askedBy && (
          <Typography.Text type="secondary">
            asked for by {x.askedBy} {when(x.askedAt)}
            {x.askedNote && (
              <>
                : <bdi>{x.askedNote}</bdi>
              </>
            )}
          </Typography.Text>
        )}
        {mine && x.missing > 0 && (
          <Space.Compact style={{ maxWidth: 560 }}>
            <Input
              aria-label="note to those who are asked"
              placeholder="a word to those who are asked"
              value={note}
              onChange={(e) => {
                setNote(e.target.value);
              }}
            />
            <Button
              loading={ask.isPending}
              onClick={() => {
                ask.mutate(note, {
                  onSuccess: () => {
                    setNote("");
                  },
                });
              }}
            >
              {x.askedBy ? "Ask again" : "Ask for it"}
            </Button>
          </Space.Compact>
        )}
        {!mine && may(session, "approve") && !own && (
          <Space.Compact style={{ maxWidth: 560 }}>
            <Input
              aria-label="note to go with it"
              placeholder="a word to go with it"
              value={note}
              onChange={(e) => {
                setNote(e.target.value);
              }}
            />
            <Popconfirm
              title={`Approve change ${String(n)} as preview ${digest} shows it?`}
              description="To nothing else: when anything moves, this falls."
              okText="Approve"
              onConfirm={() => {
                approve.mutate(
                  { digest, ...(note && { note }) },
                  {
                    onSuccess: () => {
                      setNote("");
                    },
                  },
                );
              }}
            >
              <Button type="primary" loading={approve.isPending}>
                Approve what is shown…
              </Button>
            </Popconfirm>
          </Space.Compact>
        )}
        {own && (
          <Button
            style={{ alignSelf: "start" }}
            loading={unapprove.isPending}
            onClick={() => {
              unapprove.mutate(undefined);
            }}
          >
            Withdraw my approval
          </Button>
        )}
        <Trouble error={ask.error ?? approve.error ?? unapprove.error} />
      </Flex>
    </Card>
  );
}
