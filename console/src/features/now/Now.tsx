import { Button, Card, Empty, Flex, Input, Popconfirm, Space, Typography } from "antd";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Emergency, Proposal } from "../../lib/documents";
import { useAgreeTo, useDropProposal } from "../access/queries";
import { useReview } from "../changes/queries";
import type { LostHold } from "../../lib/documents";
import { StateTag } from "../../parts/StateTag";
import { PageTitle } from "../../parts/Headings";
import { useDraft } from "../../lib/draft";
import { Trouble } from "../../parts/Trouble";
import { useAttention, useLookedAfter } from "./queries";
import { useSession } from "../access/queries";
import { useLost } from "../../lib/contact";
import { when, whenIn } from "../../lib/time";
import { NewChange } from "../changes/NewChange";
import { OutsideState } from "../outside/OutsideState";
import { disabledIf } from "../../lib/disabled";

function Pile({ title, what, children }: { title: string; what: string; children: ReactNode[] }) {
  if (children.length === 0) return null;
  return (
    <Card size="small" title={`${title} (${String(children.length)})`} style={{ marginBottom: 16 }}>
      <Typography.Paragraph type="secondary">{what}</Typography.Paragraph>
      <Flex vertical gap={8}>
        {children}
      </Flex>
    </Card>
  );
}

function Emergent({ emergency: e }: { emergency: Emergency }) {
  const review = useReview();
  const [text, setText] = useDraft(`emergency ${String(e.number)}`);
  return (
    <div>
      <Typography.Text type="danger" strong>
        !
      </Typography.Text>{" "}
      <Link to={`/changes/${String(e.change)}`}>
        Change {e.change}: {e.title}
      </Link>{" "}
      by {e.actor} {when(e.at)}: <bdi>{e.reason}</bdi>
      <Space.Compact style={{ display: "flex", maxWidth: 520, marginTop: 4 }}>
        <Input
          aria-label={`what you found of emergency ${String(e.number)}`}
          placeholder="what you found"
          value={text}
          onChange={(ev) => {
            setText(ev.target.value);
          }}
        />
        <Button
          {...disabledIf(text.trim() === "")}
          loading={review.isPending}
          onClick={() => {
            review.mutate(
              { number: e.number, text },
              {
                onSuccess: () => {
                  setText("");
                },
              },
            );
          }}
        >
          I looked at it
        </Button>
      </Space.Compact>
      <Trouble error={review.error} />
    </div>
  );
}

function Waiting({ proposal: p }: { proposal: Proposal }) {
  const agree = useAgreeTo();
  const drop = useDropProposal();
  const own = useSession().data?.account === p.actor;
  return (
    <div>
      <strong>{p.actor}</strong> proposes: <bdi>{p.says}</bdi>{" "}
      <Typography.Text type="secondary">
        {when(p.at)}, {p.missing} missing
      </Typography.Text>{" "}
      {own ? (
        <Popconfirm
          title="Drop what you proposed?"
          okText="Drop it"
          cancelText="No"
          onConfirm={() => {
            drop.mutate(p.number);
          }}
        >
          <Button size="small" loading={drop.isPending}>
            Drop…
          </Button>
        </Popconfirm>
      ) : (
        <Popconfirm
          title="Do you approve? With the last approval it is done."
          okText="Approve"
          cancelText="No"
          onConfirm={() => {
            agree.mutate(p.number);
          }}
        >
          <Button size="small" loading={agree.isPending}>
            Approve…
          </Button>
        </Popconfirm>
      )}
      <Trouble error={agree.error ?? drop.error} />
    </div>
  );
}

function Lost({ hold: h }: { hold: LostHold }) {
  const looked = useLookedAfter();
  return (
    <div>
      <Typography.Text type="danger" strong>
        !
      </Typography.Text>{" "}
      Change {h.change}, “<bdi>{h.title}</bdi>”, by {h.by}, begun {when(h.began)}, on hold until {when(h.until)}
      {h.devices.map((d) => (
        <div key={d.name}>
          <Link to={`/devices/${d.name}`}>{d.name}</Link>{" "}
          <Typography.Text type="secondary">
            {d.address}, reverted by {d.guard}
          </Typography.Text>
        </div>
      ))}
      <Popconfirm
        title="Were all of these devices looked at?"
        okText="They were"
        cancelText="No"
        onConfirm={() => {
          looked.mutate(h.change);
        }}
      >
        <Button size="small" loading={looked.isPending}>
          I looked at them…
        </Button>
      </Popconfirm>
      <Trouble error={looked.error} />
    </div>
  );
}

/** What needs a decision now. */
export function Now() {
  const { data, error } = useAttention();
  const lost = useLost();
  const calm =
    data &&
    data.holding.length +
      data.unsaved.length +
      data.trouble.length +
      data.outside.length +
      (data.archives ?? []).length +
      (data.uncopied ?? []).length +
      (data.untold ?? []).length +
      (data.denied ?? []).length +
      (data.proposals ?? []).length +
      (data.approve ?? []).length +
      (data.emergencies ?? []).length +
      (data.unsettled ?? []).length +
      (data.lostHolds ?? []).length +
      (data.damaged ?? []).length ===
      0 &&
    !data.records;
  return (
    <>
      <Flex justify="space-between" align="center" style={{ marginBottom: 16 }}>
        <PageTitle>What needs a decision now</PageTitle>
        <NewChange />
      </Flex>
      <Trouble error={error} />
      {calm && !lost && (
        <Card style={{ marginBottom: 16 }}>
          <Empty
            image={Empty.PRESENTED_IMAGE_SIMPLE}
            description="Nothing waits for you: no hold runs, every device answers and is saved."
          />
        </Card>
      )}
      <Pile
        title="Unsettled after a restore"
        what="Under way when the backup was taken that these records come from. How it ended is told by its devices; nothing is done to them by itself."
      >
        {(data?.unsettled ?? []).map((c) => (
          <Space key={c.number} wrap>
            <StateTag state={c.state} />
            <Link to={`/changes/${String(c.number)}`}>
              Change {c.number}: {c.title}
            </Link>
            <Typography.Text type="secondary">
              by {c.author} on {c.devices.join(", ")}
            </Typography.Text>
          </Space>
        ))}
      </Pile>
      <Pile
        title="On hold once, and lost"
        what="Under way when the records were lost; these know nothing of it. Look at the devices, then say so."
      >
        {(data?.lostHolds ?? []).map((h) => (
          <Lost key={h.change} hold={h} />
        ))}
      </Pile>
      <Pile
        title="The record was altered"
        what="A witness saw another record than this one: somebody rewrote it, cut off its end, or restored an older one."
      >
        {(data?.denied ?? []).map((w) => (
          <span key={w.name}>
            <Link to="/audit">{w.name}</Link>: {w.trouble}
          </span>
        ))}
      </Pile>
      <Pile
        title="Damaged in the records"
        what="Stored configurations that cannot be read any more. All else is there."
      >
        {(data?.damaged ?? []).map((text) => (
          <span key={text}>{text}</span>
        ))}
      </Pile>
      <Pile title="On hold" what="Active, reverted at the time shown unless you confirm. The bar at the foot decides.">
        {(data?.holding ?? []).map((c) => (
          <Space key={c.number} wrap>
            <StateTag state={c.state} />
            <Link to={`/changes/${String(c.number)}`}>
              Change {c.number}: {c.title}
            </Link>
            <Typography.Text type="secondary">
              by {c.author} on {c.devices.join(", ")}, until {when(c.commit?.deadline)}
            </Typography.Text>
          </Space>
        ))}
      </Pile>
      <Pile
        title="Emergencies to be looked at"
        what="Committed without the approval that they needed. Somebody else than who did it says what they found."
      >
        {(data?.emergencies ?? []).map((e) => (
          <Emergent key={e.number} emergency={e} />
        ))}
      </Pile>
      <Pile title="Proposed" what="Administrative actions that wait for approval by other administrators.">
        {(data?.proposals ?? []).map((p) => (
          <Waiting key={p.number} proposal={p} />
        ))}
      </Pile>
      <Pile title="To be approved" what="Others ask for your approval of their change.">
        {(data?.approve ?? []).map((c) => (
          <Space key={c.number} wrap>
            <Link to={`/changes/${String(c.number)}`}>
              Change {c.number}: {c.title}
            </Link>
            <Typography.Text type="secondary">
              by {c.author} on {c.devices.join(", ")}
            </Typography.Text>
          </Space>
        ))}
      </Pile>
      <Pile title="On the schedule" what="Begun by the service at its time, by the same rules.">
        {(data?.scheduled ?? []).map((d) => (
          <Space key={d.id} wrap>
            <Link to="/schedule">{whenIn(d.at, d.zone)}</Link>
            <span>{d.kind === "restart" ? "restart" : `commit change ${String(d.change)}: ${d.title ?? ""}`}</span>
            <Typography.Text type="secondary">
              on {d.devices.join(", ")}, by {d.actor}
            </Typography.Text>
          </Space>
        ))}
      </Pile>
      <Pile title="Reserved" what="Reserved for one person for a while; nobody else's commit changes them.">
        {(data?.reserved ?? []).map((r) => (
          <div key={r.device}>
            <Link to={`/devices/${r.device}`}>{r.device}</Link> by {r.holder} until {when(r.until)}: {r.reason}
            {r.asks?.map((a) => (
              <div key={a.at + a.actor}>
                <strong>{a.actor}</strong> asks {r.holder}: {a.text}{" "}
                <Typography.Text type="secondary">{when(a.at)}</Typography.Text>
              </div>
            ))}
          </div>
        ))}
      </Pile>
      <Pile title="Changed outside" what="Found on a device and not made by this service, and not decided yet.">
        {(data?.outside ?? []).map((o) => (
          <Space key={o.number} wrap>
            <Link to={`/outside?number=${String(o.number)}`}>
              {o.device}, {o.places} {o.places === 1 ? "place" : "places"}
            </Link>
            <OutsideState outside={o} />
            <span>
              <bdi>{o.who}</bdi>
            </span>
            <Typography.Text type="secondary">found {when(o.found)}</Typography.Text>
          </Space>
        ))}
      </Pile>
      <Pile
        title="Not told"
        what="Receivers that do not take what they are told. They are tried again, and nothing is left out."
      >
        {(data?.untold ?? []).map((r) => (
          <Space key={r.name} wrap>
            <Link to="/audit?receivers=true">{r.name}</Link>
            <span>{r.trouble}</span>
            <Typography.Text type="secondary">
              since {when(r.since)}, {r.behind} behind
            </Typography.Text>
          </Space>
        ))}
      </Pile>
      <Pile title="Not saved" what="Running differs from startup: a restart would lose the difference.">
        {(data?.unsaved ?? []).map((d) => (
          <Link key={d.name} to={`/devices/${d.name}`}>
            {d.name}
          </Link>
        ))}
      </Pile>
      <Pile title="Archives" what="Copies off this machine that are not made, or not whole.">
        {(data?.archives ?? []).map((a) => (
          <Space key={a.name} wrap>
            <Link to="/backups">{a.name}</Link>
            <span>
              {a.trouble ??
                (a.damaged
                  ? `${String(a.damaged)} of its copies did not read back whole`
                  : a.stale
                    ? "it is stale: its interval is over"
                    : "nobody accepted its host key yet")}
            </span>
          </Space>
        ))}
      </Pile>
      <Pile title="Not copied" what="What runs there is in no archive yet.">
        {(data?.uncopied ?? []).map((s) => (
          <Space key={s.device}>
            <Link to="/backups">{s.device}</Link>
            <Typography.Text type="secondary">changed {when(s.changed)}</Typography.Text>
          </Space>
        ))}
      </Pile>
      <Pile title="Trouble" what="Devices that did not answer as they should, or whose host key nobody has accepted.">
        {(data?.trouble ?? []).map((d) => (
          <Space key={d.name} wrap>
            <Link to={`/devices/${d.name}`}>{d.name}</Link>
            <span>{d.trouble ?? "its host key has not been accepted yet"}</span>
          </Space>
        ))}
      </Pile>
      <Pile title="Your drafts" what="Staged and private to you; nothing of them is on any device.">
        {(data?.drafts ?? []).map((c) => (
          <Space key={c.number} wrap>
            <StateTag state={c.state} />
            <Link to={`/changes/${String(c.number)}`}>
              Change {c.number}: {c.title}
            </Link>
            <Typography.Text type="secondary">
              {c.edits} edits on {c.devices.join(", ") || "no device yet"}
            </Typography.Text>
          </Space>
        ))}
      </Pile>
    </>
  );
}
