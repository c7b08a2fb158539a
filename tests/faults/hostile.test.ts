import { readFileSync } from "node:fs"
import type { RequestListener } from "node:http"
import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import { gzipSync } from "node:zlib"
import type { ServiceProcess } from "../support/harness.ts"
import { endAll, freshDatabase, pause, startProcess, tempFolder, transactionsIn } from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"

let service: ServiceProcess
let database: string
beforeAll(async () => {
  database = await freshDatabase()
  service = await startProcess({ database, bot: tempFolder(quayBot) })
})
afterAll(endAll)

/** Something that answers as it likes, where a provider or our own public address should be. */
async function something(answer: RequestListener): Promise<{ address: string; stop: () => Promise<unknown> }> {
  const server = createServer(answer)
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  const { port } = server.address() as AddressInfo
  const stop = () => {
    server.closeAllConnections()
    return new Promise((done) => server.close(done))
  }
  return { address: `http://127.0.0.1:${port}`, stop }
}

/** Megabytes the service's process holds. */
function resident(): number {
  return Number(readFileSync(`/proc/${service.child.pid}/statm`, "utf8").split(" ")[1]) / 256
}

/** The most it holds while something goes on. */
async function mostHeld(run: () => Promise<void>): Promise<number> {
  let most = resident()
  let over = false
  const watching = (async () => {
    while (!over) {
      most = Math.max(most, resident())
      await pause(20)
    }
  })()
  await run()
  over = true
  await watching
  return most
}

test("an answer to a check that never ends is read for a while and no further", async () => {
  let sent = 0
  const endless = await something((_request, reply) => {
    reply.writeHead(200, { "content-type": "application/json" })
    const piece = Buffer.alloc(1024 * 1024, "[")
    const more = () => {
      // Bounded, so that the test ends whatever happens: 800 MB.
      while (sent < 800 && !reply.destroyed) {
        sent++
        if (!reply.write(piece)) return void reply.once("drain", more)
      }
      reply.end()
    }
    more()
  })
  const before = resident()
  const settings = { apiBase: endless.address }
  const most = await mostHeld(async () => {
    await service.client.addChannel({ kind: "telegram", key: "endless", settings, secrets: { token: "1:abcdefgh" } })
    const { lines } = await service.client.checkChannel("endless")
    expect(lines[0]).toMatchObject({ about: "keys", mark: "wrong" })
    expect(lines[0]!.says).toContain("larger than")
  })
  // Without a limit it would be the 800 MB that are sent.
  expect(most - before).toBeLessThan(300)
  // Two checks, of which not more was taken than is read, and what lay in between.
  expect(sent).toBeLessThan(100)
  await endless.stop()
}, 60_000)

longTest(
  "what answers at the public address may be anybody's: a small answer that unpacks to a huge one stays small",
  async () => {
    let inlet = ""
    const bomb = gzipSync(Buffer.alloc(300 * 1024 * 1024))
    const trap = await something((request, reply) => {
      if (!request.url!.startsWith("/in/"))
        return void reply.end(JSON.stringify({ ok: true, result: { id: 1, username: "bot", url: inlet } }))
      reply.writeHead(200, { "content-type": "text/html", "content-encoding": "gzip" }).end(bomb)
    })
    const settings = { apiBase: trap.address, publicUrl: trap.address }
    inlet = `${trap.address}/in/trap`
    await service.client.addChannel({ kind: "telegram", key: "trap", settings, secrets: { token: "1:abcdefgh" } })
    const before = resident()
    const most = await mostHeld(async () => {
      const { lines } = await service.client.checkChannel("trap")
      const wayIn = lines.find((line) => line.about === "way in" || line.mark === "wrong")!
      expect(wayIn.says).toMatch(/something else answers/)
    })
    expect(most - before).toBeLessThan(100)
    await trap.stop()
  },
  60_000,
)

test("calls to addresses that are nobody's cost the database next to nothing", async () => {
  const quiet = await transactionsIn(database, 2000)
  const counting = transactionsIn(database, 2000)
  for (let n = 0; n < 300; n++) {
    const answer = await fetch(`${service.address}/in/nobody-${n}`, { method: "POST", body: "{}" })
    expect(answer.status).toBe(404)
    await answer.arrayBuffer()
  }
  // What the service does by itself comes to a few dozen and varies; a look-up a call would be 300.
  expect(await counting).toBeLessThan(quiet + 100)
})

longTest("a channel that another process has just added is met with its first call", async () => {
  const other = await startProcess({ database })
  const key = "met-at-once"
  await other.client.addChannel({
    kind: "telegram",
    key,
    settings: { apiBase: "http://127.0.0.1:1" },
    secrets: { token: "1:abcdefgh" },
  })
  const answer = await fetch(`${service.address}/in/${key}`, { method: "POST", body: "{}" })
  // Refused, since it proves nothing; but known.
  expect(answer.status).toBe(401)
  await other.stop()
})
