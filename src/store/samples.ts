import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** Who waits for a channel's next call to learn from it. */
export interface Learning {
  by: string
  since: string
  until: string
}

export async function beginLearning(database: Database, channel: string, by: string, minutes: number): Promise<void> {
  await database.transaction(async (step) => {
    await rows(step, "DELETE FROM samples WHERE channel = ?", [channel])
    await rows(
      step,
      `UPDATE channels SET learning = jsonb_build_object('by', ?::text, 'since', now(),
         'until', now() + ?::float8 * interval '1 minute') WHERE key = ?`,
      [by, minutes, channel],
    )
  })
}

export async function endLearning(database: Database, channel: string): Promise<void> {
  await rows(database, "UPDATE channels SET learning = NULL WHERE key = ?", [channel])
}

/** Keeps the call that was waited for; of several that come at once, the first. Gives whether this was it. */
export async function keepSample(database: Database, channel: string, sealed: string): Promise<boolean> {
  return database.transaction(async (step) => {
    const waited = await rows(
      step,
      `UPDATE channels SET learning = NULL WHERE key = ? AND learning IS NOT NULL
         AND (learning->>'until')::timestamptz > now() RETURNING key`,
      [channel],
    )
    if (waited.length === 0) return false
    await rows(
      step,
      `INSERT INTO samples (channel, sealed) VALUES (?, ?)
       ON CONFLICT (channel) DO UPDATE SET sealed = excluded.sealed, at = now()`,
      [channel, sealed],
    )
    return true
  })
}

export async function sampleOf(database: Database, channel: string): Promise<{ sealed: string; at: Date } | undefined> {
  return (
    await rows<{ sealed: string; at: Date }>(database, "SELECT sealed, at FROM samples WHERE channel = ?", [channel])
  )[0]
}

export async function dropSample(database: Database, channel: string): Promise<void> {
  await rows(database, "DELETE FROM samples WHERE channel = ?", [channel])
}
