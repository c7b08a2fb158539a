// npm run faults -- --seed n --minutes m: a random campaign against the promises, with two service processes.
import { spawnSync } from "node:child_process"
import { fileURLToPath } from "node:url"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
await setUp({ tests: true })
const done = spawnSync(
  process.execPath,
  ["--enable-source-maps", `${root}/dist/faults/campaign.js`, ...process.argv.slice(2)],
  { cwd: root, stdio: "inherit" },
)
process.exit(done.status ?? 1)
