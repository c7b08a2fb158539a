import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** A side effect as it stands on record. */
export interface OnceRow {
  key: string
  name: string
  /** How often it was begun. */
  runs: number
  startedAt: Date
  endedAt: Date | null
  value: unknown
  threw: { name: string; message: string } | null
}

const columns = `key, name, runs, started_at AS "startedAt", ended_at AS "endedAt", value, threw`

/** What a turn holds while it runs: its line, or, while it waits for an answer from elsewhere, the lease of that. */
export interface Claim {
  conversation: string
  fence: number
  holder: string
  lease?: string
}

/** Whether the claim on a line still stands. */
const stands = `((w.fence = ? AND w.holder = ?) OR (w.holder = 'elsewhere' AND EXISTS (
  SELECT 1 FROM waits x WHERE x.conversation = w.conversation AND x.lease = ? AND x.answer IS NULL AND x.until > clock_timestamp())))`

const valuesOf = ({ conversation, fence, holder, lease }: Claim) => [conversation, fence, holder, lease ?? null]

/**
 * Puts the start of a side effect on record, if the claim still stands, and freezes which messages the turn has: run
 * again, it has the same. Gives what is on record, or nothing where the claim is another's by now.
 *
 * @param turn the last position of the turn's messages, and the first of the messages
 */
export async function beginOnce(
  database: Database,
  claim: Claim,
  turn: { position: number; message: string },
  { key, name }: { key: string; name: string },
): Promise<OnceRow | undefined> {
  const [found] = await rows<OnceRow>(
    database,
    `WITH held AS (
       -- A turn that waits has its messages already.
       UPDATE work w SET frozen = CASE WHEN w.holder = 'elsewhere' THEN w.frozen ELSE ? END
       WHERE w.conversation = ? AND ${stands} RETURNING w.conversation
     )
     INSERT INTO onces AS o (key, conversation, message, name) SELECT ?, conversation, ?, ? FROM held
     -- What has ended stays as it is; a throw is no result.
     ON CONFLICT (key) DO UPDATE SET
       runs = CASE WHEN o.ended_at IS NULL OR o.threw IS NOT NULL THEN o.runs + 1 ELSE o.runs END,
       ended_at = CASE WHEN o.threw IS NULL THEN o.ended_at END, threw = NULL
     RETURNING ${columns}`,
    [turn.position, ...valuesOf(claim), key, turn.message, name],
  )
  return found
}

/** Puts its result on record, once. Gives whether the claim still stood. */
export async function endOnce(
  database: Database,
  claim: Claim,
  key: string,
  ended: { value: unknown } | { threw: { name: string; message: string } },
): Promise<boolean> {
  const [value, threw] =
    "threw" in ended ? [null, JSON.stringify(ended.threw)] : [JSON.stringify(ended.value ?? null), null]
  const done = await rows(
    database,
    `UPDATE onces o SET ended_at = clock_timestamp(), value = ?::jsonb, threw = ?::jsonb
     FROM work w WHERE w.conversation = ? AND ${stands} AND o.key = ?
       AND o.conversation = w.conversation AND o.ended_at IS NULL RETURNING o.key`,
    [value, threw, ...valuesOf(claim), key],
  )
  return done.length > 0
}

/** What a side effect gave, where it has ended well. */
export async function onceGave(database: Database, key: string): Promise<{ value: unknown } | undefined> {
  const [found] = await rows<{ value: unknown }>(
    database,
    "SELECT value FROM onces WHERE key = ? AND ended_at IS NOT NULL AND threw IS NULL",
    [key],
  )
  return found
}

/** The side effects of turns, by the first of their messages. */
export async function oncesOfMessages(database: Database, messages: string[]): Promise<OnceRow[]> {
  if (messages.length === 0) return []
  return rows<OnceRow>(database, `SELECT ${columns} FROM onces WHERE message = ANY(?) ORDER BY started_at`, [messages])
}
