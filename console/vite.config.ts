import { svelte } from "@sveltejs/vite-plugin-svelte";
import { defineConfig } from "vitest/config";

import { carbonCss } from "./carbonCss";

export default defineConfig({
  plugins: [carbonCss(), svelte()],
  build: { target: "es2022", sourcemap: false, reportCompressedSize: true, assetsInlineLimit: 0 },
  server: { proxy: { "/api": { target: "http://127.0.0.1:7310", ws: true } } },
  test: {
    environment: "happy-dom",
    // A test page goes nowhere and fetches nothing.
    environmentOptions: {
      happyDOM: {
        settings: {
          disableCSSFileLoading: true,
          disableJavaScriptFileLoading: true,
          navigation: { disableMainFrameNavigation: true, disableChildPageNavigation: true },
        },
      },
    },
    include: ["tests/**/*.test.ts"],
    restoreMocks: true,
  },
});
