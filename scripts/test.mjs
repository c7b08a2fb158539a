// npm test: makes ready, then lint, format, types and all tests but the long tables of faults (npm run faults). With
// arguments, only the tests they name; with --changed, those that executed a changed file when they last ran.
import { spawn } from "node:child_process"
import { fileURLToPath } from "node:url"
import { cache, processorOfChildren, report, runJest } from "./jest.mjs"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const args = process.argv.slice(2)
const wantsChanged = args.includes("--changed")
const named = args.filter((one) => one !== "--changed")
const begun = performance.now()

/** The checks that need nothing to run: all at once, each looking again only at what changed since it last passed. */
const checks = {
  // The compiler in its native form takes a quarter of the time, and has no API: what uses that has the other one.
  types: ["typescript-native/bin/tsc", "-p", ".", "--incremental", "--tsBuildInfoFile", `${cache}/types.json`],
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
// Read only now: it uses packages, which a fresh clone has not had until here.
const { rememberSources, testsOfChanges } = await import("./changed.mjs")
const whole = named.length === 0 && !wantsChanged
if (whole) {
  const passed = await Promise.all(Object.entries(checks).map(([name, command]) => check(name, ...command)))
  if (passed.includes(false)) {
    console.log("0 passed, 1 failed")
    process.exit(1)
  }
}
let chosen = named
if (wantsChanged) {
  const found = testsOfChanges()
  if (found === undefined)
    console.log("What has changed may concern every test, or there was no whole run before: all are run.")
  else {
    console.log(
      `${found.changed.length} files have changed since the last whole run; ${found.tests.length} test files executed them.`,
    )
    if (found.tests.length === 0) {
      console.log("0 passed, 0 failed")
      process.exit(0)
    }
    chosen = ["--runTestsByPath", ...found.tests]
  }
}
const checked = processorOfChildren()
const result = runJest(chosen, named.some((one) => one.includes("tests/long")) ? { WOBBET_WHOLE: "1" } : {})
if (whole && result.failed === 0) rememberSources()
report("npm test", { ...result, seconds: (performance.now() - begun) / 1000, processor: result.processor + checked })
process.exit(result.failed === 0 ? 0 : 1)
