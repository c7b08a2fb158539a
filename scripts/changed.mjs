// Which tests a change concerns: those that executed a changed file when they last ran, as the marks in the build for
// the tests tell (scripts/marks.mjs).
import { createHash } from "node:crypto"
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs"
import { dirname, join, relative } from "node:path"
import { fileURLToPath } from "node:url"
import { tells } from "./marks.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const folder = join(root, "node_modules/.cache/wobbet/executed")
const manifest = join(folder, "sources.json")

/** Every file that a test may depend on, with a hash of what it holds. */
function sources() {
  const found = {}
  for (const top of ["src", "demo", "tests", "docs", "scripts", "bin"])
    for (const entry of readdirSync(join(root, top), { recursive: true, withFileTypes: true })) {
      if (!entry.isFile()) continue
      const path = relative(root, join(entry.parentPath, entry.name))
      found[path] = createHash("sha256")
        .update(readFileSync(join(root, path)))
        .digest("hex")
    }
  return found
}

/** After a whole run: what it ran with. */
export function rememberSources() {
  mkdirSync(folder, { recursive: true })
  writeFileSync(manifest, JSON.stringify(sources()))
}

/**
 * The test files that what has changed since the last whole run concerns; undefined where there was none, or where what
 * changed concerns all of them.
 */
export function testsOfChanges() {
  if (!existsSync(manifest)) return undefined
  const before = JSON.parse(readFileSync(manifest, "utf8"))
  const now = sources()
  const changed = Object.keys({ ...before, ...now }).filter((path) => before[path] !== now[path])
  const isTest = (path) => /^(src|tests)\/.*\.test\.ts$/.test(path) && !path.startsWith("tests/long/")
  const all = Object.keys(now).filter(isTest)
  const ran = readdirSync(folder)
    .filter((name) => name.endsWith(".test.ts.json"))
    .map((name) => JSON.parse(readFileSync(join(folder, name), "utf8")))
  const known = new Set(ran.map(({ test }) => test))
  const wanted = new Set(all.filter((test) => !known.has(test)))
  const importers = importersOf(Object.keys(now))
  for (const path of changed) {
    if (/^(scripts|tests\/support|bin)\//.test(path)) return undefined
    if (path.endsWith(".test.ts")) {
      if (now[path]) wanted.add(path)
      continue
    }
    const concerned = thatTell(path, importers)
    for (const { test, sources: executed, shipped, console: pages } of ran) {
      const met = path.startsWith("src/console/") ? pages : executed.some((one) => concerned.has(one))
      // Of what the shipped build executes nothing is noted, nor of what reads texts.
      if (
        met ||
        (shipped && /^(src\/(?!console)|demo\/)/.test(path)) ||
        (path.startsWith("docs/") && /docs/.test(test))
      )
        wanted.add(test)
    }
  }
  return { changed, tests: [...wanted].filter((test) => now[test] && isTest(test)).sort() }
}

/** A source that has functions tells by itself whether it was executed; of tables and words those tell that import them. */
function thatTell(path, importers) {
  const found = new Set()
  const walk = (at) => {
    if (found.has(at)) return
    found.add(at)
    const text = existsSync(join(root, at)) ? readFileSync(join(root, at), "utf8") : ""
    if (!/\.tsx?$/.test(at) || !tells(text, at)) for (const next of importers.get(at) ?? []) walk(next)
  }
  walk(path)
  return found
}

function importersOf(paths) {
  const importers = new Map()
  for (const path of paths) {
    if (!/\.tsx?$/.test(path)) continue
    for (const [, from] of readFileSync(join(root, path), "utf8").matchAll(/(?:from|import\() ?"(\.[^"]+)"/g)) {
      const target = relative(root, join(root, dirname(path), from))
      importers.set(target, [...(importers.get(target) ?? []), path])
    }
  }
  return importers
}
