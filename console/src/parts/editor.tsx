import { Spin } from "antd";
import { Suspense, type ComponentProps } from "react";
import { page } from "./page";

const Loaded = page(() => import("./TextEditor").then((m) => m.TextEditor));

/** The text editor, which is brought when it is shown first: it is as large as a page. */
export function TextEditor(props: ComponentProps<typeof Loaded>) {
  return (
    <Suspense fallback={<Spin size="small" />}>
      <Loaded {...props} />
    </Suspense>
  );
}
