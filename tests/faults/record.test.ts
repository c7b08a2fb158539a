import pg from "pg"
import type { Service, Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  query,
  Stage,
  startProcess,
  startService,
  startStandin,
  tempFolder,
} from "../support/harness.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, hookSecret, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

/** @param env for the service, which has a process of its own then */
async function scene(env?: NodeJS.ProcessEnv) {
  const database = await freshDatabase()
  const bot = tempFolder(quayBot)
  const service = env ? await startProcess({ database, bot, faults: "", env }) : await startService({ database, bot })
  const stage = await Stage.set(service, standin, { gather: 0, perSecond: 1000 })
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
  await standin.post("start", { bot: stage.bot.username, from: stage.person.id })
  const say = (text: string, to: Service = service) => bring(to, stage.key, hookSecret, update(stage.person.id, text))
  return { database, bot, service, stage, say }
}

/** A transaction of somebody who reads for long, as a report or a copy does. */
async function reader(database: string) {
  const client = new pg.Client({ connectionString: database })
  await client.connect()
  await client.query("BEGIN")
  await client.query("SELECT count(*) FROM messages")
  return async () => {
    await client.query("COMMIT")
    await client.end()
  }
}

const monthAhead = (months: number) => {
  const now = new Date()
  return new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + months, 1))
    .toISOString()
    .slice(0, 7)
    .replace("-", "_")
}

test("the record: a passage is whole after its event's key has been forgotten, alone and in lists", async () => {
  const { database, service, stage, say } = await scene()
  expect(await say("count")).toBe(200)
  await stage.answered(1)
  const again = update(stage.person.id, "count")
  for (let n = 0; n < 2; n++) expect(await bring(service, stage.key, hookSecret, again)).toBe(200)
  await stage.answered(2)
  const before = (await service.client.passages({ channel: stage.key, limit: 3 })).items
  // What housekeeping does after thirty days.
  await query(database, "DELETE FROM seen")
  const after = (await service.client.passages({ channel: stage.key, limit: 3 })).items
  expect(after.slice(1)).toEqual(before.slice(1))
  const { paths } = await service.client.passage(before[2]!.id)
  expect(paths.map((path) => path.replies.map((reply) => reply.message.text))).toEqual([["count 1"]])
  // Of a repetition it is only known that it was one.
  expect(after[0]).toMatchObject({ repeated: true })
  expect(after[0]!.stops[2]!.why).toContain("seen before")
  await service.stop()
})

test("the record: what belongs to a month that no partition holds is kept, and its month is made", async () => {
  // A service whose ids are of months ago: what a journal holds that lay on a disk for a season.
  const { database, service, stage, say } = await scene({ WOBBET_FAULTS_ID_SHIFT: String(-100 * 86_400_000) })
  expect(await say("count")).toBe(200)
  expect((await stage.answered(1))[0]!.text).toBe("count 1")
  const [kept] = await query<{ id: string; table: string }>(
    database,
    "SELECT id, tableoid::regclass::text AS table FROM messages WHERE direction = 'in' LIMIT 1",
  )
  const months = await query<{ name: string }>(
    database,
    `SELECT relname AS name FROM pg_class WHERE relname LIKE '%_${kept!.table.slice(-7)}' AND relkind = 'r' ORDER BY 1`,
  )
  expect(months.map((month) => month.name.replace(/_\d{4}_\d\d$/, ""))).toEqual([
    "attempts",
    "intakes",
    "messages",
    "turns",
  ])
  await service.stop()
})

test("the record: a service starts, and makes the months ahead, while somebody reads for long", async () => {
  const { database, bot, service } = await scene()
  await service.stop()
  for (const table of ["messages", "turns", "intakes", "attempts"])
    await query(database, `DROP TABLE ${table}_${monthAhead(2)}`)
  const end = await reader(database)
  const next = await startService({ database, bot })
  const there = await query(database, `SELECT 1 FROM pg_class WHERE relname = 'messages_${monthAhead(2)}'`)
  expect(there).toHaveLength(1)
  await end()
  // Its indexes are the record's own.
  const indexes = await query<{ n: number }>(
    database,
    `SELECT count(*)::int AS n FROM pg_indexes WHERE tablename IN ('messages_${monthAhead(1)}', 'messages_${monthAhead(2)}') GROUP BY tablename`,
  )
  expect(new Set(indexes.map((index) => index.n)).size).toBe(1)
  await next.stop()
}, 60_000)

test("the record: keys of events are forgotten by the database's clock, soon after a start, and by one process", async () => {
  const { database, bot, service } = await scene()
  await query(
    database,
    "INSERT INTO seen (channel, event_key, message) VALUES ('quay', 'old', 'msg_01hzzzzzzzzzzzzzzzzzzzzzzz'), ('quay', 'new', 'msg_7zzzzzzzzzzzzzzzzzzzzzzzzz')",
  )
  await service.stop()
  await query(database, "UPDATE chores SET done_at = now() - interval '2 days'")
  const both = await Promise.all([startService({ database, bot }), startService({ database, bot })])
  const left = () => query(database, "SELECT event_key FROM seen WHERE channel = 'quay'")
  await eventually(async () => (await left()).length === 1, "the old key to be forgotten", 20)
  expect(await left()).toEqual([{ event_key: "new" }])
  const chores = () =>
    query<{ name: string }>(
      database,
      "SELECT name FROM chores WHERE holder IS NULL AND done_at > now() - interval '1 minute' ORDER BY name",
    )
  await eventually(async () => (await chores()).length === 8, "all of them to be done", 20)
  expect((await chores()).map(({ name }) => name)).toEqual([
    "keys of events",
    "leftovers",
    "months ahead",
    "proven doubts",
    "refused calls",
    "sessions",
    "statistics",
    "tally",
  ])
  // The months of a table are analysed by PostgreSQL itself; the table as a whole is not.
  const analysed = await query(
    database,
    "SELECT 1 FROM pg_stat_user_tables WHERE relname IN ('messages', 'intakes', 'turns', 'attempts') AND last_analyze > now() - interval '1 minute'",
  )
  expect(analysed).toHaveLength(4)
  await Promise.all(both.map((one) => one.stop()))
}, 60_000)

test("the record: a list that takes too long is given up, and messages are answered meanwhile", async () => {
  const { database, service, stage, say } = await scene()
  expect(await say("count")).toBe(200)
  await stage.answered(1)
  const client = new pg.Client({ connectionString: database })
  await client.connect()
  await client.query("BEGIN")
  await client.query("LOCK TABLE parked IN ACCESS EXCLUSIVE MODE")
  const ended: { status: number; body: { title: string } }[] = []
  const lists = Array.from({ length: 14 }, async () => {
    const headers = { authorization: `Bearer ${service.token}` }
    const answer = await fetch(`${service.address}/api/v1/parked`, { headers })
    ended.push({ status: answer.status, body: (await answer.json()) as { title: string } })
  })
  await eventually(
    async () => (await query(database, "SELECT 1 FROM pg_locks WHERE NOT granted")).length >= 6,
    "the lists to wait",
  )
  expect(await say("count")).toBe(200)
  expect((await stage.answered(2))[1]!.text).toBe("count 2")
  // Answered while every list still waits.
  expect(ended).toEqual([])
  await Promise.all(lists)
  const [first] = ended
  expect(first).toMatchObject({ status: 503, body: { title: "It took too long" } })
  await client.query("COMMIT")
  await client.end()
  await service.stop()
}, 60_000)
