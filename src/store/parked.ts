import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"

export interface ParkedRow {
  id: string
  what: "turn" | "send"
  cause: string
  reason: string
  remedy: string | null
  channel: string
  conversation: string
  message: string
  since: Date
  decision: string | null
  decidedBy: string | null
  decidedAt: Date | null
  text: string
  title: string | null
  address: string
}

/** Of the items whose ids a relation `i` holds. */
const view = `SELECT p.id, p.what, p.cause, p.reason, p.remedy, p.channel, p.conversation, p.message, p.since, p.decision,
    p.decided_by AS "decidedBy", p.decided_at AS "decidedAt", m.words AS text, v.title, v.address
  FROM i CROSS JOIN LATERAL (SELECT * FROM parked WHERE id = i.id) p
  CROSS JOIN LATERAL (SELECT words FROM messages WHERE id = p.message) m JOIN conversations v ON v.id = p.conversation`

export async function listParked(
  database: Database,
  filter: { open?: boolean; channel?: string; below?: string; limit: number },
): Promise<ParkedRow[]> {
  const wheres = ["true"]
  const values: unknown[] = []
  if (filter.open !== false) wheres.push("decided_at IS NULL")
  if (filter.channel !== undefined) (wheres.push("channel = ?"), values.push(filter.channel))
  if (filter.below !== undefined) (wheres.push("id < ?"), values.push(filter.below))
  const items = `SELECT id FROM parked WHERE ${wheres.join(" AND ")} ORDER BY id DESC LIMIT ?`
  return hotRows<ParkedRow>(database, `WITH i AS MATERIALIZED (${items}) ${view} ORDER BY p.id DESC`, [
    ...values,
    filter.limit,
  ])
}

export async function parkedById(database: Database, id: string): Promise<ParkedRow | undefined> {
  return (await hotRows<ParkedRow>(database, `WITH i AS (SELECT ?::text AS id) ${view}`, [id]))[0]
}

export async function parkedOfMessages(database: Database, messages: string[]): Promise<ParkedRow[]> {
  if (messages.length === 0) return []
  const items = "SELECT id FROM parked WHERE message = ANY(?)"
  return hotRows<ParkedRow>(database, `WITH i AS MATERIALIZED (${items}) ${view} ORDER BY p.id`, [messages])
}

/** A person decided. Gives false when somebody did before. */
export async function decideParked(
  database: Database,
  id: string,
  decision: "retry" | "edit" | "drop",
  by: string,
): Promise<boolean> {
  const done = await rows(
    database,
    "UPDATE parked SET decision = ?, decided_by = ?, decided_at = clock_timestamp(), decided_xid = pg_current_xact_id() WHERE id = ? AND decided_at IS NULL RETURNING id",
    [decision, by, id],
  )
  return done.length > 0
}

/** Puts a parked message at the end of its conversation's line: a turn to be taken again, or a send. */
export async function rejoinLine(database: Database, parked: ParkedRow, by: string): Promise<boolean> {
  return database.transaction(async (step) => {
    if (!(await decideParked(step, parked.id, "retry", by))) return false
    const turn = parked.what === "turn"
    const [place] = await rows<{ position: number }>(
      step,
      turn
        ? `UPDATE work w SET next_position = next_position + 1, tries = 0,
             due_at = CASE WHEN c.state <> 'on' THEN 'infinity' WHEN due_at > now() AND due_at < 'infinity' THEN due_at ELSE now() END
           FROM channels c WHERE c.key = w.channel AND w.conversation = ? RETURNING next_position - 1 AS position`
        : `UPDATE work SET next_position = next_position + 1, said = said + 1,
             heard = CASE WHEN heard = next_position - 1 AND holder IS NULL AND due_at IS NULL THEN heard + 1 ELSE heard END
           WHERE conversation = ? RETURNING next_position - 1 AS position`,
      [parked.conversation],
    )
    if (turn) {
      await rows(step, "INSERT INTO rejoined (conversation, position, message) VALUES (?, ?, ?)", [
        parked.conversation,
        place!.position,
        parked.message,
      ])
      return true
    }
    // Calls that were taken before are not made again.
    await rows(
      step,
      `INSERT INTO outbox (conversation, position, channel, message, state, due_at, attempt, call)
       SELECT ?, ?, ?, ?, 'waiting', now(),
         coalesce((SELECT max(attempt) FROM attempts WHERE message = ?), 0),
         (SELECT count(DISTINCT call) FROM attempts WHERE message = ? AND outcome = 'accepted')`,
      [parked.conversation, place!.position, parked.channel, parked.message, parked.message, parked.message],
    )
    return true
  })
}

/** The first message that is parked for a reason on a channel, and open. */
export async function firstParked(database: Database, channel: string, reason: string): Promise<string | undefined> {
  const [found] = await rows<{ message: string }>(
    database,
    `SELECT message FROM parked WHERE channel = ? AND decided_at IS NULL AND cause = 'handler failed' AND reason = ?
     ORDER BY id LIMIT 1`,
    [channel, reason],
  )
  return found?.message
}
