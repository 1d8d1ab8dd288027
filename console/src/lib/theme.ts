import { theme } from "antd";
import type { ThemeConfig } from "antd";

/** The colours of differences; the mark stands beside each of them. */
export const marks: Record<string, { light: string; dark: string; name: string }> = {
  "+": { light: "#1d5fbf", dark: "#7db2ff", name: "added" },
  "−": { light: "#a63d12", dark: "#f0926a", name: "removed" },
  "~": { light: "#7437b5", dark: "#c39bf0", name: "changed" },
  "↕": { light: "#4d6072", dark: "#a9bccd", name: "moved" },
};

/** The colour of a mark on a background. */
export function markColour(mark: string, background: string): string | undefined {
  const m = marks[mark];
  return m && (background.toLowerCase() === "#ffffff" ? m.light : m.dark);
}

const common = {
  borderRadius: 4,
  fontSize: 14,
  // Who asked their system for less motion gets none.
  motion: !window.matchMedia("(prefers-reduced-motion: reduce)").matches,
};

// The library's own texts beside the main one, and its colours for warnings, are too pale to be read by everybody: these
// have at least 4.5 to 1 on what they stand on (WCAG 2.2, 1.4.3). The words on tags: main.css.
export const light: ThemeConfig = {
  algorithm: theme.defaultAlgorithm,
  token: {
    ...common,
    colorPrimary: "#1f6b66",
    colorBgLayout: "#f5f1ea",
    colorLink: "#185a55",
    colorWarning: "#8a5a00",
    colorWarningBg: "#fdf3dc",
    colorWarningBorder: "#d2a548",
    colorError: "#b3261e",
    colorText: "#1f1d1b",
    colorTextSecondary: "#57524b",
    colorTextTertiary: "#5f5a53",
    colorTextDescription: "#57524b",
    colorTextPlaceholder: "#6b665f",
    colorTextQuaternary: "#6b665f",
  },
};

export const dark: ThemeConfig = {
  algorithm: theme.darkAlgorithm,
  token: {
    ...common,
    colorPrimary: "#5cc9c0",
    colorBgLayout: "#131a1a",
    colorBgContainer: "#1b2424",
    colorLink: "#7fd0c9",
    colorWarning: "#e0a53c",
    colorWarningBg: "#2f2613",
    colorWarningBorder: "#7a5b1c",
    colorError: "#ff8078",
    colorText: "#ecebe8",
    colorTextSecondary: "#b9b7b2",
    colorTextTertiary: "#adaba6",
    colorTextDescription: "#b9b7b2",
    colorTextPlaceholder: "#a3a19c",
    colorTextQuaternary: "#a3a19c",
  },
  components: { Button: { primaryColor: "#05201d" } },
};
