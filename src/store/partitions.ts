import type { Knex } from "knex"
import pg from "pg"
import type { IdPrefix } from "./ids.ts"
import { idAt, timeOf } from "./ids.ts"

const partitioned: { table: string; prefix: IdPrefix }[] = [
  { table: "intakes", prefix: "itk" },
  { table: "messages", prefix: "msg" },
  { table: "turns", prefix: "msg" },
  { table: "attempts", prefix: "msg" },
]

/** Any number: what matters is that every Wobbet process uses the same. */
const partitionLock = 4_180_2027

/** Makes the month before `now` (a clock may lag), its own and two ahead, where they are missing. */
export async function makePartitions(knex: Knex, now: Date): Promise<void> {
  await makeMonths(
    knex,
    [-1, 0, 1, 2].map((ahead) => new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + ahead, 1))),
  )
}

/**
 * Tells the planner what the tables hold as a whole. PostgreSQL does this by itself for each month, but never for the
 * table that is made of them. Gently, with pauses of 2 ms, and on a connection of its own, which no time limit ends:
 * nobody waits for it.
 */
export async function analyseWhole(url: string): Promise<void> {
  const client = new pg.Client({ connectionString: url, application_name: "wobbet" })
  client.on("error", () => undefined)
  await client.connect()
  try {
    await client.query("SET vacuum_cost_delay = 2")
    for (const { table } of partitioned) await client.query(`ANALYZE ${table}`)
  } finally {
    await client.end()
  }
}

/** Years around now within which a missing month is made: an id from elsewhere may claim any time. */
const longestGap = 3 * 366 * 86_400_000

/**
 * Runs what writes rows with these ids; where a month of theirs is missing, such as one in which no service ran, it is
 * made, and the statement runs again.
 */
export async function inTheirMonths<T>(knex: Knex, ids: () => string[], run: () => Promise<T>): Promise<T> {
  try {
    return await run()
  } catch (error) {
    const { code, message } = error as { code?: string; message: string }
    if (code !== "23514" || !message.includes("no partition of relation")) throw error
    const times = ids().map((id) => timeOf(id))
    if (times.some((time) => time === undefined || Math.abs(time.getTime() - Date.now()) > longestGap)) throw error
    const months = new Set(times.map((time) => Date.UTC(time!.getUTCFullYear(), time!.getUTCMonth(), 1)))
    await makeMonths(
      knex,
      [...months].sort((a, b) => a - b).map((month) => new Date(month)),
    )
    return await run()
  }
}

async function makeMonths(knex: Knex, months: Date[]): Promise<void> {
  const missing = await missingOf(
    knex,
    months.flatMap((from) => {
      const to = new Date(Date.UTC(from.getUTCFullYear(), from.getUTCMonth() + 1, 1))
      const month = from.toISOString().slice(0, 7).replace("-", "_")
      return partitioned.map(({ table, prefix }) => ({
        table,
        name: `${table}_${month}`,
        from: idAt(prefix, from),
        to: idAt(prefix, to),
      }))
    }),
  )
  for (const partition of missing) await makePartition(knex, partition)
}

interface Partition {
  table: string
  name: string
  from: string
  to: string
}

async function missingOf(knex: Knex, wanted: Partition[]): Promise<Partition[]> {
  const found = (await knex.raw(
    "SELECT c.relname AS name FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE c.relname = ANY(?)",
    [wanted.map((one) => one.name)],
  )) as { rows: { name: string }[] }
  const there = new Set(found.rows.map((row) => row.name))
  return wanted.filter((one) => !there.has(one.name))
}

/**
 * Made apart and then attached. To create a partition in its place locks its parent against everybody, which waits for
 * every reader and holds up every webhook behind it (9.8 s were seen behind one slow list); to attach one locks nobody
 * out.
 */
async function makePartition(knex: Knex, partition: Partition): Promise<void> {
  const { table, name, from, to } = partition
  await knex.transaction(async (step) => {
    await step.raw("SELECT pg_advisory_xact_lock(?)", [partitionLock])
    // Another process may have made it while this one waited.
    if ((await missingOf(step, [partition])).length === 0) return
    await step.raw(`
      CREATE TABLE ${name} (LIKE ${table} INCLUDING ALL);
      ALTER TABLE ${table} ATTACH PARTITION ${name} FOR VALUES FROM ('${from}') TO ('${to}')`)
  })
}
