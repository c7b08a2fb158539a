import type { Verdict } from "../core/channels/kind.ts"
import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"
import { idAt, timeOf } from "./ids.ts"
import type { Looked, PageAsked, Way } from "./lookThrough.ts"
import { lookThrough } from "./lookThrough.ts"
import { batch } from "./unnest.ts"

export interface IntakeRow {
  id: string
  channel: string
  via: string
  method: string
  address: string
  headers: { [name: string]: string }
  body: Buffer
  genuine: boolean
  verdict: Verdict
  unreadable: string | null
  notes: string[] | null
  event_keys: string[]
  answered: number | null
  received_at: Date
}

export async function intakeById(database: Database, id: string): Promise<IntakeRow | undefined> {
  return (await rows<IntakeRow>(database, "SELECT * FROM intakes WHERE id = ?", [id]))[0]
}

/** What is needed to find an intake's messages. */
type Told = Pick<IntakeRow, "id" | "channel" | "event_keys" | "notes">

/** Milliseconds by which a message's id may be older than its intake's, and younger: both are made within one batch. */
const earlier = 5000
const later = 60_000
/** The same for a call that was kept elsewhere first, and so has a note: on local disk, or for another service. */
const muchLater = 7 * 86_400_000

/**
 * The messages that intakes told of, whether they were the first to tell of them or a repetition. Of a repetition that is
 * older than the memory for events it is no longer known which message it repeated.
 */
export async function messagesOfIntakes(database: Database, intakes: Told[]): Promise<Map<string, string[]>> {
  const told = intakes.filter((intake) => intake.event_keys.length > 0)
  const found = new Map<string, string[]>(intakes.map((intake) => [intake.id, []]))
  if (told.length === 0) return found
  const asked = batch(
    "a",
    told.flatMap(({ id, channel, event_keys }) => event_keys.map((key) => ({ intake: id, channel, key }))),
    { intake: "text", channel: "text", key: "text" },
  )
  const seen = await hotRows<{ intake: string; message: string }>(
    database,
    `SELECT DISTINCT a.intake, s.message::text AS message FROM ${asked.sql}
     JOIN seen s ON s.channel = a.channel AND s.event_key = a.key COLLATE "C" ORDER BY 2`,
    asked.values,
  )
  for (const { intake, message } of seen) found.get(intake)!.push(message)
  const forgotten = told.filter((one) => found.get(one.id)!.length === 0)
  for (const { intake, message } of await firstTold(database, forgotten)) found.get(intake)!.push(message)
  return found
}

/** The messages that came with an intake: looked for by its id among those whose ids were made about when its own was. */
async function firstTold(database: Database, intakes: Told[]): Promise<{ intake: string; message: string }[]> {
  const ranges = intakes.flatMap(({ id, notes, event_keys }) => {
    const at = timeOf(id)?.getTime()
    if (at === undefined) return []
    const from = idAt("msg", new Date(Math.max(0, at - earlier)))
    const to = idAt("msg", new Date(at + (notes && notes.length > 0 ? muchLater : later)))
    // No more than it has keys, so that the search ends with the last of them.
    return [{ intake: id, from, to, many: event_keys.length }]
  })
  if (ranges.length === 0) return []
  const asked = batch("a", ranges, { intake: "text", from: "text", to: "text", many: "integer" })
  return hotRows(
    database,
    `SELECT a.intake, m.id::text AS message FROM ${asked.sql}
     CROSS JOIN LATERAL (
       SELECT id FROM messages WHERE id >= a."from" AND id < a."to" AND intake = a.intake ORDER BY id LIMIT a.many
     ) m`,
    asked.values,
  )
}

export interface IntakeSummary {
  id: string
  channel: string
  via: string
  genuine: boolean
  verdict: Verdict
  unreadable: string | null
  notes: string[] | null
  received_at: Date
  size: number
  event_keys: string[]
  messages: string[]
}

interface IntakeFilter extends PageAsked {
  channel?: string
  genuine?: boolean
  quiet?: boolean
  below?: string
}

/** The newest intakes first, below a cursor. */
export async function listIntakes(database: Database, filter: IntakeFilter): Promise<Looked<IntakeSummary>> {
  const order = { after: filter.below, cursor: (row: Summary) => row.id, descending: true }
  const way = filter.genuine === false ? refused(database, filter) : calls(database, filter)
  const found = await lookThrough([way], { ...filter, ...order })
  const messages = await messagesOfIntakes(database, found.rows)
  return { ...found, rows: found.rows.map((row) => ({ ...row, messages: messages.get(row.id)! })) }
}

type Summary = Omit<IntakeSummary, "messages">

const columns = `i.id, i.channel, i.via, i.genuine, i.verdict, i.unreadable, i.notes, i.received_at, length(i.body) AS size, i.event_keys`

/** Call by call: nearly all are genuine, and told of something. */
function calls(database: Database, { channel, genuine, quiet, limit }: IntakeFilter): Way<Summary> {
  const fits = [
    ...(genuine === true ? ["i.genuine"] : []),
    ...(quiet === false ? ["(NOT i.genuine OR i.unreadable IS NOT NULL OR cardinality(i.event_keys) > 0)"] : []),
  ]
  const sql = `WITH s AS MATERIALIZED (
      SELECT i.id, ${fits.join(" AND ") || "true"} AS fits FROM intakes i
      WHERE ${channel === undefined ? "true" : "i.channel = ?"} AND i.id < ? ORDER BY i.id DESC LIMIT ?
    ), f AS MATERIALIZED (SELECT id FROM s WHERE fits ORDER BY id DESC LIMIT ?)
    SELECT ${columns}, NULL AS least, NULL AS seen FROM f CROSS JOIN LATERAL (SELECT * FROM intakes WHERE id = f.id) i
    UNION ALL SELECT ${columns.replace(/[^,]+/g, "NULL")}, (SELECT min(id COLLATE "C") FROM s), (SELECT count(*) FROM s)`
  return async (after, many) => {
    const values = [...(channel === undefined ? [] : [channel]), after ?? above, many, limit + 1]
    const found = await hotRows<Summary & { least: string | null; seen: number | null }>(database, sql, values)
    const { least, seen } = found.find((row) => row.seen !== null)!
    const rows = found.filter((row) => row.seen === null).sort((a, b) => (a.id > b.id ? -1 : 1))
    if (rows.length > limit) return { rows, reached: rows.at(-1)!.id }
    return { rows, reached: seen! < many ? undefined : least! }
  }
}

/** Refused calls stand in an index of their own, by channel. */
function refused(database: Database, { channel, limit }: IntakeFilter): Way<Summary> {
  return async (after) => {
    const found = await hotRows<Summary>(
      database,
      `SELECT ${columns} FROM ${channel === undefined ? "channels" : "(SELECT ?::text AS key)"} c CROSS JOIN LATERAL (
         SELECT * FROM intakes i WHERE i.channel = c.key AND NOT i.genuine AND i.id < ? ORDER BY i.id DESC LIMIT ?
       ) i ORDER BY i.id DESC LIMIT ?`,
      [...(channel === undefined ? [] : [channel]), after ?? above, limit + 1, limit + 1],
    )
    return { rows: found, reached: found.length <= limit ? undefined : found.at(-1)!.id }
  }
}

/** Above every intake's id. */
const above = "itk_~"

/** What was said here to try a bot, and what was fetched of the past, says nothing of whether calls come. */
const cameByItself = "via NOT IN ('say', 'history')"

/** When a channel last had a genuine and a refused call. */
export async function lastCalls(database: Database, channel: string): Promise<{ genuine?: Date; refused?: Date }> {
  const last = async (genuine: boolean) =>
    (
      await hotRows<{ at: Date }>(
        database,
        // Literally: a parameter hides the index of what was refused (543 ms instead of 5).
        `SELECT received_at AS at FROM intakes WHERE channel = ? AND ${genuine ? "" : "NOT"} genuine AND ${cameByItself} ORDER BY id DESC LIMIT 1`,
        [channel],
      )
    )[0]?.at
  const [genuine, refused] = await Promise.all([last(true), last(false)])
  return { ...(genuine ? { genuine } : {}), ...(refused ? { refused } : {}) }
}

/** How the last genuine call of a channel came, and how many were refused since, counted up to a few. */
export async function callsSince(
  database: Database,
  channel: string,
): Promise<{ via: string; at: Date; refused: number } | undefined> {
  const [last] = await hotRows<{ id: string; via: string; at: Date }>(
    database,
    `SELECT id, via, received_at AS at FROM intakes WHERE channel = ? AND genuine AND ${cameByItself} ORDER BY id DESC LIMIT 1`,
    [channel],
  )
  if (!last) return undefined
  const [counted] = await hotRows<{ refused: number }>(
    database,
    "SELECT count(*) AS refused FROM (SELECT 1 FROM intakes WHERE channel = ? AND NOT genuine AND id > ? LIMIT 100) r",
    [channel, last.id],
  )
  return { via: last.via, at: last.at, refused: counted!.refused }
}

/** The last refused call of a channel, with why. */
export async function lastRefusal(
  database: Database,
  channel: string,
): Promise<Pick<IntakeRow, "id" | "verdict" | "received_at"> | undefined> {
  return (
    await hotRows<IntakeRow>(
      database,
      "SELECT id, verdict, received_at FROM intakes WHERE channel = ? AND NOT genuine ORDER BY id DESC LIMIT 1",
      [channel],
    )
  )[0]
}
