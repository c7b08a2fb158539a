// npm run bench: makes ready, then measures each figure beside its baseline. With --against <commit> that commit is built
// beside, and both are measured in turn.
import { execFileSync, spawnSync } from "node:child_process"
import { existsSync, mkdirSync, readFileSync, rmSync, symlinkSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const args = process.argv.slice(2)
await setUp()
const at = args.findIndex((one) => one === "--against" || one.startsWith("--against="))
if (at !== -1) {
  const named = args[at].includes("=") ? args[at].slice("--against=".length) : args[at + 1]
  try {
    args.splice(at, args[at].includes("=") ? 1 : 2, ...built(named))
  } catch (error) {
    console.error(`✕ ${error.message}`)
    process.exit(2)
  }
}
const done = spawnSync(process.execPath, ["--enable-source-maps", join(root, "dist/bench/main.js"), ...args], {
  cwd: root,
  stdio: "inherit",
})
process.exit(done.status ?? 1)

/** Builds a commit in a folder of its own, kept for the next time; gives what the bench is told of it. */
function built(name) {
  const git = (...words) =>
    execFileSync("git", words, { cwd: root, encoding: "utf8", stdio: ["ignore", "pipe", "pipe"] })
  let commit
  try {
    commit = git("rev-parse", "--verify", "--short=12", `${name ?? ""}^{commit}`).trim()
  } catch {
    throw new Error(`There is no commit "${name ?? ""}" here. Name one: npm run bench -- --against HEAD~1`)
  }
  const folder = join(root, "node_modules/.cache/wobbet/against", commit)
  const ready = join(folder, "dist/wobbet.js")
  if (existsSync(ready)) return ["--against", commit, "--built", folder]
  console.error(`building ${commit} …`)
  rmSync(folder, { recursive: true, force: true })
  mkdirSync(folder, { recursive: true })
  const archive = execFileSync("git", ["archive", commit], { cwd: root, maxBuffer: 1e9 })
  execFileSync("tar", ["-x", "-C", folder], { input: archive })
  const lock = (of) => readFileSync(join(of, "package-lock.json"), "utf8")
  const run = (file, ...words) => execFileSync(file, words, { cwd: folder, stdio: ["ignore", "ignore", "inherit"] })
  // The same packages serve both; others are installed beside.
  if (lock(folder) === lock(root)) symlinkSync(join(root, "node_modules"), join(folder, "node_modules"))
  else run("npm", "install", "--no-save", "--no-fund", "--no-audit", "--loglevel=error")
  run(process.execPath, "scripts/build.mjs")
  return ["--against", commit, "--built", folder]
}
