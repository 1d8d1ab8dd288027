const name = "oaken-latch-keys";

/** Whether single keys do something: who speaks to their computer may not want it (WCAG 2.1.4). */
export const keysOn = () => localStorage.getItem(name) !== "off";

export const setKeys = (on: boolean) => {
  localStorage.setItem(name, on ? "on" : "off");
};
