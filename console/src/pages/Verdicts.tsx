import { Alert, Button, Flex, Typography } from "antd";
import { Link } from "react-router";
import type { Finding, PartPreview } from "../api";
import { Difference } from "../parts/Difference";

/** Every verdict on one part of a change. */
export function Verdicts({ part, onMend }: { part: PartPreview; onMend?: ((fix: NonNullable<Finding["fix"]>) => void) | undefined }) {
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
      {part.findings?.map((f) => <Told key={f.path + f.message} finding={f} onMend={onMend} />)}
      {part.guard === "device"
        ? <Alert type="success" showIcon title="Guarded by the device: it goes back by itself if nobody confirms, even if this service is dead." />
        : <Alert type={part.risk ? "warning" : "error"} showIcon title={part.risk ? `Guard: ${part.guard}` : "Cannot be changed"} description={[part.guardWhy, part.risk].filter(Boolean).join("; ")} />}
      {part.unsaved && <Alert type="warning" showIcon title={<>Running here is not saved to startup: <Link to={`/devices/${part.device}`}>see and save it</Link></>} />}
      {part.unchecked > 0 && <Typography.Text type="secondary">{part.unchecked} {part.unchecked === 1 ? "condition is" : "conditions are"} left to the device's own validate.</Typography.Text>}
      {part.reasons?.map((r) => <Typography.Text key={r} type="secondary"><code>{r}</code></Typography.Text>)}
    </Flex>
  );
}

const alertType = { error: "error", warning: "warning", hint: "info" } as const;

/** One finding, with a button that stages its mend. */
function Told({ finding, onMend }: { finding: Finding; onMend?: ((fix: NonNullable<Finding["fix"]>) => void) | undefined }) {
  const { fix } = finding;
  return (
    <Alert
      type={alertType[finding.severity]} showIcon title={`${finding.path.split("/").pop() ?? ""}: ${finding.message}`}
      description={
        <>
          <Typography.Text type="secondary" style={{ fontSize: 12, wordBreak: "break-word" }}><code>{finding.path}</code></Typography.Text>
          {fix && onMend && (
            <div>
              <Button size="small" type="link" style={{ padding: 0, height: "auto", whiteSpace: "normal", textAlign: "left" }} onClick={() => { onMend(fix); }}>
                Stage the mend: {fix.edit}{fix.path === finding.path ? " it" : ` ${fix.path}`}{fix.value === undefined ? "" : ` ${fix.value}`}
              </Button>
            </div>
          )}
        </>
      }
    />
  );
}
