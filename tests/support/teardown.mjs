import { rmSync } from "node:fs"

export default async function teardown() {
  const { child, home } = globalThis.wobbetTests
  child.removeAllListeners("exit")
  const ended = new Promise((resolve) => child.once("exit", resolve))
  child.kill("SIGTERM")
  await Promise.race([ended, new Promise((resolve) => setTimeout(resolve, 15_000).unref())])
  rmSync(home, { recursive: true, force: true })
}
