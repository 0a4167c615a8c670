// The scripts: modules that say what they use. Types are checked by tsc, layout by prettier.
import js from "@eslint/js";
import globals from "globals";

// Functions that the tests put into pages.
const inPages = { scroller: "readonly", fillTab: "readonly", underWay: "readonly" };

export default [
  { ignores: ["extension/files/**", "web/static/**", "node_modules/**", "extension/src/wordlist.js"] },
  js.configs.recommended,
  {
    rules: {
      "max-len": [
        "error",
        { code: 120, ignoreUrls: true, ignoreStrings: true, ignoreTemplateLiterals: true, ignoreRegExpLiterals: true },
      ],
      "no-unused-vars": ["error", { args: "none", caughtErrors: "none" }],
      "no-empty": ["error", { allowEmptyCatch: true }],
      "no-implicit-globals": "error",
      eqeqeq: ["error", "always"],
      "prefer-const": "error",
    },
  },
  {
    files: ["web/scripts/**", "practice/static/**"],
    languageOptions: { globals: { ...globals.browser, ...globals.sharedWorker } },
  },
  { files: ["extension/src/**"], languageOptions: { globals: { ...globals.browser, ...globals.webextensions } } },
  {
    files: ["e2e/**", "*.mjs", "**/*.test.mjs"],
    languageOptions: { globals: { ...globals.node, ...globals.browser, ...globals.webextensions, ...inPages } },
  },
  {
    // The practice town's pages are old-fashioned on purpose: one script, run as it comes.
    files: ["practice/static/**"],
    languageOptions: { sourceType: "script" },
    rules: { "no-implicit-globals": "off" },
  },
];
