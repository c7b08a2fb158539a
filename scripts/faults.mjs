// npm run faults: every kill table, and a short campaign of fixed seeds. With --seed, --minutes, --only or --shrink a random campaign alone.
import { spawnSync } from "node:child_process"
import { fileURLToPath } from "node:url"
import { report, runJest } from "./jest.mjs"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const args = process.argv.slice(2)

/** Leaves out one class of faults after the other, for as long as a promise is still broken without it. */
function shrink(options) {
  let left = ["process", "database", "wire", "clock", "disk", "provider", "elsewhere"]
  const breaks = (classes) => campaign([...options, "--only", classes.join(",")]) === 1
  if (!breaks(left)) return 0
  for (const one of [...left]) {
    const without = left.filter((other) => other !== one)
    if (without.length > 0 && breaks(without)) left = without
  }
  console.log(`The fewest faults that break a promise: ${left.join(", ")}`)
  return 1
}

/** A campaign of its own: two or three service processes, and faults at random. Gives its exit code. */
function campaign(options) {
  const done = spawnSync(process.execPath, ["--enable-source-maps", `${root}/dist/faults/campaign.js`, ...options], {
    cwd: root,
    stdio: "inherit",
  })
  return done.status ?? 1
}

try {
  await setUp({ tests: true })
} catch (error) {
  console.error(`✕ ${error.message}`)
  console.log("0 passed, 1 failed")
  process.exit(1)
}
if (args.includes("--shrink")) process.exit(shrink(args.filter((arg) => arg !== "--shrink")))
if (args.length > 0) process.exit(campaign(args))

const begun = performance.now()
const tables = runJest(["tests/faults", "tests/long"], { WOBBET_WHOLE: "1" })
const broken = [1123, 7].filter((seed) => campaign(["--seed", String(seed), "--minutes", "0.5"]) !== 0)
for (const seed of broken) console.log(`✕ the campaign of seed ${seed} broke a promise`)
report("npm run faults", {
  ...tables,
  passed: tables.passed + 2 - broken.length,
  failed: tables.failed + broken.length,
  seconds: (performance.now() - begun) / 1000,
})
process.exit(tables.failed + broken.length === 0 ? 0 : 1)
