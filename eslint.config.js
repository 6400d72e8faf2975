import js from "@eslint/js";
import globals from "globals";

export default [
  { ignores: ["**/vendor/**"] },
  js.configs.recommended,
  {
    languageOptions: { ecmaVersion: 2024, sourceType: "module", globals: { ...globals.browser, ...globals.node, bootstrap: "readonly" } },
    rules: { "no-unused-vars": ["error", { caughtErrors: "none", ignoreRestSiblings: true }] },
  },
];
