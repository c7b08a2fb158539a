// npm test: makes ready, then lint, format, types and all tests. With arguments, only the tests they name.
import { spawnSync } from "node:child_process"
import { fileURLToPath } from "node:url"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const args = process.argv.slice(2)

function step(name, command, ...rest) {
  console.log(`\n› ${name}`)
  const done = spawnSync(process.execPath, [`${root}/node_modules/${command}`, ...rest], {
    cwd: root,
    stdio: ["ignore", "inherit", "inherit"],
  })
  if (done.status === 0) return
  console.error(`✕ ${name} failed`)
  console.log("0 passed, 1 failed")
  process.exit(1)
}

try {
  await setUp({ chromium: true })
} catch (error) {
  console.error(`✕ ${error.message}`)
  console.log("0 passed, 1 failed")
  process.exit(1)
}
if (args.length === 0) {
  step("types", "typescript/bin/tsc", "-p", ".")
  step("lint", "eslint/bin/eslint.js", ".")
  step("format", "prettier/bin/prettier.cjs", "--check", "--log-level=warn", ".")
}
const jest = spawnSync(
  process.execPath,
  ["--experimental-vm-modules", "--no-warnings", `${root}/node_modules/jest/bin/jest.js`, ...args],
  {
    cwd: root,
    stdio: ["ignore", "inherit", "inherit"],
  },
)
process.exit(jest.status ?? 1)
