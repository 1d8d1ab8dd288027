import { Button, Drawer, Dropdown, Flex, Popconfirm, theme } from "antd";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Change, Commit, DeviceStanding } from "../../lib/documents";
import { useAccept, useAskAgain, useHold, useSay } from "./queries";
import { useLost } from "../../lib/contact";
import { clock, span, timeOfDay, when } from "../../lib/time";
import { RevertDialog } from "./RevertDialog";
import { Progressed, Steps, counted } from "../record/Steps";
import { Trouble } from "../../parts/Trouble";
import { disabledIf } from "../../lib/disabled";
import { mayTell, useWarning } from "./warning";

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
  const at = `Reverted at ${timeOfDay(commit.deadline)} unless you confirm`;
  if (alone.length === 0) return `${at}.`;
  if (alone.length === commit.devices.length) return `${at}; by this service alone.`;
  return `${at}; on ${alone.join(", ")} by this service alone.`;
}

/** At how many seconds before its end a hold is spoken of, for those who do not see the clock. */
const spoken = [300, 60, 30, 10];

/** Tells the state of a hold to who listens: when it changes, and a few times before its end. */
function Spoken({ change, left, lost }: { change: Change; left: number; lost: boolean }) {
  const commit = change.commit;
  if (!commit || lost) return null;
  const near = spoken.findLast((s) => left <= s);
  const text =
    commit.phase === "awaiting"
      ? `Change ${String(change.number)} is on hold. ${near === undefined ? ending(commit) : `Reverted in less than ${span(near)} unless you confirm.`}`
      : `Change ${String(change.number)} ${doing[commit.phase] ?? commit.phase}.`;
  return (
    <div role="status" className="only-heard">
      {text}
    </div>
  );
}

/** The line at the foot of every page while a commit is not decided. */
export function HoldBar({ change, mayDecide }: { change: Change; mayDecide: boolean }) {
  const { token } = theme.useToken();
  const commit = change.commit;
  const left = useSecondsLeft(commit?.secondsLeft ?? 0);
  const lost = useLost();
  const [shown, setShown] = useState(false);
  const awaiting = commit?.phase === "awaiting";
  const ask = useAskAgain(change.number);
  useWarning(change, awaiting && !lost ? left : undefined, ask);
  if (!commit) return null;
  const urgent = commit.ending ?? left < 15;
  const odd = commit.devices.filter((d) => d.said);
  const passing = (commit.probes ?? []).filter((p) => p.result === "passed").length;
  const words = [
    awaiting && ending(commit),
    `On ${change.devices.join(", ")}:`,
    `${change.title}.`,
    awaiting && commit.byProbes && "It is confirmed by itself once every probe passes.",
    commit.newDeadline && `The devices' timers are being set for a hold until ${when(commit.newDeadline)}.`,
    commit.phase === "prepared" && `It lapses at ${when(commit.lapsesAt)}, or when a device moves on.`,
    commit.reason && `${commit.reason}.`,
    ...odd.map((d) => `${d.name}: ${d.said ?? ""}.`),
  ]
    .filter(Boolean)
    .join(" ");
  return (
    <div
      role="region"
      aria-label={`change ${String(change.number)} on hold`}
      style={{
        background: token.colorWarningBg,
        borderTop: `3px solid ${urgent && awaiting ? token.colorError : token.colorWarning}`,
      }}
    >
      <Spoken change={change} left={left} lost={lost !== undefined} />
      <div className="foot-line">
        {awaiting && (
          <strong
            role="timer"
            aria-label="time left"
            style={{
              fontSize: 20,
              fontVariantNumeric: "tabular-nums",
              minWidth: 60,
              color: urgent && !lost ? token.colorError : token.colorText,
            }}
          >
            {lost ? "?" : clock(left)}
          </strong>
        )}
        <span className="foot-words" title={words}>
          <strong>
            {awaiting && commit.ending && !lost && "About to end: "}
            <Link to={`/changes/${String(change.number)}`} style={{ textDecoration: "underline" }}>
              Change {change.number}
            </Link>{" "}
            {awaiting ? (lost ? "was on hold" : "is on hold") : (doing[commit.phase] ?? commit.phase)}
            {lost && ", when the service was last heard"}.
          </strong>{" "}
          {words}
        </span>
        <Button
          aria-haspopup="dialog"
          onClick={() => {
            setShown(true);
          }}
        >
          Devices: {counted(commit.devices)}
          {commit.probes && `; ${String(passing)} of ${String(commit.probes.length)} probes pass`}
        </Button>
        {mayDecide && <Words change={change} commit={commit} />}
      </div>
      <Drawer
        title={`Change ${String(change.number)}, device by device`}
        open={shown}
        size={480}
        onClose={() => {
          setShown(false);
        }}
      >
        <p>{words}</p>
        <Progressed devices={commit.devices} />
        <Steps commit={commit} />
        <Warned />
      </Drawer>
    </div>
  );
}

/** Offers to be told when a hold is about to end, where the browser can and was not told yet whether it may. */
function Warned() {
  const [may, setMay] = useState(mayTell);
  if (may === "denied") return null;
  if (may === "granted") return <p>You are told here, with a sound, a minute before a hold ends.</p>;
  return (
    <Button
      style={{ marginTop: 12 }}
      onClick={() => {
        void Notification.requestPermission().then(setMay);
      }}
    >
      Tell me when a hold is about to end…
    </Button>
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
      <Flex gap={8} wrap>
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
