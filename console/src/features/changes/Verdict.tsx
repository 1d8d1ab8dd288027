import { Button, Flex, Typography, theme } from "antd";
import { useState } from "react";
import type { Preview } from "../../lib/documents";
import type { Remedies } from "./Remedies";
import { Clash } from "./Clash";

/** How many troubles are told before the rest is asked for. */
const few = 2;

/** What a change comes to, in one line, and then what is wrong with it. */
export function Verdict({
  preview,
  choose,
  remedies,
}: {
  preview: Preview;
  choose: (device: string) => void;
  remedies?: ((device: string) => Remedies) | undefined;
}) {
  const { token } = theme.useToken();
  const [all, setAll] = useState(false);
  const [deciding, setDeciding] = useState(false);
  if (preview.against !== "running") return null; // the record tells what it did
  const colour = {
    ready: token.colorPrimary,
    "with-care": token.colorWarning,
    "not-ready": token.colorError,
    nothing: token.colorTextSecondary,
  }[preview.level ?? "nothing"];
  const troubles = preview.trouble ?? [];
  const conflicts = preview.parts.flatMap((p) => (p.conflicts ?? []).map((c) => ({ device: p.device, c })));
  const shown = all ? troubles : troubles.slice(0, few);
  return (
    <section aria-label="verdict">
      <div
        role="status"
        className="verdict"
        style={{ borderColor: colour, background: token.colorBgContainer, color: token.colorText }}
      >
        {preview.verdict}
      </div>
      {troubles.length > 0 && (
        <ul className="troubles" aria-label="what is wrong">
          {shown.map((t, i) => (
            <li key={(t.device ?? "") + (t.path ?? "") + t.text}>
              <Typography.Text type={t.stops ? "danger" : "warning"} strong>
                {t.stops ? "✕ stops" : "! careful"}
              </Typography.Text>{" "}
              {t.device && (
                <Button
                  type="link"
                  size="small"
                  style={{ padding: 0, height: "auto" }}
                  onClick={() => {
                    choose(t.device ?? "");
                  }}
                >
                  {t.device}
                </Button>
              )}{" "}
              {t.path && <code>{t.path}</code>} <bdi>{t.text}</bdi>{" "}
              {i === shown.length - 1 && troubles.length > few && (
                <Button
                  size="small"
                  aria-expanded={all}
                  onClick={() => {
                    setAll(!all);
                  }}
                >
                  {all ? "Fewer" : `${String(troubles.length - few)} more`}
                </Button>
              )}{" "}
              {i === shown.length - 1 && conflicts.length > 0 && (
                <Button
                  size="small"
                  danger
                  aria-expanded={deciding}
                  onClick={() => {
                    setDeciding(!deciding);
                  }}
                >
                  {deciding
                    ? "Close the conflicts"
                    : `Decide ${conflicts.length === 1 ? "the conflict" : `${String(conflicts.length)} conflicts`}…`}
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
      {deciding && conflicts.length > 0 && (
        <Flex vertical gap={8} className="verdicts" style={{ marginBottom: 8 }}>
          {conflicts.map(({ device, c }) => (
            <Clash key={device + c.path} device={device} conflict={c} remedies={remedies?.(device)} />
          ))}
        </Flex>
      )}
    </section>
  );
}
