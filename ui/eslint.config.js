import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

/** A folder of src that may import only some of the others. */
const layer = (files, regex, message) => ({
  files: [`src/${files}`],
  rules: { "no-restricted-imports": ["error", { patterns: [{ regex, message }] }] },
});
const upward = "Imports run app > features > picks > session > forms > scene > api.";

export default ts.config(
  { ignores: ["dist", "src/api/schema.ts"] },
  js.configs.recommended,
  ...ts.configs.recommended,
  {
    plugins: { "react-hooks": hooks },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "warn",
    },
  },
  layer(
    "features/**",
    "^\\.\\./(?!\\.\\.)|/app/",
    "A feature imports no other; what several need belongs to session or picks.",
  ),
  layer("picks/**", "/(features|app)/", upward),
  layer("session/**", "/(features|app|picks)/", upward),
  layer("forms/**", "/(features|app|picks|session|scene)/", upward),
  layer(
    "scene/**",
    "/(features|app|picks|session|forms)/|^(react|@mantine|@tanstack)",
    "The scene knows nothing of React.",
  ),
  layer("api/**", "/(features|app|picks|session|forms|scene)/", upward),
);
