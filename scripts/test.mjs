// npm test: makes ready, then lint, format, types and all tests. With arguments, only the tests they name.
import { spawn, spawnSync } from "node:child_process"
import { fileURLToPath } from "node:url"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const args = process.argv.slice(2)

const cache = `${root}/node_modules/.cache/wobbet`

/** The checks that need nothing to run: all at once, each looking again only at what changed since it last passed. */
const checks = {
  types: ["typescript/bin/tsc", "-p", ".", "--incremental", "--tsBuildInfoFile", `${cache}/types.json`],
  lint: ["eslint/bin/eslint.js", ".", "--cache", "--cache-location", `${cache}/lint`, "--cache-strategy", "content"],
  format: [
    "prettier/bin/prettier.cjs",
    "--check",
    "--log-level=warn",
    ".",
    "--cache",
    "--cache-location",
    `${cache}/format`,
    "--cache-strategy",
    "content",
  ],
}

function check(name, command, ...rest) {
  return new Promise((resolve) => {
    const child = spawn(process.execPath, [`${root}/node_modules/${command}`, ...rest], {
      cwd: root,
      stdio: ["ignore", "pipe", "pipe"],
    })
    let said = ""
    child.stdout.on("data", (chunk) => (said += chunk))
    child.stderr.on("data", (chunk) => (said += chunk))
    child.on("close", (code) => {
      console.log(code === 0 ? `● ${name}` : `${said}\n✕ ${name} failed`)
      resolve(code === 0)
    })
  })
}

try {
  await setUp({ chromium: true, tests: true, programs: ["python3", "curl"] })
} catch (error) {
  console.error(`✕ ${error.message}`)
  console.log("0 passed, 1 failed")
  process.exit(1)
}
if (args.length === 0) {
  const passed = await Promise.all(Object.entries(checks).map(([name, command]) => check(name, ...command)))
  if (passed.includes(false)) {
    console.log("0 passed, 1 failed")
    process.exit(1)
  }
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
