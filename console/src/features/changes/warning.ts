import { useEffect, useState } from "react";
import type { Change } from "../../lib/documents";
import { clock } from "../../lib/time";

/** From how many seconds before its end on a hold asks for attention. */
const soon = 60;

/** Whether the browser may tell of a hold about to end, and may be asked for that. */
export const mayTell = () => ("Notification" in window ? Notification.permission : "denied");

/**
 * Warns of a hold about to end to who looks elsewhere: the title of the window counts down, and once, where the person
 * allowed it, a notification is shown and a sound made. A page that is not looked at hears nothing of the service, so
 * it asks first whether the hold is still there and about to end. left is in seconds; undefined where nothing is counted.
 */
export function useWarning(change: Change, left: number | undefined, ask: () => Promise<Change>) {
  const { number, title } = change;
  const near = left !== undefined && left > 0 && left <= soon;
  const [sure, setSure] = useState(false);
  const seconds = near && sure ? Math.ceil(left) : undefined;
  useEffect(() => {
    if (seconds === undefined) return;
    const was = document.title.replace(/^\([^)]*\) /, "");
    document.title = `(${clock(seconds)}) ${was}`;
    return () => {
      document.title = document.title.replace(/^\([^)]*\) /, "");
    };
  }, [seconds]);
  useEffect(() => {
    if (!near) return;
    let here = true;
    ask().then(
      ({ commit }) => {
        if (!here || commit?.phase !== "awaiting" || commit.secondsLeft > soon) return;
        setSure(true);
        if (mayTell() !== "granted") return;
        new Notification(`Change ${String(number)}: the hold is about to end`, {
          body: `${title}: it is reverted in less than a minute unless you confirm.`,
          tag: `hold-${String(number)}`,
        });
        beep();
      },
      () => undefined, // no contact: what is not known is not told
    );
    return () => {
      here = false;
      setSure(false);
    };
  }, [near, number, title, ask]);
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
