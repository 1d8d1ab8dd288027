import { theme } from "antd";
import type { ThemeConfig } from "antd";

/** The colours of differences; the mark stands beside each of them. */
export const marks: Record<string, { light: string; dark: string; name: string }> = {
  "+": { light: "#1d5fbf", dark: "#7db2ff", name: "added" },
  "−": { light: "#a63d12", dark: "#f0926a", name: "removed" },
  "~": { light: "#7437b5", dark: "#c39bf0", name: "changed" },
  "↕": { light: "#4d6072", dark: "#a9bccd", name: "moved" },
};

const common = {
  borderRadius: 4,
  fontSize: 14,
  // Who asked their system for less motion gets none.
  motion: !window.matchMedia("(prefers-reduced-motion: reduce)").matches,
};

export const light: ThemeConfig = {
  algorithm: theme.defaultAlgorithm,
  token: {
    ...common,
    colorPrimary: "#1f6b66",
    colorBgLayout: "#f5f1ea",
    colorLink: "#1f6b66",
    colorWarning: "#b9770e",
  },
};

export const dark: ThemeConfig = {
  algorithm: theme.darkAlgorithm,
  token: {
    ...common,
    colorPrimary: "#3d9a93",
    colorBgLayout: "#131a1a",
    colorBgContainer: "#1b2424",
    colorLink: "#6cc4bd",
  },
};
