import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "node_modules"] },
  { files: ["scripts/**"], languageOptions: { globals: { console: "readonly", process: "readonly" } } },
  js.configs.recommended,
  ...tseslint.configs.strict,
  hooks.configs.flat["recommended-latest"],
);
