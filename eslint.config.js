import globals from "globals";

/** What a reader may rely on: no forgotten names, nothing unused, no line or function too long to take in at once. */
export default [
  { ignores: ["vonkel/web/static/vendor/**", "node_modules/**"] },
  {
    files: ["vonkel/web/static/js/**/*.js", "tests/js/**/*.js"],
    languageOptions: { ecmaVersion: 2024, sourceType: "module", globals: { ...globals.browser, ...globals.node } },
    rules: {
      "no-undef": "error",
      "no-unused-vars": ["error", { argsIgnorePattern: "^_", caughtErrors: "none" }],
      "no-var": "error",
      "prefer-const": "error",
      eqeqeq: "error",
      "no-implicit-globals": "error",
      "no-shadow": ["error", { builtinGlobals: false }],
      "max-len": ["error", { code: 120, ignoreUrls: true }],
      "max-lines-per-function": ["error", { max: 60, skipBlankLines: true, skipComments: true }],
      "max-lines": ["error", { max: 600 }],
    },
  },
];
