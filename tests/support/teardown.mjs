import { rmSync } from "node:fs"
import { processorOfAll } from "./recording.mjs"

export default async function teardown() {
  if (!globalThis.wobbetTests) return
  const { server, home, postmaster } = globalThis.wobbetTests
  // The server is no child of ours when it ends: what it took is read before that.
  globalThis.wobbetTests.processor = processorOfAll(postmaster)
  await server.stop()
  rmSync(home, { recursive: true, force: true })
}
