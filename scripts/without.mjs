// Takes one mechanism at a time out of the service, runs the test that is named after its promise, and sees it fail:
// `node scripts/without.mjs` for all, or with words of the ones to try. Sources are changed on the way into a build of
// its own, never where they stand.
import { spawn } from "node:child_process"
import { readFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"
import { bundle, testEntryPoints } from "./build.mjs"
import { mechanisms } from "./mechanisms.mjs"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))

await setUp({ tests: true })
const wanted = process.argv.slice(2)
const chosen = mechanisms.filter(({ name }) => wanted.length === 0 || wanted.some((word) => name.includes(word)))
/** Taken out at once: their tests wait more than they compute. */
const atOnce = 2

/** Runs the tests of a mechanism on a build without it, and says what came of it. */
async function seen({ name, file, from, to, and = [], test, may }, outdir) {
  const changes = [[file, from, to], ...and]
  const plugin = {
    name: "without",
    setup(build) {
      build.onLoad({ filter: /src\/.*\.ts$/ }, ({ path }) => {
        const mine = changes.filter(([changed]) => path === join(root, changed))
        if (mine.length === 0) return undefined
        const text = mine.reduce(
          (source, [changed, before, after]) => {
            if (!source.includes(before)) throw new Error(`${changed} no longer holds: ${before}`)
            return source.replace(before, () => after)
          },
          readFileSync(path, "utf8"),
        )
        return { contents: text, loader: "ts" }
      })
    },
  }
  await bundle(outdir, testEntryPoints, true, [plugin])
  const [tests, pattern] = test
  const { status, said, hung } = await ran(outdir, [`tests/faults/${tests}`, "-t", pattern])
  const counts = /(\d+) passed, (\d+) failed\s*$/.exec(said.trim())
  const failed = hung || (status !== 0 && Number(counts?.[2] ?? 0) > 0)
  const came = hung
    ? `the tests of ${tests} never end`
    : failed
      ? `${counts[2]} of ${Number(counts[1]) + Number(counts[2])} tests of ${tests} fail`
      : `the tests of ${tests} still pass${may ? ` (they may ${may})` : ""}`
  console.log(`${failed ? "✓" : "✕"} without ${name}: ${came}`)
  return failed
}

/** Runs Jest on a build of its own, for some minutes at most. */
function ran(outdir, args) {
  const jest = ["--experimental-vm-modules", "--no-warnings", `${root}/node_modules/jest/bin/jest.js`]
  const child = spawn(process.execPath, [...jest, ...args], {
    cwd: root,
    env: { ...process.env, WOBBET_BUILD: outdir },
    stdio: ["ignore", "pipe", "ignore"],
    // A group of its own: what hung tests have started ends with them.
    detached: true,
  })
  let said = ""
  child.stdout.on("data", (chunk) => (said += chunk))
  let hung = false
  const limit = setTimeout(() => {
    hung = true
    process.kill(-child.pid, "SIGKILL")
  }, 200_000)
  return new Promise((resolve) =>
    child.once("close", (status) => {
      clearTimeout(limit)
      resolve({ status, said, hung })
    }),
  )
}

let standing = 0
const left = [...chosen]
await Promise.all(
  Array.from({ length: atOnce }, async (_, slot) => {
    for (let next = left.shift(); next; next = left.shift())
      if (!(await seen(next, `dist/without-${slot + 1}`))) standing++
  }),
)
console.log(standing === 0 ? "\nEvery test fails without its mechanism." : `\n${standing} not shown.`)
process.exit(standing === 0 ? 0 : 1)
