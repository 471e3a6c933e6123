// What the compiler does not see: rules of hooks, of access, and circles of imports.
import js from "@eslint/js";
import { createTypeScriptImportResolver } from "eslint-import-resolver-typescript";
import { importX } from "eslint-plugin-import-x";
import access from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/api/schema.ts", "*.config.*"] },
  js.configs.recommended,
  ts.configs.recommendedTypeChecked,
  access.flatConfigs.recommended,
  hooks.configs.flat["recommended-latest"],
  importX.flatConfigs.typescript,
  {
    files: ["src/**/*.{ts,tsx}"],
    plugins: { "import-x": importX },
    languageOptions: { parserOptions: { projectService: true } },
    settings: { "import-x/resolver-next": [createTypeScriptImportResolver({ project: "tsconfig.json" })] },
    rules: { "import-x/no-cycle": ["error", { ignoreExternal: true }] },
  },
);
