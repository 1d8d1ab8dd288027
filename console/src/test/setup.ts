import { cleanup, configure } from "@testing-library/react";
import { afterEach } from "vitest";

// Machines that run everything at once are slow: a limit is no measurement.
configure({ asyncUtilTimeout: 30_000 });

// jsdom has neither of these.
Object.defineProperty(window, "matchMedia", {
  value: () => ({
    matches: false,
    addEventListener: () => undefined,
    removeEventListener: () => undefined,
    addListener: () => undefined,
    removeListener: () => undefined,
  }),
});
Object.defineProperty(globalThis, "ResizeObserver", {
  value: class {
    observe() {
      return undefined;
    }
    unobserve() {
      return undefined;
    }
    disconnect() {
      return undefined;
    }
  },
});
// Computing styles by antd's thousands of rules takes most of a test's time, and
// no test here is about them: what is set on the element itself will do.
window.getComputedStyle = (element) => (element as HTMLElement).style;
afterEach(cleanup);
