import * as regexp from "eslint-plugin-regexp"
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
          selector: "CallExpression[callee.object.name='Date'][callee.property.name='now']",
          message: "the wall clock decides nothing: pass the time in, or read src/engine/process/wallClock.ts",
        },
        {
          selector: "NewExpression[callee.name='Date'][arguments.length=0]",
          message: "the wall clock decides nothing: pass the time in, or read src/engine/process/wallClock.ts",
        },
      ],
    },
  },
  {
    // What strangers write is looked through here: no pattern may take longer than in proportion to it.
    files: ["src/{core,engine,service,store,client,console,sdk}/**"],
    ignores: ["**/*.test.ts"],
    plugins: { regexp },
    rules: {
      "regexp/no-super-linear-backtracking": ["error", { report: "potential" }],
      "regexp/no-super-linear-move": ["error", { report: "potential" }],
    },
  },
  {
    // The one place that reads it, the clock that handlers see, and tests.
    files: ["src/engine/process/wallClock.ts", "src/engine/handlers/stepTime.ts", "src/**/*.test.ts"],
    rules: { "no-restricted-syntax": "off" },
  },
  {
    files: ["src/{service,cli,console,standins,client,store}/**", "demo/**", "tests/**", "scripts/**", "bench/**"],
    rules: { "no-restricted-syntax": "off" },
  },
)
