import stylistic from "@stylistic/eslint-plugin";
import { createTypeScriptImportResolver } from "eslint-import-resolver-typescript";
import imports from "eslint-plugin-import-x";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

const VIEWS = [
  "board",
  "estate",
  "paths",
  "jobs",
  "balance",
  "runs",
  "recovery",
  "runway",
  "compare",
];

/** Each folder with the ones it may not import from: imports point one way, views stand alone. */
const zones = [
  { target: ["ui", "time"], from: ["workbench", "shell", "app", ...VIEWS] },
  { target: ["api"], from: ["workbench", "shell", "app", ...VIEWS] },
  { target: ["workbench"], from: ["sentence", "shell", "app", ...VIEWS] },
  { target: ["sentence"], from: ["shell", "app", ...VIEWS] },
  { target: ["shell"], from: ["app", ...VIEWS] },
  ...VIEWS.map((view) => ({
    target: [view],
    from: ["shell", "app", ...VIEWS.filter((other) => other !== view)],
  })),
];

export default tseslint.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  ...tseslint.configs.strict,
  hooks.configs.flat["recommended-latest"],
  {
    // The table library hands out functions that the compiler, which is not used here, cannot cache.
    rules: { "react-hooks/incompatible-library": "off" },
  },
  { rules: { "@typescript-eslint/no-non-null-assertion": "off" } },
  {
    plugins: { "import-x": imports, "@stylistic": stylistic },
    settings: { "import-x/resolver-next": [createTypeScriptImportResolver()] },
    rules: {
      "import-x/no-cycle": "error",
      "import-x/no-restricted-paths": [
        "error",
        {
          zones: zones.map(({ target, from }) => ({
            target: target.map((folder) => `./src/${folder}`),
            from: from.map((folder) => `./src/${folder}`),
          })),
        },
      ],
      // Prettier breaks code; it leaves comments and long texts as they are.
      "@stylistic/max-len": [
        "error",
        { code: 100, ignoreStrings: true, ignoreTemplateLiterals: true },
      ],
    },
  },
);
