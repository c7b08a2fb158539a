import type { Service } from "../support/harness.ts"
import {
  endAll,
  eventually,
  pause,
  freshDatabase,
  query,
  startService,
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
  service = await startService({ database, bot: tempFolder(quayBot), faults: "" })
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
  expect(await transactionsIn(database, 2000)).toBeLessThan(quiet + 60)
  await eventually(
    async () => (await service.client.parked({ channel: stage.key, limit: 100 })).items.length === people.length,
    "a person to be asked about each",
  )
  await stage.stop()
}, 60_000)

test("a provider that is dark is asked a few times whether it has them, and not for each", async () => {
  const stage = await setKind(service, "slack", { perSecond: 1000 })
  const people = Array.from({ length: 20 }, (_, at) => `U${String(at).padStart(8, "0")}`)
  await inDoubt(stage, people)
  await eventually(async () => (await query(database, "SELECT 1 FROM outbox")).length === 0, "all to be settled", 40)
  const asked = stage.standin.stage.calls.filter((call) => /^conversations\.(history|replies)/.test(call.name))
  expect(asked.length).toBeGreaterThan(0)
  expect(asked.length).toBeLessThan(30)
  await stage.stop()
}, 60_000)
