import { Flex, Tag, Tooltip, Typography, theme } from "antd";
import type { Commit, DeviceStanding, ProbeResult } from "../../lib/documents";
import { when } from "../../lib/time";

const looks: Record<string, { color: string; mark: string }> = {
  waiting: { color: "default", mark: "·" },
  preparing: { color: "default", mark: "…" },
  prepared: { color: "geekblue", mark: "▪" },
  committing: { color: "gold", mark: "→" },
  held: { color: "orange", mark: "◔" },
  confirming: { color: "gold", mark: "→" },
  confirmed: { color: "cyan", mark: "✓" },
  reverting: { color: "volcano", mark: "↩" },
  reverted: { color: "volcano", mark: "↩" },
  untouched: { color: "default", mark: "–" },
  accepted: { color: "red", mark: "!" },
};

/** What stands behind a hold on a device. */
export const keeperText: Record<DeviceStanding["keeper"], string> = {
  device: "the device reverts by itself, even if this service is dead",
  session: "the device reverts by itself, and also when this service stops or its session to it breaks",
  service:
    "only this service can revert it: if it stops, or cannot reach the device, the change stays there until it can again",
};

/** How a device stands, with what it said. */
export function Step({ device, kept }: { device: DeviceStanding; kept?: boolean }) {
  const look = looks[device.standing] ?? { color: "default", mark: "" };
  return (
    <Flex gap={8} align="baseline" wrap>
      <strong>{device.name}</strong>
      <Tag color={device.unreachable ? "red" : look.color}>
        {look.mark} {device.standing}
        {device.unreachable && ", unreachable"}
      </Tag>
      <Tooltip title={keeperText[device.keeper]}>
        <Typography.Text type={device.keeper === "device" ? "secondary" : "warning"}>
          guard: {device.keeper}
        </Typography.Text>
      </Tooltip>
      {kept && device.settled && (
        <span>
          {device.saved
            ? "saved to startup"
            : device.noSave && !device.said
              ? "not saved to startup, as asked"
              : "not saved to startup"}
        </span>
      )}
      {device.said && <span>{device.said}</span>}
    </Flex>
  );
}

/** How far a commit is over its devices: a part of the bar for each step that some of them are at. */
export function Progressed({ devices }: { devices: DeviceStanding[] }) {
  const { token } = theme.useToken();
  const number = new Map<string, number>();
  for (const d of devices) number.set(d.standing, (number.get(d.standing) ?? 0) + 1);
  const tone: Record<string, string> = {
    held: token.colorWarning,
    confirmed: token.colorPrimary,
    reverted: token.colorError,
    reverting: token.colorError,
    accepted: token.colorError,
  };
  return (
    <div
      role="img"
      aria-label={`of ${String(devices.length)} devices: ${counted(devices)}`}
      style={{ display: "flex", height: 14, gap: 2, margin: "0 0 12px" }}
    >
      {[...number].map(([standing, n]) => (
        <div
          key={standing}
          title={`${String(n)} ${standing}`}
          style={{ flex: n, background: tone[standing] ?? token.colorTextTertiary, borderRadius: 2 }}
        />
      ))}
    </div>
  );
}

/** The devices of a commit counted by the step each is at. */
export function counted(devices: DeviceStanding[]): string {
  const number = new Map<string, number>();
  for (const d of devices) number.set(d.standing, (number.get(d.standing) ?? 0) + 1);
  return [...number].map(([standing, n]) => `${String(n)} ${standing}`).join(", ");
}

export function Probes({ list }: { list: ProbeResult[] | undefined }) {
  return (
    <>
      {list?.map((p) => (
        <Flex key={p.probe} gap={8} align="baseline" wrap>
          <Tag color={p.result === "passed" ? "cyan" : p.result === "failed" ? "red" : "default"}>
            {p.result === "passed" ? "✓ passed" : p.result === "failed" ? "✗ failed" : "… not run yet"}
          </Tag>
          <code>{p.probe}</code>
          <span>{p.said}</span>
          {p.since && <Typography.Text type="secondary">since {when(p.since)}</Typography.Text>}
        </Flex>
      ))}
    </>
  );
}

/** Every device of a commit, and its probes. */
export function Steps({ commit, kept }: { commit: Commit; kept?: boolean }) {
  return (
    <Flex vertical gap={4}>
      {commit.devices.map((d) => (
        <Step key={d.name} device={d} kept={kept ?? false} />
      ))}
      <Probes list={commit.probes} />
    </Flex>
  );
}
