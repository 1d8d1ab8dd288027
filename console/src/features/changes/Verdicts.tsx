import { Alert, Button, Flex, Typography } from "antd";
import { Link } from "react-router";
import type { Finding, Forecast, PartPreview, Revision } from "../../lib/documents";
import { Difference } from "../../parts/Difference";
import { when } from "../../lib/time";
import type { Remedies } from "./Remedies";
import { Clash } from "./Clash";

/** Every verdict on one part of a change. */
export function Verdicts({ part, remedies }: { part: PartPreview; remedies?: Remedies | undefined }) {
  return (
    <Flex vertical gap={8} className="verdicts" role="region" aria-label={`verdicts on ${part.device}`}>
      {!part.read && <Alert type="error" showIcon title="Not reached" description={part.trouble} />}
      {part.forecasts?.map((f, i) => (
        <Foretold key={f.device} forecast={f} own={i === 0} helpless={i === 0 && (part.helpless ?? false)} />
      ))}
      {part.movesTo && (
        <Alert
          type="info"
          showIcon
          title={`New management address: ${part.movesTo}`}
          description="On hold, it is proved that the device is reached there."
        />
      )}
      {part.reserved && (
        <Alert
          type="error"
          showIcon
          title={`Reserved by ${part.reserved.holder} until ${when(part.reserved.until)}`}
          description={
            <>
              {part.reserved.reason}. <Link to={`/devices/${part.device}`}>Ask them</Link>
            </>
          }
        />
      )}
      {part.heldBy ? (
        <Alert
          type="warning"
          showIcon
          title={
            <>
              The commit of <Link to={`/changes/${String(part.heldBy)}`}>change {part.heldBy}</Link> is under way on it.
            </>
          }
        />
      ) : null}
      {part.behind && <Behind part={part} remedies={remedies} />}
      {part.decided?.map((c) => (
        <Clash key={c.path} conflict={c} remedies={remedies} />
      ))}
      {part.findings?.map((f) => (
        <Told key={f.path + f.message} finding={f} onFix={remedies?.fix} />
      ))}
      <Validated part={part} remedies={remedies} />
      {part.guard === "device" ? (
        <Alert
          type="success"
          showIcon
          title="Guarded by the device: it reverts by itself if nobody confirms, even if this service is dead."
        />
      ) : (
        <Alert
          type={part.risk ? "warning" : "error"}
          showIcon
          title={part.risk ? `Guard: ${part.guard}` : "Cannot be changed"}
          description={[part.guardWhy, part.risk].filter(Boolean).join("; ")}
        />
      )}
      {part.untried && part.count > 0 && (
        <Alert type="error" showIcon title="Reverting is not tested" description={part.untried} />
      )}
      {part.unsaved && (
        <Alert
          type="warning"
          showIcon
          title={
            <>
              Running here is not saved to startup: <Link to={`/devices/${part.device}`}>see and save it</Link>
            </>
          }
        />
      )}
    </Flex>
  );
}

const answers = {
  keeps: { type: "success", text: "keeps management access" },
  cuts: { type: "error", text: "cuts management access" },
  unknown: { type: "warning", text: "it is not known whether it keeps management access" },
} as const;

/** The lockout forecast, with the path that decides it. */
function Foretold({ forecast: f, own, helpless }: { forecast: Forecast; own: boolean; helpless: boolean }) {
  const a = answers[f.answer];
  return (
    <Alert
      type={a.type}
      showIcon
      title={`Lockout forecast: ${a.text}${own ? "" : ` to ${f.device}, behind it`}`}
      description={
        <>
          {f.because}
          {f.path && (
            <div>
              <Typography.Text type="secondary" style={{ fontSize: 12, wordBreak: "break-word" }}>
                <code>{f.path}</code>
              </Typography.Text>
            </div>
          )}
          {helpless && (
            <div>
              <strong>Nobody could revert it.</strong>
            </div>
          )}
        </>
      }
    />
  );
}

function whose(r: Revision): string {
  if (r.change) return `change ${String(r.change)} of ${r.author ?? ""}: ${r.title ?? ""}`;
  return r.source === "outside" ? "changed outside of this service; by whom is not known" : "first read";
}

function Behind({ part, remedies }: { part: PartPreview; remedies: Remedies | undefined }) {
  return (
    <Alert
      type="warning"
      showIcon
      title={`Behind: the device moved on since revision ${String(part.base)}`}
      description={
        <>
          {part.since?.map((r) => (
            <div key={r.number}>
              revision {r.number}, {when(r.at)}: {whose(r)}
            </div>
          ))}
          <Difference lines={part.moved ?? []} height={200} />
          {remedies && !part.conflicts?.length && (
            <Button size="small" style={{ marginTop: 6 }} loading={remedies.busy} onClick={remedies.rebase}>
              Rebase onto what it holds now
            </Button>
          )}
        </>
      }
    />
  );
}

/** What the device itself says of the result, and what is left to it. */
function Validated({ part, remedies }: { part: PartPreview; remedies: Remedies | undefined }) {
  const left =
    part.unchecked > 0
      ? `${String(part.unchecked)} ${part.unchecked === 1 ? "condition is" : "conditions are"} left to the device's own validate.`
      : "";
  return (
    <>
      {part.tried && !part.said && <Alert type="success" showIcon title="The device itself finds the result valid." />}
      {part.tried && part.said && (
        <Alert type="error" showIcon title="The device itself says no" description={part.said} />
      )}
      {!part.tried && part.said && <Alert type="warning" showIcon title={`The device ${part.said}`} />}
      {!part.tried && left && <Typography.Text type="secondary">{left}</Typography.Text>}
      {!part.tried &&
        part.reasons?.map((r) => (
          <Typography.Text key={r} type="secondary">
            <code>{r}</code>
          </Typography.Text>
        ))}
      {remedies && !part.tried && part.count > 0 && (
        <Button size="small" style={{ alignSelf: "start" }} loading={remedies.busy} onClick={remedies.validate}>
          Ask the device itself
        </Button>
      )}
    </>
  );
}

const alertType = { error: "error", warning: "warning", hint: "info" } as const;

/** One finding, with a button that stages its fix. */
function Told({ finding, onFix }: { finding: Finding; onFix?: Remedies["fix"] | undefined }) {
  const { fix } = finding;
  return (
    <Alert
      type={alertType[finding.severity]}
      showIcon
      title={`${finding.path.split("/").pop() ?? ""}: ${finding.message}`}
      description={
        <>
          <Typography.Text type="secondary" style={{ fontSize: 12, wordBreak: "break-word" }}>
            <code>{finding.path}</code>
          </Typography.Text>
          {fix && onFix && (
            <div>
              <Button
                size="small"
                type="link"
                style={{ padding: 0, height: "auto", whiteSpace: "normal", textAlign: "left" }}
                onClick={() => {
                  onFix(fix);
                }}
              >
                Stage the fix: {fix.edit}
                {fix.path === finding.path ? " it" : ` ${fix.path}`}
                {fix.value === undefined ? "" : ` ${fix.value}`}
              </Button>
            </div>
          )}
        </>
      }
    />
  );
}
