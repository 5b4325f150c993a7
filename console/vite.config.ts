import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: "../src/doorstone/service/pages", emptyOutDir: true, assetsInlineLimit: 0 },
  server: { proxy: { "/api": "http://127.0.0.1:8640" } },
  test: {
    environment: "jsdom",
    environmentOptions: { jsdom: { url: "http://doorstone.test/" } },
    setupFiles: "src/test-setup.ts",
    isolate: false, // one page for all files: to make one takes longer than the tests
    sequence: { shuffle: true },
  },
});
