import { svelte } from "@sveltejs/vite-plugin-svelte";
import { defineConfig, type Plugin } from "vite";

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
});
