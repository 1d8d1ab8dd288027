import type { Device } from "../../lib/documents";

/** How a device is, in one word and mark; fine needs nobody, busy is somebody's, bad is to be looked at. */
export function stateOf(device: Device): { mark: string; text: string; color: string; kind: "fine" | "busy" | "bad" } {
  if (!device.trusted) return { mark: "✗", text: "host key not accepted", color: "red", kind: "bad" };
  if (device.heldBy)
    return { mark: "◔", text: `held by change ${String(device.heldBy)}`, color: "orange", kind: "busy" };
  if (device.trouble) return { mark: "✗", text: "trouble", color: "red", kind: "bad" };
  if (device.reserved)
    return { mark: "⊘", text: `reserved by ${device.reserved.holder}`, color: "purple", kind: "busy" };
  if (device.unsaved) return { mark: "!", text: "not saved", color: "gold", kind: "bad" };
  return { mark: "✓", text: "OK", color: "cyan", kind: "fine" };
}
