import type { Verdict } from "../core/channels/kind.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { idAt, timeOf } from "./ids.ts"
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
  const seen = await rows<{ intake: string; message: string }>(
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
  const ranges = intakes.flatMap(({ id, notes }) => {
    const at = timeOf(id)?.getTime()
    if (at === undefined) return []
    const from = idAt("msg", new Date(Math.max(0, at - earlier)))
    return [{ intake: id, from, to: idAt("msg", new Date(at + (notes && notes.length > 0 ? muchLater : later))) }]
  })
  if (ranges.length === 0) return []
  const asked = batch("a", ranges, { intake: "text", from: "text", to: "text" })
  return rows(
    database,
    `SELECT a.intake, m.id::text AS message FROM ${asked.sql}
     CROSS JOIN LATERAL (
       SELECT id FROM messages WHERE id >= a."from" AND id < a."to" AND intake = a.intake ORDER BY id
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

/** The newest intakes first, below a cursor. */
export async function listIntakes(
  database: Database,
  filter: { channel?: string; genuine?: boolean; quiet?: boolean; below?: string; limit: number },
): Promise<IntakeSummary[]> {
  const wheres = ["true"]
  const values: unknown[] = []
  if (filter.channel !== undefined) (wheres.push("i.channel = ?"), values.push(filter.channel))
  if (filter.genuine !== undefined) (wheres.push("i.genuine = ?"), values.push(filter.genuine))
  if (filter.quiet === false)
    wheres.push("(NOT i.genuine OR i.unreadable IS NOT NULL OR cardinality(i.event_keys) > 0)")
  if (filter.below !== undefined) (wheres.push("i.id < ?"), values.push(filter.below))
  const found = await rows<Omit<IntakeSummary, "messages">>(
    database,
    `SELECT i.id, i.channel, i.via, i.genuine, i.verdict, i.unreadable, i.notes, i.received_at, length(i.body) AS size,
       i.event_keys
     FROM intakes i WHERE ${wheres.join(" AND ")} ORDER BY i.id DESC LIMIT ?`,
    [...values, filter.limit],
  )
  const messages = await messagesOfIntakes(database, found)
  return found.map((row) => ({ ...row, messages: messages.get(row.id)! }))
}

/** When a channel last had a genuine and a refused call. */
export async function lastCalls(database: Database, channel: string): Promise<{ genuine?: Date; refused?: Date }> {
  const last = async (genuine: boolean) =>
    (
      await rows<{ at: Date }>(
        database,
        "SELECT received_at AS at FROM intakes WHERE channel = ? AND genuine = ? ORDER BY id DESC LIMIT 1",
        [channel, genuine],
      )
    )[0]?.at
  const [genuine, refused] = await Promise.all([last(true), last(false)])
  return { ...(genuine ? { genuine } : {}), ...(refused ? { refused } : {}) }
}

/** The last refused call of a channel, with why. */
export async function lastRefusal(
  database: Database,
  channel: string,
): Promise<Pick<IntakeRow, "id" | "verdict" | "received_at"> | undefined> {
  return (
    await rows<IntakeRow>(
      database,
      "SELECT id, verdict, received_at FROM intakes WHERE channel = ? AND NOT genuine ORDER BY id DESC LIMIT 1",
      [channel],
    )
  )[0]
}
