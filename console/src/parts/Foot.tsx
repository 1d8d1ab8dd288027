import type { ReactNode } from "react";
import { createPortal } from "react-dom";

/** Where the frame has room at the foot for a page's next step. */
export const footID = "next-step";

/** What stays in sight at the foot of the page, above the holds. */
export function Foot({ children }: { children: ReactNode }) {
  const room = document.getElementById(footID);
  return room ? createPortal(children, room) : children;
}
