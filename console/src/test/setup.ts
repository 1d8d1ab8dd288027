import { cleanup } from "@testing-library/react";
import { afterEach, vi } from "vitest";

// jsdom has neither of these.
vi.stubGlobal("matchMedia", () => ({ matches: false, addEventListener: () => undefined, removeEventListener: () => undefined, addListener: () => undefined, removeListener: () => undefined }));
vi.stubGlobal("ResizeObserver", class { observe() { return undefined; } unobserve() { return undefined; } disconnect() { return undefined; } });
afterEach(cleanup);
