/** Carbon's stylesheet, without what the console does not show: fonts on another server, themes that cannot be chosen, components that no
 * page names. It is cut when it is read, so that its file name still follows from what is in it. */
import { existsSync, readdirSync, readFileSync } from "node:fs";
import { dirname, join } from "node:path";

import { PurgeCSS } from "purgecss";
import type { Plugin } from "vite";

const SOURCE = join(import.meta.dirname, "src");
const CARBON = join(import.meta.dirname, "node_modules/carbon-components-svelte/src");

/** Classes that Carbon puts together from parts: kept by their beginning. */
const PUT_TOGETHER = [/^bx--btn--/, /^bx--tooltip--align/, /^bx--modal-/, /^bx--search-menu/];

/** Variants that Carbon's components can have and the console does not use. */
const UNUSED = /--(?:fluid|skeleton|light|definition|xl)\b|icon-only--(?:right|top)|bx--skeleton/;

/** The sources of the console and of the components of Carbon that it takes, with those that these take. */
function sources(): string {
  const own = readdirSync(SOURCE, { recursive: true, encoding: "utf8" })
    .filter((f) => /\.(svelte|ts)$/.test(f))
    .map((f) => readFileSync(join(SOURCE, f), "utf8"));
  const paths = new Map<string, string>();
  for (const found of readFileSync(join(CARBON, "index.js"), "utf8").matchAll(
    /export \{ default as (\w+) \} from "(.+?)"/g,
  )) {
    if (found[1] && found[2]) paths.set(found[1], join(CARBON, found[2]));
  }
  const names = own.flatMap((text) =>
    [...text.matchAll(/import \{([^}]*)\} from "carbon-components-svelte"/g)].flatMap((m) =>
      (m[1] ?? "").split(",").map((name) => name.trim()),
    ),
  );
  const all = new Map<string, string>();
  const wanted = names.flatMap((name) => paths.get(name) ?? []);
  for (let file = wanted.pop(); file; file = wanted.pop()) {
    const path = [file, `${file}.js`, join(file, "index.js")].find(
      (f) => /\.(svelte|js)$/.test(f) && existsSync(f),
    );
    if (!path || all.has(path)) continue;
    const text = readFileSync(path, "utf8");
    all.set(path, text);
    for (const found of text.matchAll(/from "(\.[^"]+)"/g)) wanted.push(join(dirname(path), found[1] ?? ""));
  }
  return [...own, ...all.values()].join("\n");
}

export function carbonCss(): Plugin {
  return {
    name: "carbon-css",
    enforce: "pre",
    async transform(code, id) {
      if (!id.includes("carbon-components-svelte") || !id.includes(".css")) return null;
      const css = code
        .replace(/@font-face\s*\{[^}]*\}/g, "")
        .replace(/:root\[theme="?(?:white|g80|g90)"?\][^{}]*\{[^{}]*\}/g, "");
      const [cut] = await new PurgeCSS().purge({
        content: [{ raw: sources(), extension: "svelte" }],
        css: [{ raw: css }],
        extractors: [{ extensions: ["svelte"], extractor: (text) => text.match(/[\w-]+/g) ?? [] }],
        blocklist: [UNUSED],
        safelist: { standard: ["html", "body"], greedy: [...PUT_TOGETHER, /^:root/] },
      });
      return { code: cut?.css ?? css, map: null };
    },
  };
}
