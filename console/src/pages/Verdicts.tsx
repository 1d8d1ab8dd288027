import { Alert, Flex, Typography } from "antd";
import type { PartPreview } from "../api";
import { Difference } from "../parts/Difference";

/** Every verdict on one part of a change. */
export function Verdicts({ part }: { part: PartPreview }) {
  return (
    <Flex vertical gap={8}>
      {!part.read && <Alert type="error" showIcon title="Not reached" description={part.trouble} />}
      {part.behind && (
        <Alert type="warning" showIcon title={`The device moved on since revision ${String(part.base)}`} description={<Difference lines={part.moved ?? []} />} />
      )}
      {part.conflicts?.map((c) => (
        <Alert
          key={c.path} type="error" showIcon title={`Conflict at ${c.path}`}
          description={<>{c.why}<br />was <code>{c.base}</code><br />here <code>{c.mine}</code><br />device <code>{c.theirs}</code></>}
        />
      ))}
      {part.findings?.map((f) => <Alert key={f.path + f.message} type={f.severity === "error" ? "error" : "warning"} showIcon title={f.path} description={f.message} />)}
      {part.guard === "device"
        ? <Alert type="success" showIcon title="Guarded by the device: it goes back by itself if nobody confirms, even if this service is dead." />
        : <Alert type="error" showIcon title="No guard" description={part.guardWhy} />}
      {part.unsaved && <Alert type="warning" showIcon title="Running here is not saved to startup" />}
      {part.unchecked > 0 && <Typography.Text type="secondary">{part.unchecked} {part.unchecked === 1 ? "condition is" : "conditions are"} left to the device's own validate.</Typography.Text>}
    </Flex>
  );
}
