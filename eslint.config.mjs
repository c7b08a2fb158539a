import tseslint from "typescript-eslint"
import { roomsRule } from "./scripts/rooms.mjs"

export default tseslint.config(
  { ignores: ["dist", "node_modules", ".wobbet*", "coverage"] },
  ...tseslint.configs.recommended,
  {
    files: ["**/*.{ts,tsx,mjs}"],
    plugins: { wobbet: { rules: { rooms: roomsRule } } },
    rules: {
      "wobbet/rooms": "error",
      "@typescript-eslint/no-unused-vars": [
        "error",
        { argsIgnorePattern: "^_", varsIgnorePattern: "^_", destructuredArrayIgnorePattern: "^_" },
      ],
      "@typescript-eslint/no-unused-expressions": "off",
      "@typescript-eslint/consistent-type-imports": ["error", { disallowTypeAnnotations: false }],
      "no-restricted-syntax": [
        "error",
        {
          selector: "CallExpression[callee.object.name='Date'][callee.property.name='now'] ",
          message: "pass the time in",
        },
      ],
    },
  },
  {
    files: [
      "src/{engine,service,cli,console,standins,client,store}/**",
      "demo/**",
      "tests/**",
      "scripts/**",
      "bench/**",
    ],
    rules: { "no-restricted-syntax": "off" },
  },
)
