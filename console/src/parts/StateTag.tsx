import { Tag } from "antd";

const looks: Record<string, { color: string; mark: string }> = {
  draft: { color: "default", mark: "✎" },
  scheduled: { color: "geekblue", mark: "⏲" },
  applying: { color: "gold", mark: "→" },
  holding: { color: "orange", mark: "◔" },
  confirmed: { color: "cyan", mark: "✓" },
  reverted: { color: "volcano", mark: "↩" },
  partly: { color: "magenta", mark: "≠" },
  unsettled: { color: "magenta", mark: "?" },
  failed: { color: "red", mark: "✗" },
  dropped: { color: "default", mark: "–" },
};

/** The states that a change may be in. */
export const states = Object.keys(looks);

/** A change's state, by word and mark. */
export function StateTag({ state }: { state: string }) {
  const look = looks[state] ?? { color: "default", mark: "" };
  return (
    <Tag color={look.color}>
      {look.mark} {state}
    </Tag>
  );
}
