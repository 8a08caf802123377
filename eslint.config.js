// What is asked of the page's scripts beyond what the type checker sees.

import js from "@eslint/js";
import globals from "globals";

export default [
  { ignores: ["src/reins/web/static/vendor/**"] },
  js.configs.recommended,
  {
    files: ["src/reins/web/static/js/**/*.js", "tests/**/*.js"],
    languageOptions: { globals: { ...globals.browser, ...globals.worker, ...globals.audioWorklet } },
    rules: {
      eqeqeq: ["error", "always", { null: "ignore" }],
      "no-shadow": "error",
      "no-unused-vars": ["error", { argsIgnorePattern: "^_", varsIgnorePattern: "^_" }],
      "no-var": "error",
      "prefer-const": "error",
    },
  },
];
