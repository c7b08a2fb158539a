import type { Verdict } from "../core/channels/kind.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"

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

/** The messages an intake told of, whether it was the first to tell of them or a repetition. */
export async function messagesOfIntake(database: Database, intake: IntakeRow): Promise<string[]> {
  const found = await rows<{ message: string }>(
    database,
    "SELECT message FROM seen WHERE channel = ? AND event_key = ANY(?) ORDER BY message",
    [intake.channel, intake.event_keys],
  )
  return found.map((row) => row.message)
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
  return rows<IntakeSummary>(
    database,
    `SELECT i.id, i.channel, i.via, i.genuine, i.verdict, i.unreadable, i.notes, i.received_at, length(i.body) AS size,
       ARRAY(SELECT s.message::text FROM seen s WHERE s.channel = i.channel AND s.event_key = ANY(i.event_keys) ORDER BY 1) AS messages
     FROM intakes i WHERE ${wheres.join(" AND ")} ORDER BY i.id DESC LIMIT ?`,
    [...values, filter.limit],
  )
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
