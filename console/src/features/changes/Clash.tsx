import { Alert, Button, Flex, Tag } from "antd";
import type { Conflict } from "../../lib/documents";
import type { Remedies } from "./Remedies";
import { when } from "../../lib/time";
import { disabledIf } from "../../lib/disabled";

/** A place that both changed, three ways, readable whole, to be decided by a person. */
export function Clash({
  device,
  conflict: c,
  remedies,
}: {
  device?: string;
  conflict: Conflict;
  remedies: Remedies | undefined;
}) {
  const sides = [
    { name: "was", text: c.base },
    { name: "mine", text: c.mine },
    { name: "theirs", text: c.theirs },
  ] as const;
  return (
    <Alert
      type={c.keep ? "info" : "error"}
      showIcon
      title={`${c.keep ? `Decided by ${c.actor ?? ""}: ` : "Conflict at "}${c.path}${device ? ` of ${device}` : ""}`}
      description={
        <>
          <div>{c.keep ? when(c.at) : c.why}</div>
          {sides.map((s) => (
            <Flex key={s.name} gap={8} align="baseline" wrap>
              <span style={{ width: 46, flex: "none" }}>{s.name}</span>
              <pre
                style={{
                  margin: 0,
                  flex: "0 1 auto",
                  minWidth: 0,
                  whiteSpace: "pre-wrap",
                  overflowWrap: "anywhere",
                  fontWeight: c.keep === s.name ? 700 : 400,
                }}
              >
                {s.text}
              </pre>
              {c.keep === s.name && <Tag color="cyan">kept</Tag>}
              {remedies && s.name !== "was" && c.keep !== s.name && (
                <Button
                  size="small"
                  {...disabledIf(remedies.busy)}
                  onClick={() => {
                    remedies.decide(c.path, s.name);
                  }}
                  aria-label={`keep ${s.name} at ${c.path}`}
                >
                  {s.name === "mine" ? "keep mine" : "keep theirs"}
                </Button>
              )}
            </Flex>
          ))}
        </>
      }
    />
  );
}
