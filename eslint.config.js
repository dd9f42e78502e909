import globals from "globals";

export default [
  {
    files: ["**/*.js"],
    ignores: ["**/vendor/**"],
    languageOptions: {
      ecmaVersion: 2024,
      sourceType: "module",
      globals: { ...globals.browser, ...globals.audioWorklet, htmx: "readonly" },
    },
    rules: {
      "no-undef": "error",
      "no-unused-vars": ["error", { argsIgnorePattern: "^_" }],
      "no-redeclare": "error",
      "no-dupe-keys": "error",
      "no-unreachable": "error",
      "no-fallthrough": "error",
      "no-self-assign": "error",
      "no-cond-assign": "error",
      "no-const-assign": "error",
      "no-constant-condition": ["error", { checkLoops: false }],
      "no-unsafe-finally": "error",
      "no-import-assign": "error",
      "use-isnan": "error",
      "valid-typeof": "error",
      "eqeqeq": "error",
      "prefer-const": "error",
      "no-var": "error",
      "no-eval": "error",
      "no-implied-eval": "error",
    },
  },
];
