import { Alert, Button, Collapse, Dropdown, Flex, Popconfirm, Progress, Typography, theme } from "antd";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Change, Commit, DeviceStanding } from "../../lib/documents";
import { useHold, useAccept, useSay } from "./queries";
import { useLost } from "../../lib/contact";
import { clock, span, when } from "../../lib/time";
import { RevertDialog } from "./RevertDialog";
import { Steps, counted } from "../record/Steps";
import { Trouble } from "../../parts/Trouble";
import { disabledIf } from "../../lib/disabled";

/** Seconds left, counted on from what the service said last. */
export function useSecondsLeft(secondsLeft: number): number {
  const [left, setLeft] = useState(secondsLeft);
  useEffect(() => {
    const end = Date.now() + secondsLeft * 1000;
    const timer = window.setInterval(() => {
      setLeft(Math.max(0, (end - Date.now()) / 1000));
    }, 250);
    return () => {
      window.clearInterval(timer);
    };
  }, [secondsLeft]);
  return left;
}

const doing: Record<string, string> = {
  idle: "is about to begin",
  preparing: "is being prepared: locking, writing and validating the candidate",
  prepared: "is prepared: only the commit itself is missing, nothing is active",
  applying: "is being applied",
  probing: "is active, on hold; a new session is opened to each device, the probes run",
  asking: "is being confirmed: every device is asked once more",
  confirming: "is being confirmed",
  settling: "is confirmed; startup is being saved",
  reverting: "is being reverted",
};

/** What ends a hold, and who sees to it. */
function ending(commit: Commit): string {
  const alone = commit.devices.filter((d) => d.keeper === "service").map((d) => d.name);
  const at = `at ${when(commit.deadline)}`;
  if (alone.length === 0) return `It is reverted ${at} unless you confirm.`;
  if (alone.length === commit.devices.length) return `It is reverted ${at} unless you confirm; by this service alone.`;
  return `It is reverted ${at} unless you confirm; on ${alone.join(", ")} by this service alone.`;
}

/** The bar at the foot of every page while a commit is not decided. */
export function HoldBar({ change, mayDecide }: { change: Change; mayDecide: boolean }) {
  const { token } = theme.useToken();
  const commit = change.commit;
  const left = useSecondsLeft(commit?.secondsLeft ?? 0);
  const lost = useLost();
  if (!commit) return null;
  const awaiting = commit.phase === "awaiting";
  const urgent = commit.ending ?? left < 15;
  const odd = commit.devices.filter((d) => d.said);
  return (
    <div
      role="region"
      aria-label={`change ${String(change.number)} on hold`}
      style={{
        background: token.colorWarningBg,
        borderTop: `2px solid ${urgent && awaiting ? token.colorError : token.colorWarning}`,
        padding: "10px 24px",
      }}
    >
      {awaiting && commit.ending && !lost && (
        <Alert
          banner
          type="error"
          title={`The hold of change ${String(change.number)} is about to end.`}
          style={{ marginBottom: 8 }}
        />
      )}
      <Flex align="center" gap={20} wrap>
        {awaiting && (
          <Progress
            type="circle"
            size={56}
            percent={Math.min(100, (100 * left) / commit.holdSeconds)}
            format={() => (lost ? "?" : clock(left))}
            strokeColor={urgent ? token.colorError : token.colorWarning}
          />
        )}
        <div style={{ flex: 1, minWidth: 260 }}>
          <Typography.Text strong>
            <Link to={`/changes/${String(change.number)}`}>Change {change.number}</Link>{" "}
            {awaiting
              ? `${lost ? "was" : "is"} on hold on ${change.devices.join(", ")}`
              : (doing[commit.phase] ?? commit.phase)}
            {lost && ", when the service was last heard"}
          </Typography.Text>
          <br />
          <Typography.Text type="secondary">
            {change.title}
            {awaiting && `. ${ending(commit)}`}
            {awaiting && commit.byProbes && " It is confirmed by itself once every probe passes."}
            {commit.newDeadline && ` The devices' timers are being set for a hold until ${when(commit.newDeadline)}.`}
            {commit.phase === "prepared" && `. It lapses at ${when(commit.lapsesAt)}, or when a device moves on.`}
            {commit.reason && `. ${commit.reason}.`}
            {odd.map((d) => ` ${d.name}: ${d.said ?? ""}.`)}
          </Typography.Text>
        </div>
        {mayDecide && <Words change={change} commit={commit} />}
      </Flex>
      <Collapse
        ghost
        size="small"
        items={[
          {
            key: "steps",
            label: `Device by device: ${counted(commit.devices)}${commit.probes ? `; ${String(commit.probes.filter((p) => p.result === "passed").length)} of ${String(commit.probes.length)} probes pass` : ""}`,
            children: (
              <div style={{ maxHeight: 220, overflowY: "auto" }}>
                <Steps commit={commit} />
              </div>
            ),
          },
        ]}
      />
    </div>
  );
}

const more = [300, 1200, 3600, 86400];

/** Whether a device does not revert though it is told to. */
const isStuck = (d: DeviceStanding) => d.standing === "reverting" && ((d.odd ?? false) || (d.refusals ?? 0) >= 3);

/** What a person can say to a commit now. */
function Words({ change, commit }: { change: Change; commit: Commit }) {
  const say = useSay(change.number);
  const hold = useHold(change.number);
  const accept = useAccept(change.number);
  const [showing, setShowing] = useState(false);
  const awaiting = commit.phase === "awaiting";
  const failing = (commit.probes ?? []).filter((p) => p.result !== "passed");
  const confirm = (despite: boolean) => {
    say.mutate({ word: "confirm", despite });
  };
  const confirming = say.isPending && say.variables.word === "confirm";
  if (commit.phase === "settling") return null;
  if (commit.phase === "reverting") {
    return (
      <Flex vertical gap={6}>
        <Trouble error={accept.error} />
        {commit.devices.filter(isStuck).map((d) => (
          <Flex key={d.name} gap={10} align="center">
            <Link
              style={{ fontSize: 14 }}
              to={`/devices/${d.name}?${new URLSearchParams({ view: "compare", a: "running", b: `before:${String(change.number)}` }).toString()}`}
            >
              What would have to be sent to {d.name}
            </Link>
            <Popconfirm
              title={`Accept ${d.name} as it is?`}
              description={
                d.odd
                  ? "It holds neither its former configuration nor this change; what it holds then stands."
                  : "It refuses to be reverted; what it holds then stands."
              }
              okText="Accept it"
              onConfirm={() => {
                accept.mutate(d.name);
              }}
            >
              <Button>Accept {d.name} as it is</Button>
            </Popconfirm>
          </Flex>
        ))}
      </Flex>
    );
  }
  return (
    <Flex vertical gap={6} align="end">
      <Trouble error={say.error ?? hold.error} />
      <Flex gap={10}>
        <Button
          onClick={() => {
            setShowing(true);
          }}
          loading={say.isPending && say.variables.word === "revert"}
        >
          {commit.phase === "prepared" || commit.phase === "preparing" ? "Give it up" : "Revert now"}
        </Button>
        {awaiting && (
          <Dropdown
            trigger={["click"]}
            menu={{
              items: [
                ...more.map((s) => ({ key: String(s), label: `${span(s)} more` })),
                ...(commit.secondsLeft > 300 ? [{ key: "-300", label: "5 min less" }] : []),
              ],
              onClick: ({ key }) => {
                hold.mutate(Number(key));
              },
            }}
          >
            <Button loading={hold.isPending}>More time…</Button>
          </Dropdown>
        )}
        {commit.phase === "prepared" && (
          <Button
            type="primary"
            loading={say.isPending && say.variables.word === "begin"}
            onClick={() => {
              say.mutate({ word: "begin" });
            }}
          >
            Commit now
          </Button>
        )}
        {commit.phase !== "prepared" &&
          (failing.length > 0 && awaiting ? (
            <Popconfirm
              title="Confirm though probes fail?"
              description={failing.map((p) => p.probe).join("; ")}
              okText="Confirm anyway"
              onConfirm={() => {
                confirm(true);
              }}
            >
              <Button danger loading={confirming}>
                Confirm…
              </Button>
            </Popconfirm>
          ) : (
            <Button
              type="primary"
              {...disabledIf(!awaiting)}
              loading={confirming}
              onClick={() => {
                confirm(false);
              }}
            >
              Confirm
            </Button>
          ))}
      </Flex>
      <RevertDialog
        change={change}
        open={showing}
        busy={say.isPending}
        onClose={() => {
          setShowing(false);
        }}
        onGo={() => {
          setShowing(false);
          say.mutate({ word: "revert" });
        }}
      />
    </Flex>
  );
}
