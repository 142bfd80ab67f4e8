import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  ...tseslint.configs.strict,
  hooks.configs.flat["recommended-latest"],
  {
    // The table library hands out functions that the compiler, which is not used here, cannot cache.
    rules: { "react-hooks/incompatible-library": "off" },
  },
  { rules: { "@typescript-eslint/no-non-null-assertion": "off" } },
);
