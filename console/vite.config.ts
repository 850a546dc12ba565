import { svelte } from "@sveltejs/vite-plugin-svelte";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

/** Carbon's stylesheet names fonts on another server; ours come with the console. */
function withoutForeignFonts(): Plugin {
  return {
    name: "without-foreign-fonts",
    enforce: "pre",
    transform(code, id) {
      if (!id.includes("carbon-components-svelte") || !id.includes(".css")) return null;
      return { code: code.replace(/@font-face\s*\{[^}]*\}/g, ""), map: null };
    },
  };
}

export default defineConfig({
  plugins: [withoutForeignFonts(), svelte()],
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
