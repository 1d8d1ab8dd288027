import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: { outDir: "dist", emptyOutDir: true, chunkSizeWarningLimit: 2000 },
  server: { proxy: { "/api": "http://127.0.0.1:8640" } },
  test: { environment: "jsdom", setupFiles: "src/test/setup.ts", globals: false, testTimeout: 120_000 },
});
