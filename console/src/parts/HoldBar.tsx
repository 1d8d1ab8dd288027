import { Button, Flex, Popconfirm, Progress, Typography, theme } from "antd";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Change } from "../api";
import { useSay } from "../queries";
import { clock, when } from "../time";
import { Trouble } from "./Trouble";

/** Seconds left, counted on from what the service said last. */
export function useSecondsLeft(secondsLeft: number): number {
  const [left, setLeft] = useState(secondsLeft);
  useEffect(() => {
    const end = Date.now() + secondsLeft * 1000;
    const timer = window.setInterval(() => { setLeft(Math.max(0, (end - Date.now()) / 1000)); }, 250);
    return () => { window.clearInterval(timer); };
  }, [secondsLeft]);
  return left;
}

const doing: Record<string, string> = {
  idle: "is about to begin",
  preparing: "is being prepared: locking, writing and validating the candidate",
  applying: "is being applied on trial",
  probing: "is in effect on trial; the way in is being proved",
  asking: "is being confirmed: every device is asked once more",
  keeping: "is being confirmed",
  settling: "is kept; startup is being saved",
  reverting: "is going back",
};

/** The bar at the foot of every page while a commit is not decided. */
export function HoldBar({ change, mayDecide }: { change: Change; mayDecide: boolean }) {
  const { token } = theme.useToken();
  const say = useSay(change.number);
  const commit = change.commit;
  const left = useSecondsLeft(commit?.secondsLeft ?? 0);
  if (!commit) return null;
  const awaiting = commit.phase === "awaiting";
  const odd = commit.devices.filter((d) => d.said);
  return (
    <div role="region" aria-label={`change ${String(change.number)} on hold`} style={{ background: token.colorWarningBg, borderTop: `2px solid ${token.colorWarning}`, padding: "10px 24px" }}>
      <Trouble error={say.error} />
      <Flex align="center" gap={20} wrap>
        {awaiting && (
          <Progress
            type="circle" size={52} percent={(100 * left) / commit.holdSeconds} format={() => clock(left)}
            strokeColor={left < 15 ? token.colorError : token.colorWarning}
          />
        )}
        <div style={{ flex: 1, minWidth: 260 }}>
          <Typography.Text strong>
            <Link to={`/changes/${String(change.number)}`}>Change {change.number}</Link>{" "}
            {awaiting ? `is on hold on ${change.devices.join(", ")}` : (doing[commit.phase] ?? commit.phase)}
          </Typography.Text>
          <br />
          <Typography.Text type="secondary">
            {change.title}
            {awaiting && `. It goes back by itself at ${when(commit.deadline)}.`}
            {commit.reason && `. ${commit.reason}`}
            {odd.map((d) => ` ${d.name}: ${d.said ?? ""}.`)}
          </Typography.Text>
        </div>
        {mayDecide && commit.phase !== "reverting" && commit.phase !== "settling" && (
          <Flex gap={10}>
            <Popconfirm
              title="Go back now?" description={`The change is taken out of ${change.devices.join(", ")}.`} okText="Go back"
              onConfirm={() => { say.mutate("revert"); }}
            >
              <Button loading={say.isPending && say.variables === "revert"}>Go back now</Button>
            </Popconfirm>
            <Button type="primary" disabled={!awaiting} loading={say.isPending && say.variables === "confirm"} onClick={() => { say.mutate("confirm"); }}>
              Keep it
            </Button>
          </Flex>
        )}
      </Flex>
    </div>
  );
}
