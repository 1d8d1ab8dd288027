import { useEffect, useRef } from "react";
import type { Change } from "../../lib/documents";
import { clock } from "../../lib/time";

/** From how many seconds before its end on a hold asks for attention. */
const soon = 60;

/** Whether the browser may tell of a hold about to end, and may be asked for that. */
export const mayTell = () => ("Notification" in window ? Notification.permission : "denied");

/**
 * Warns of a hold about to end to who looks elsewhere: the title of the window counts down, and once, where the person
 * allowed it, a notification is shown and a sound made. left is in seconds; undefined where nothing is counted.
 */
export function useWarning(change: Change, left: number | undefined) {
  const told = useRef(false);
  const near = left !== undefined && left > 0 && left <= soon;
  const seconds = near ? Math.ceil(left) : undefined;
  useEffect(() => {
    if (seconds === undefined) return;
    const was = document.title.replace(/^\([^)]*\) /, "");
    document.title = `(${clock(seconds)}) ${was}`;
    return () => {
      document.title = document.title.replace(/^\([^)]*\) /, "");
    };
  }, [seconds]);
  useEffect(() => {
    if (!near) {
      told.current = false;
      return;
    }
    if (told.current || mayTell() !== "granted") return;
    told.current = true;
    new Notification(`Change ${String(change.number)}: the hold is about to end`, {
      body: `${change.title}: it is reverted in less than a minute unless you confirm.`,
      tag: `hold-${String(change.number)}`,
    });
    beep();
  }, [near, change.number, change.title]);
}

/** A short sound; nothing where the browser allows none. */
function beep() {
  try {
    const audio = new AudioContext();
    const tone = audio.createOscillator();
    const volume = audio.createGain();
    volume.gain.value = 0.1;
    tone.frequency.value = 880;
    tone.connect(volume).connect(audio.destination);
    tone.start();
    tone.stop(audio.currentTime + 0.4);
    tone.onended = () => void audio.close();
  } catch {
    // no sound then
  }
}
