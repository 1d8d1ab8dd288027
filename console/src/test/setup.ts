import { cleanup, configure } from "@testing-library/react";
import { afterEach } from "vitest";

// Machines that run everything at once are slow: a limit is no measurement.
configure({ asyncUtilTimeout: 30_000 });

// jsdom has neither of these.
Object.defineProperty(window, "matchMedia", {
  value: () => ({
    matches: false, addEventListener: () => undefined, removeEventListener: () => undefined, addListener: () => undefined, removeListener: () => undefined,
  }),
});
Object.defineProperty(globalThis, "ResizeObserver", {
  value: class { observe() { return undefined; } unobserve() { return undefined; } disconnect() { return undefined; } },
});
// jsdom knows no pseudo-elements and complains of each question about one.
const styleOf = window.getComputedStyle.bind(window);
window.getComputedStyle = (element) => styleOf(element);
afterEach(cleanup);
