// Rules for the pages' scripts, for development only.
import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    languageOptions: { ecmaVersion: 2024, sourceType: "module", globals: { ...globals.browser, htmx: "readonly" } },
    rules: {
      eqeqeq: ["error", "always", { null: "ignore" }],
      "max-lines": ["error", { max: 500, skipComments: true }],
      "no-unused-vars": ["error", { argsIgnorePattern: "^_" }],
      "max-len": ["error", { code: 120 }],
      "no-var": "error",
      "prefer-const": "error",
    },
  },
];
