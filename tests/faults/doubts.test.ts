import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import type { Service } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  pause,
  query,
  startService,
  takenUp,
  tempFolder,
  transactionsIn,
} from "../support/harness.ts"
import type { KindStage } from "../support/kinds.ts"
import { setKind } from "../support/kinds.ts"
import { quayBot } from "../support/quayBot.ts"

let service: Service
let database: string
beforeAll(async () => {
  database = await freshDatabase()
  service = await startService({ database, bot: tempFolder(quayBot) })
})
afterAll(endAll)

/** So many people of a channel write at once, and the provider drops the connection at every reply. */
async function inDoubt(stage: KindStage, people: string[]): Promise<void> {
  await stage.does("faults", { kind: "drop", count: people.length * 100 })
  for (const id of people) stage.standin.stage.people.set(id, { id, name: `P${id}` })
  for (const from of people) await stage.does("say", { from, text: "say the 14:20 is late" })
  await eventually(async () => {
    const { items } = await service.client.messages({ channel: stage.key, direction: "out", limit: 100 })
    return items.length === people.length
  }, "everybody to be answered")
}

test("forty doubts that wait for an echo are looked for together", async () => {
  const quiet = await transactionsIn(database, 2000)
  const stage = await setKind(service, "messenger", { perSecond: 1000 })
  // No echo, and no word of delivery: nothing settles them before their time is over.
  ;(stage.standin as unknown as { world: { fields: string[] } }).world.fields = ["messages"]
  const people = Array.from({ length: 40 }, (_, at) => String(7_900_000 + at))
  await inDoubt(stage, people)
  // The database counts a moment later.
  await pause(2500)
  // One by one they would be looked for 160 times a second.
  expect(await transactionsIn(database, 2000)).toBeLessThan(quiet + 90)
  await eventually(
    async () => (await service.client.parked({ channel: stage.key, limit: 100 })).items.length === people.length,
    "a person to be asked about each",
  )
  // The provider's word of one was kept, and whoever was to settle it ended then.
  const [one] = (await service.client.parked({ channel: stage.key, limit: 1 })).items
  await query(
    database,
    `INSERT INTO statuses (trace, status, provider_id, at, intake)
     SELECT channel || ' mark ' || message || '.0', 'delivered', 'm_told', now(), (SELECT max(id) FROM intakes) FROM parked WHERE id = '${one!.id}'`,
  )
  await query(database, "DELETE FROM chores WHERE name = 'proven doubts'")
  const other = await startService({ database, bot: tempFolder(quayBot) })
  await eventually(
    async () => (await service.client.parked({ channel: stage.key, limit: 100 })).items.length === people.length - 1,
    "the one that arrived to be settled",
  )
  expect(await service.client.message(one!.message)).toMatchObject({ providerId: "m_told" })
  await other.stop()
  await stage.stop()
}, 60_000)

test("a provider that is dark is asked a few times whether it has them, and not for each", async () => {
  let asked = 0
  // Takes what is sent and says nothing; and says nothing of what it has.
  const dark = createServer((request, reply) => {
    const call = /[\w.]+(?=$|\?)/.exec(request.url!)![0]
    if (call.startsWith("conversations.")) asked++
    if (call === "auth.test") reply.end(JSON.stringify({ ok: true, user_id: "UBOT", bot_id: "B1", team: "Tern Point" }))
    else request.socket.destroy()
  })
  await new Promise<void>((done) => dark.listen(0, "127.0.0.1", done))
  const { port } = dark.address() as AddressInfo
  await service.client.addChannel({
    kind: "slack",
    key: "dark",
    settings: { apiBase: `http://127.0.0.1:${port}`, perSecond: 1000 },
    secrets: { botToken: "xoxb-1", signingSecret: "word" },
  })
  await takenUp(service, "dark")
  const people = Array.from({ length: 20 }, (_, at) => `U${String(at).padStart(8, "0")}`)
  for (const to of people) await service.client.send({ to, channel: "dark", text: "The 14:20 is late." })
  await eventually(
    async () => (await service.client.parked({ channel: "dark", limit: 100 })).items.length === people.length,
    "a person to be asked about each",
    40,
  )
  // One by one it would be asked eighty times.
  expect(asked).toBeGreaterThan(0)
  expect(asked).toBeLessThan(40)
  await new Promise((done) => dark.close(done))
}, 60_000)
