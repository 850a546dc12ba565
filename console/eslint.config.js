import svelte from "eslint-plugin-svelte";
import globals from "globals";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "node_modules", "src/lib/schema.d.ts"] },
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  { languageOptions: { globals: globals.browser } },
  {
    files: ["**/*.svelte", "**/*.svelte.ts"],
    languageOptions: { parserOptions: { parser: ts.parser } },
    rules: {
      // Sets and maps are replaced as a whole here, or counted by a version of their own.
      "svelte/prefer-svelte-reactivity": "off",
      // The router takes plain paths.
      "svelte/no-navigation-without-resolve": "off",
    },
  },
);
