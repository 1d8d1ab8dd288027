import { useSyncExternalStore } from "react";

// Whether the service is heard: its stream of events says every second that it lives (useLive). What is shown is what it
// said last; without contact nobody knows whether that is still so.

/** From how long a silence on contact counts as lost, in ms. */
export const silence = 2800;

let lost: Date | undefined;
let heard = new Date();
const watchers = new Set<() => void>();

function become(since: Date | undefined) {
  if (lost === since) return;
  lost = since;
  for (const w of watchers) w();
}

/** The service was heard. */
export function hear() {
  heard = new Date();
  become(undefined);
}

/** It is not heard any more. */
export function lose() {
  if (!lost) become(heard);
}

/** Since when there is no contact; undefined while there is. */
export const lostSince = () => lost;

/** Whether the service was heard after a moment. */
export const heardAfter = (moment: Date) => !lost && heard > moment;

const watch = (w: () => void) => {
  watchers.add(w);
  return () => watchers.delete(w);
};

/** Since when there is no contact; undefined while there is. */
export const useLost = () => useSyncExternalStore(watch, lostSince);
