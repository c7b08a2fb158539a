// Which sources a test file executed: noted by the marks of the build for the tests, in this process and in others.
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"

const root = fileURLToPath(new URL("../..", import.meta.url))
/** Where it is kept from run to run: a file each test file. */
export const executedFolder = join(root, "node_modules/.cache/wobbet/executed")

/** What the marks write to, by source. In this process sources are loaded once, and their marks live as long as it. */
const marks = new Map()

// The built service asks for it when it is loaded, and sources that a test imports itself each time.
globalThis.$executed = {
  of(path) {
    if (!marks.has(path)) marks.set(path, new Uint8Array(1))
    return marks.get(path)
  },
}

export const executed = globalThis.$executed

/** Begins to look at what one test file executes. */
export function watchExecuted(testFile) {
  for (const mark of marks.values()) mark[0] = 0
  const kept = join(executedFolder, `${testFile.replaceAll("/", "__")}.json`)
  const elsewhere = `${kept}.processes`
  mkdirSync(executedFolder, { recursive: true })
  rmSync(elsewhere, { force: true })
  return {
    /** Where other processes note what they execute. */
    elsewhere,
    /** Set where the shipped build was started, which notes nothing, or the console was looked at. */
    shipped: false,
    console: false,
    keep() {
      const here = [...marks].filter(([, mark]) => mark[0] === 1).map(([path]) => path)
      const there = existsSync(elsewhere) ? readFileSync(elsewhere, "utf8").trim().split("\n") : []
      rmSync(elsewhere, { force: true })
      const sources = [...new Set([...here, ...there])].sort()
      const { shipped, console } = this
      writeFileSync(kept, JSON.stringify({ test: testFile, shipped, console, sources }))
    },
  }
}
