import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import type { Claimed } from "./lines.ts"
import { batch } from "./unnest.ts"
import { elsewhere } from "./waits.ts"

/** Seconds a claim lasts before another process may take it; renewed while its holder lives. */
export const claimSeconds = 30

/**
 * Deaths of a line's holders from which on its turn is tried alone, with nothing else under way in its process. An odd
 * number from here on is one that is being tried so: only another death during that counts, so that a process which is
 * killed from outside, with thousands of lines in hand, blames none of them.
 */
export const triedAlone = 2
/** From here on it has ended two processes that had nothing else under way. */
export const endsProcesses = 6

/** A line's deaths, with one more. */
export const deathCounted = `CASE WHEN deaths < ${triedAlone} OR deaths % 2 = 1 THEN deaths + 1 ELSE deaths END`

/** Takes conversations whose time has come and that nobody holds; many at once, none twice. */
export async function claimDue(database: Database, holder: string, seconds: number, limit: number): Promise<Claimed[]> {
  return rows<Claimed>(
    database,
    `WITH due AS (
       SELECT conversation, holder FROM work WHERE due_at <= now() ORDER BY due_at LIMIT ? FOR UPDATE SKIP LOCKED
     )
     UPDATE work w SET holder = ?, fence = w.fence + 1, due_at = now() + ?::int * interval '1 second',
       -- One that another still holds belonged to a process that ended, or could not say for long that it lives.
       deaths = CASE WHEN due.holder IS NULL OR due.holder IN ('${elsewhere}', ?) THEN deaths ELSE ${deathCounted} END
     FROM due WHERE due.conversation = w.conversation
     RETURNING w.conversation, w.channel, w.fence`,
    [limit, holder, seconds, holder],
  )
}

/** Makes claims last longer; gives those that are still held. */
export async function renewClaims(
  database: Database,
  holder: string,
  claims: Claimed[],
  seconds: number,
): Promise<Set<string>> {
  const held = batch(
    "c",
    claims.map(({ conversation, fence }) => ({ conversation, fence })),
    { conversation: "text", fence: "bigint" },
  )
  const found = await rows<{ conversation: string }>(
    database,
    `UPDATE work w SET due_at = now() + ?::int * interval '1 second' FROM ${held.sql}
     WHERE w.conversation = c.conversation AND w.fence = c.fence AND w.holder = ? RETURNING w.conversation`,
    [seconds, ...held.values, holder],
  )
  return new Set(found.map((row) => row.conversation))
}

/** Seconds after which a claim whose holder does not know of it is one whose answer was lost on the way. */
const lostAfter = 3

/** What is claimed for a process and was neither claimed nor renewed just now. */
export const strays = (holder: string) =>
  `due_at > now() AND due_at < now() + interval '${claimSeconds - lostAfter} seconds' AND holder = ${holder}`

/** Claims on record as this process's that it may not know of. */
export async function claimsOf(database: Database, holder: string): Promise<Claimed[]> {
  return rows<Claimed>(database, `SELECT conversation, channel, fence FROM work WHERE ${strays("?")}`, [holder])
}

/** Nothing was left to hear: lets the conversation rest, unless something has come meanwhile. */
export async function restLines(
  database: Database,
  holder: string,
  lines: { conversation: string; fence: number; next: number }[],
): Promise<Set<string>> {
  const idle = batch("i", lines, { conversation: "text", fence: "bigint", next: "bigint" })
  const found = await rows<{ conversation: string }>(
    database,
    `UPDATE work w SET due_at = NULL, holder = NULL, heard = w.next_position - 1, tries = 0, deaths = 0 FROM ${idle.sql}
     WHERE w.conversation = i.conversation AND w.fence = i.fence AND w.holder = ? AND w.next_position = i.next
     RETURNING w.conversation`,
    [...idle.values, holder],
  )
  return new Set(found.map((row) => row.conversation))
}

/** Gives claims back: to wait for a channel that is paused, or for another process. */
export async function releaseClaims(database: Database, holder: string, claims: Claimed[]): Promise<void> {
  const held = batch(
    "h",
    claims.map(({ conversation, fence }) => ({ conversation, fence })),
    { conversation: "text", fence: "bigint" },
  )
  await rows(
    database,
    `UPDATE work w SET holder = NULL, due_at = CASE WHEN c.state = 'on' THEN now() ELSE 'infinity' END
     FROM ${held.sql}, channels c
     WHERE w.conversation = h.conversation AND w.fence = h.fence AND w.holder = ? AND c.key = w.channel`,
    [...held.values, holder],
  )
}

/** A line's turn is about to be tried with nothing else under way. */
export async function tryAlone(database: Database, holder: string, line: { conversation: string; fence: number }) {
  await rows(
    database,
    `UPDATE work SET deaths = deaths + 1 WHERE conversation = ? AND fence = ? AND holder = ? AND deaths >= ${triedAlone} AND deaths % 2 = 0`,
    [line.conversation, line.fence, holder],
  )
}
