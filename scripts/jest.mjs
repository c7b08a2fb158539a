// Runs Jest over the tests and tells, in the same words each time, what came of it and where the time went.
import { spawnSync } from "node:child_process"
import { appendFileSync, mkdirSync, readFileSync, rmSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"

const root = fileURLToPath(new URL("..", import.meta.url))
export const cache = join(root, "node_modules/.cache/wobbet")

/** @returns what was counted: tests that passed and failed, files and tests that took longest, seconds of processor time */
export function runJest(args, env = {}) {
  mkdirSync(cache, { recursive: true })
  const file = join(cache, `summary-${process.pid}.json`)
  const begun = performance.now()
  const before = processorOfChildren()
  const { status } = spawnSync(
    process.execPath,
    [
      ...["--experimental-vm-modules", "--no-warnings", "--max-semi-space-size=32"],
      join(root, "node_modules/jest/bin/jest.js"),
      ...args,
    ],
    { cwd: root, stdio: ["ignore", "inherit", "inherit"], env: { ...process.env, ...env, WOBBET_SUMMARY: file } },
  )
  const summary = summaryIn(file)
  const failed = status === 0 ? summary.failed : Math.max(1, summary.failed)
  const seconds = (performance.now() - begun) / 1000
  return { ...summary, failed, seconds, processor: processorOfChildren() - before + summary.database }
}

function summaryIn(file) {
  try {
    return JSON.parse(readFileSync(file, "utf8"))
  } catch {
    // It ended before it came to that; what it had to say stands above.
    return { passed: 0, failed: 1, files: [], tests: [], database: 0 }
  } finally {
    rmSync(file, { force: true })
  }
}

/** Seconds of processor time that this process's children took, and theirs, once they have ended. */
export function processorOfChildren() {
  try {
    const [, rest] = /^.*\) (.*)$/s.exec(readFileSync("/proc/self/stat", "utf8"))
    const stat = rest.split(" ").map(Number)
    return (stat[13] + stat[14]) / 100
  } catch {
    return 0
  }
}

/** Says what took longest, keeps that in one line a run, and ends with the plain line that counts. */
export function report(what, { passed, failed, files, tests, seconds, processor }) {
  const shown = ({ name, seconds: took }) => `${took.toFixed(1).padStart(7)}  ${name}`
  if (files.length > 1) console.log(`The file that took longest, in seconds:\n${shown(files[0])}`)
  if (tests.length > 1) console.log(["The tests that took longest:", ...tests.map(shown)].join("\n"))
  console.log(`${what}: ${Math.round(seconds)} s, of processors ${Math.round(processor)} s`)
  const line = { at: new Date().toISOString(), what, passed, failed, seconds, processor, file: files[0], tests }
  appendFileSync(join(cache, "runs.jsonl"), `${JSON.stringify(line)}\n`)
  console.log(`${passed} passed, ${failed} failed`)
}
