import { spawn } from "node:child_process"
import { join } from "node:path"
import { root } from "../support/harness.ts"

test("half a minute of random faults breaks no promise", async () => {
  const child = spawn(
    process.execPath,
    ["--enable-source-maps", join(root, "dist/faults/campaign.js"), "--seed", "1123", "--minutes", "0.5"],
    { cwd: root, stdio: ["ignore", "pipe", "pipe"] },
  )
  let said = ""
  child.stdout.on("data", (chunk) => (said += String(chunk)))
  child.stderr.on("data", (chunk) => (said += String(chunk)))
  await new Promise((done) => child.once("close", done))
  expect(said).toContain("every promise held")
}, 300_000)
