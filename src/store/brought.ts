import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** Who fetches a channel's calls from here, and until when that holds without another word. */
export interface Forwarding {
  /** The token's name. */
  by: string
  since: string
  until: string
  /** How many calls were taken. */
  taken: number
}

export interface BroughtCall {
  id: string
  sealed: string
  position: number
  kept_at: Date
}

/** Begins or goes on fetching; every word of the fetching side lengthens it. */
export async function renewBringing(database: Database, channel: string, by: string, seconds: number): Promise<void> {
  await rows(
    database,
    `UPDATE channels SET bringing = jsonb_build_object('by', ?::text, 'until', now() + ?::float8 * interval '1 second',
       'since', coalesce(bringing->>'since', now()::text), 'taken', coalesce((bringing->>'taken')::int, 0)) WHERE key = ?`,
    [by, seconds, channel],
  )
}

export async function endBringing(database: Database, channel: string): Promise<void> {
  await rows(database, "UPDATE channels SET bringing = NULL WHERE key = ?", [channel])
}

/** Keeps a call, if the channel's calls are still fetched; else gives false, for nobody would ask for it any more. */
export async function keepBrought(
  database: Database,
  call: { id: string; channel: string; sealed: string },
): Promise<boolean> {
  // The lock makes this stand before the end of the fetching, where the call is taken back with the others, or after.
  const channel = await rows(
    database,
    `WITH open AS (SELECT key FROM channels WHERE key = ? AND bringing IS NOT NULL FOR SHARE), kept AS (
       INSERT INTO brought (id, channel, sealed) SELECT ?, key, ? FROM open ON CONFLICT DO NOTHING)
     SELECT key FROM open`,
    [call.channel, call.id, call.sealed],
  )
  return channel.length > 0
}

/** The next calls, oldest first. They stay until they are told to have been taken. */
export async function handOut(database: Database, channel: string, limit: number): Promise<BroughtCall[]> {
  return rows<BroughtCall>(
    database,
    `WITH next AS (SELECT position FROM brought WHERE channel = ? ORDER BY position LIMIT ?)
     UPDATE brought b SET handed_at = coalesce(b.handed_at, now()) FROM next WHERE b.position = next.position
     RETURNING b.id, b.sealed, b.position, b.kept_at`,
    [channel, limit],
  ).then((found) => found.sort((a, b) => a.position - b.position))
}

/** A call was taken elsewhere; gives false when it is no longer here. */
export async function takeBrought(database: Database, channel: string, id: string): Promise<boolean> {
  const gone = await rows(
    database,
    `WITH gone AS (DELETE FROM brought WHERE channel = ? AND id = ? RETURNING channel)
     UPDATE channels c SET bringing = jsonb_set(c.bringing, '{taken}', to_jsonb((c.bringing->>'taken')::int + 1))
     FROM gone WHERE c.key = gone.channel AND c.bringing IS NOT NULL RETURNING c.key`,
    [channel, id],
  )
  return gone.length > 0
}

/** Calls that were never handed out, or all: nobody fetches them any more, so they are this service's own again. */
export async function takeBack(
  database: Database,
  channel: string,
  all: boolean,
  limit: number,
): Promise<BroughtCall[]> {
  return rows<BroughtCall>(
    database,
    "SELECT id, sealed, position, kept_at FROM brought WHERE channel = ? AND (handed_at IS NULL OR ?) ORDER BY position LIMIT ?",
    [channel, all, limit],
  )
}

export async function forgetBrought(database: Database, ids: string[]): Promise<void> {
  await rows(database, "DELETE FROM brought WHERE id = ANY(?)", [ids])
}

/** How many calls of each channel wait, and how many of them were handed out and never confirmed. */
export async function broughtWaiting(
  database: Database,
): Promise<{ channel: string; waiting: number; handed: number }[]> {
  return rows(
    database,
    "SELECT channel, count(*)::int AS waiting, count(handed_at)::int AS handed FROM brought GROUP BY channel",
  )
}
