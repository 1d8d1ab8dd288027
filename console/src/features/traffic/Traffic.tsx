import { Alert, Flex, Tag, Typography } from "antd";
import type { Moved, Ruling, TrafficChange } from "../../lib/documents";

/** Which rule decides a packet, and how, in words. */
export const ruling = (r: Ruling): string =>
  r.rule === "(no filter)"
    ? `no filter works there: ${r.action}`
    : r.rule
      ? `${r.action} by rule ${r.rule}`
      : `no rule fits: ${r.action}`;

/** The name of the place of a change: FILTER, or INTERFACE DIRECTION. */
export const placeName = (c: TrafficChange): string => c.filter ?? `${c.interface ?? ""} ${c.direction ?? ""}`;

/** The same, in words. */
export const placeWords = (c: TrafficChange): string => `${c.filter ? "filter" : "interface"} ${placeName(c)}`;

const kinds = [
  ["permitted", "newly permitted", "blue", "+"],
  ["denied", "newly denied", "volcano", "−"],
  ["answered", "denied, answered differently", "default", "~"],
] as const;

/** The packets that are treated otherwise, each part with an example and what decides it. */
export function MovedList({ change: c }: { change: TrafficChange }) {
  return (
    <Flex vertical gap={6}>
      {kinds.flatMap(([key, text, colour, mark]) =>
        (c[key] ?? []).map((m: Moved) => (
          <div key={key + m.packets}>
            <Tag color={colour}>
              {mark} {text}
            </Tag>{" "}
            <strong>
              <bdi>{m.packets}</bdi>
            </strong>
            <div>
              <Typography.Text type="secondary" style={{ fontSize: 12 }}>
                e.g. <bdi>{m.example}</bdi>: <bdi>{ruling(m.after)}</bdi>; before: <bdi>{ruling(m.before)}</bdi>
              </Typography.Text>
            </div>
          </div>
        )),
      )}
      {c.more && <Typography.Text type="secondary">And more than is listed here.</Typography.Text>}
      {c.dependsOn?.map((f) => (
        <Typography.Text key={f} type="warning">
          depends on: <bdi>{f}</bdi>
        </Typography.Text>
      ))}
    </Flex>
  );
}

/** What becomes of traffic at one filter, or on an interface. */
export function TrafficEffect({ change: c }: { change: TrafficChange }) {
  const where = `${placeWords(c)}${c.on?.length ? `, on ${c.on.join(", ")}` : ""}`;
  if (c.trouble) return <Alert type="error" showIcon title={`Traffic, ${where}`} description={c.trouble} />;
  if (c.noEffect)
    return (
      <Alert
        type="success"
        showIcon
        title={`Traffic, ${where}: no effect, proved: every packet is treated as before`}
      />
    );
  return (
    <Alert
      type={c.permitted?.length ? "warning" : "info"}
      showIcon
      title={`Traffic, ${where}`}
      description={<MovedList change={c} />}
    />
  );
}
