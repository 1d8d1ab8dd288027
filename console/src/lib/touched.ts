import type { QueryKey } from "@tanstack/react-query";

/** What an event of the service's stream says has happened: an entry of the record, or that something moved. */
export interface Happened {
  change?: number;
  device?: string;
}

/** Reads the data of an event; what cannot be read may be about anything. */
export function happened(data: string): Happened | undefined {
  try {
    const { change, device } = JSON.parse(data) as { change?: unknown; device?: unknown };
    return {
      ...(typeof change === "number" && change > 0 ? { change } : {}),
      ...(typeof device === "string" && device !== "" ? { device } : {}),
    };
  } catch {
    return undefined;
  }
}

/** Whether what a query showed may be another now. What is not known to be about one change or device is asked anew. */
export function touches(key: QueryKey, h: Happened): boolean {
  const [what, of] = key;
  switch (what) {
    case "changes":
      if (typeof of !== "number") return h.change !== undefined;
      return h.change === of || (h.change === undefined && h.device !== undefined); // it may be on that device
    case "devices":
      return h.device === undefined ? h.change !== undefined : of === undefined || of === h.device;
    case "revisions":
    case "timeline":
    case "blame":
    case "filters":
      return h.device === of || (h.device === undefined && h.change !== undefined);
    case "commits":
      return h.change !== undefined;
    case "me":
    case "ways":
    case "factors":
      return h.change === undefined && h.device === undefined;
    default:
      return true;
  }
}
