import { theme } from "antd";
import type { CSSProperties } from "react";

/** A text of a device or a file, as it is: what is longer or wider than its room is scrolled, by the keyboard too. */
export function Code({ label, text, style }: { label: string; text: string | undefined; style?: CSSProperties }) {
  const { token } = theme.useToken();
  return (
    <pre
      role="region"
      aria-label={label}
      tabIndex={0}
      style={{ margin: 0, fontFamily: token.fontFamilyCode, fontSize: 13, overflow: "auto", ...style }}
    >
      {text}
    </pre>
  );
}
