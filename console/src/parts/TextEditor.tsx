import CodeMirror, { EditorView } from "@uiw/react-codemirror";
import { theme } from "antd";
import { nonce } from "../lib/nonce";

const extensions = [EditorView.cspNonce.of(nonce)];

/** A text to be edited: an outline, or a file in any of the formats. */
export function TextEditor({
  label,
  value,
  onChange,
  height = "260px",
}: {
  label: string;
  value: string;
  onChange: (text: string) => void;
  height?: string;
}) {
  const { token } = theme.useToken();
  return (
    <div
      aria-label={label}
      style={{ border: `1px solid ${token.colorBorder}`, borderRadius: token.borderRadius, overflow: "hidden" }}
    >
      <CodeMirror
        value={value}
        height={height}
        theme={token.colorBgContainer === "#ffffff" ? "light" : "dark"}
        onChange={onChange}
        extensions={extensions}
        basicSetup={{ foldGutter: false, autocompletion: false }}
      />
    </div>
  );
}
