import { rmSync } from "node:fs"

export default async function teardown() {
  const { child, home } = globalThis.wobbetTests
  // While we wait for it, it must keep this process alive: else the run would end here, and with it Jest's verdict.
  child.ref()
  child.removeAllListeners("exit")
  const ended = new Promise((resolve) => child.once("exit", resolve))
  child.kill("SIGTERM")
  await Promise.race([ended, new Promise((resolve) => setTimeout(resolve, 15_000).unref())])
  rmSync(home, { recursive: true, force: true })
}
