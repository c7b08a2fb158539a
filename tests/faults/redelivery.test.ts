import type { Service, Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  placeFor,
  query,
  quiet,
  Stage,
  startProcess,
  startService,
  startStandin,
  takenUp,
  tempFolder,
} from "../support/harness.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, crowd, hookSecret, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

const day = 86_400_000

describe("redelivered means ignored", () => {
  let services: Service[]
  let stage: Stage
  beforeAll(async () => {
    const database = await freshDatabase()
    const bot = tempFolder(quayBot)
    services = await Promise.all([1, 2].map(() => startService({ bot, database })))
    stage = await Stage.set(services[0]!, standin, { perSecond: 1000, gather: 0 })
    await services[0]!.client.changeChannel(stage.key, { secrets: { hookSecret } })
    await takenUp(services, stage.key)
  }, 60_000)

  test("every call three times at once, to two processes, and once more later: each makes one turn", async () => {
    const people = await crowd(stage, 8)
    const calls = people.map((chat) => update(chat, "count"))
    const thrice = calls.flatMap((call) => [0, 1, 1].map((at) => bring(services[at]!, stage.key, hookSecret, call)))
    expect(new Set(await Promise.all(thrice))).toEqual(new Set([200]))
    for (const chat of people) await stage.answered(1, chat)
    const later = await Promise.all(calls.map((call, at) => bring(services[at % 2]!, stage.key, hookSecret, call)))
    expect(new Set(later)).toEqual(new Set([200]))
    // The next of each conversation counts one more, and only one.
    for (const chat of people) await bring(services[1]!, stage.key, hookSecret, update(chat, "count"))
    for (const chat of people) await stage.answered(2, chat)
    expect(await stage.messages({ direction: "in", limit: 200 })).toHaveLength(people.length * 2)
    // A turn too many would be due, or its reply would wait to be said.
    await quiet(services[0]!.env.DATABASE_URL!)
    for (const chat of people) {
      expect((await stage.answers(chat)).map((answer) => answer.text)).toEqual(["count 1", "count 2"])
    }
    await Promise.all(services.map((service) => service.stop()))
  }, 60_000)
})

test("redelivered means ignored, also after the month has turned", async () => {
  const where = await placeFor(quayBot)
  const now = new Date()
  const shift = Date.UTC(now.getUTCFullYear(), now.getUTCMonth(), 1) - 2 * day - now.getTime()
  const before = await startProcess({ ...where, faults: "", env: { WOBBET_FAULTS_ID_SHIFT: String(shift) } })
  const stage = await Stage.set(before, standin, { gather: 0 })
  await before.client.changeChannel(stage.key, { secrets: { hookSecret } })
  const call = update(stage.person.id, "count")
  await standin.post("start", { bot: stage.bot.username, from: stage.person.id })
  expect(await bring(before, stage.key, hookSecret, call)).toBe(200)
  await stage.answered(1)
  await before.stop()
  const after = await startService(where)
  expect(await bring(after, stage.key, hookSecret, call)).toBe(200)
  expect(await bring(after, stage.key, hookSecret, update(stage.person.id, "count"))).toBe(200)
  await stage.answered(2)
  await quiet(where.database)
  expect((await stage.answers()).map((answer) => answer.text)).toEqual(["count 1", "count 2"])
  const parts = await query<{ part: string }>(
    where.database,
    "SELECT DISTINCT tableoid::regclass::text AS part FROM messages WHERE direction = 'in'",
  )
  // Only then does this test show anything: the first message stands in the month before.
  expect(parts).toHaveLength(2)
  await eventually(async () => (await after.client.passages({ channel: stage.key })).items.length === 3, "three calls")
  await after.stop()
}, 60_000)
