import type { Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  placeFor,
  query,
  quiet,
  Stage,
  startProcess,
  startService,
  startStandin,
  takenUp,
} from "../support/harness.ts"
import { longTest, killTable, dying } from "../support/killTable.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
}, 60_000)
afterAll(endAll)

const bot = {
  "bot.yaml": `
bot: tern
groups: always
notices: [{ on: boat.late, tell: { tag: crew }, text: "The {{event.boat}} is late, {{to.name}}." }]
routes: [{ name: hello, when: { phrase: hello }, handler: { text: "Hello!" } }]`,
}

/** Makes people of the crew up, each with a conversation of their own on a channel. */
const crew = (channel: string, count: number) => `
  WITH n AS (SELECT n, lpad(n::text, 26, '0') AS id FROM generate_series(1, ${count}) n),
  c AS (INSERT INTO contacts (id, name, tags) SELECT 'con_' || id, 'Sailor ' || n, '{crew}' FROM n),
  a AS (INSERT INTO addresses (contact, channel, address, name) SELECT 'con_' || id, '${channel}', (880000000 + n)::text, 'Sailor ' || n FROM n),
  v AS (INSERT INTO conversations (id, channel, address, kind, contact) SELECT 'cnv_' || id, '${channel}', (880000000 + n)::text, 'direct', 'con_' || id FROM n)
  INSERT INTO places (channel, address, topic, conversation) SELECT '${channel}', (880000000 + n)::text, '', 'cnv_' || id FROM n`

const told = (database: string) =>
  query<{ conversation: string; n: number }>(
    database,
    "SELECT conversation, count(*)::int AS n FROM messages WHERE origin = 'notice' GROUP BY conversation",
  )

longTest(
  "one to 10,000, with two services of which one is killed: each is told once",
  async () => {
    const where = await placeFor(bot)
    const first = await startProcess({ ...where, faults: "notice: about to be said=kill@5" })
    const stage = await Stage.set(first, standin, { gather: 0 })
    await takenUp(first, stage.key)
    const other = await startService({ ...where, port: where.port + 1 })
    await other.client.pauseChannel(stage.key)
    await query(where.database, crew(stage.key, 10_000))
    const [kept] = (await other.client.sendNotice({ type: "boat.late", data: { boat: "Petrel" } }, "late-1")).items
    await eventually(async () => (await other.client.notice(kept!.id)).said === 10_000, "all to be told", 240)
    expect(await first.ended).toBe("SIGKILL")
    const found = await told(where.database)
    expect(found).toHaveLength(10_000)
    expect(new Set(found.map(({ n }) => n))).toEqual(new Set([1]))
    expect(await other.client.notice(kept!.id)).toMatchObject({ said: 10_000, waiting: 0, refused: 0, failed: 0 })
    await other.stop()
  },
  320_000,
)

const killed: { point: string; always?: true }[] = [
  { point: "notice: recipients found=kill" },
  { point: "notice: about to be said=kill", always: true },
  { point: "send: call answered=kill" },
]

async function course({ point }: { point: string }) {
  const scene = await dying(standin, { bot, faults: point, settings: { onDoubt: "resend" } })
  const { first, stage, where } = scene
  await query(
    where.database,
    `WITH c AS (INSERT INTO contacts (id, name, tags) VALUES ('con_${"0".repeat(26)}', 'Ines', '{crew}')),
     a AS (INSERT INTO addresses (contact, channel, address) VALUES ('con_${"0".repeat(26)}', '${stage.key}', '${stage.person.id}')),
     v AS (INSERT INTO conversations (id, channel, address, kind, contact) VALUES ('cnv_${"0".repeat(26)}', '${stage.key}', '${stage.person.id}', 'direct', 'con_${"0".repeat(26)}'))
     INSERT INTO places (channel, address, topic, conversation) VALUES ('${stage.key}', '${stage.person.id}', '', 'cnv_${"0".repeat(26)}')`,
  )
  // The stand-in lets a bot write only to whoever has written to it.
  await stage.standin.post("say", { bot: stage.bot.username, from: stage.person.id, text: "(quiet)", edited: false })
  await first.client.sendNotice({ type: "boat.late", data: { boat: "Tern" } }, "late").catch(() => undefined)
  const service = await scene.replaced()
  // Whoever asked and heard nothing asks again, with the same key.
  await service.client.sendNotice({ type: "boat.late", data: { boat: "Tern" } }, "late")
  await eventually(async () => (await told(where.database)).length > 0, "the notice")
  const waiting = "SELECT 1 FROM notices WHERE state = 'new' UNION ALL SELECT 1 FROM recipients WHERE state = 'waiting'"
  await eventually(async () => (await query(where.database, waiting)).length === 0, "nobody to be told any more")
  await quiet(where.database)
  const found = await told(where.database)
  await service.stop()
  return found
}

describe("kill -9 between two steps of a notice", () => {
  const { scenes, found } = killTable(killed, 2, course)

  test.each(scenes)("$point", ({ at }) => {
    expect(found(at).map(({ n }) => n)).toEqual([1])
  })
})
