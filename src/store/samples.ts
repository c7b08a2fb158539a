import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** Who waits for a channel's next call to learn from it. */
export interface Learning {
  by: string
  since: string
  until: string
  /** How many calls are waited for; one where nothing is said. */
  wanted?: number
}

export async function beginLearning(
  database: Database,
  channel: string,
  by: string,
  { minutes, wanted }: { minutes: number; wanted: number },
): Promise<void> {
  await database.transaction(async (step) => {
    await rows(step, "DELETE FROM samples WHERE channel = ?", [channel])
    await rows(
      step,
      `UPDATE channels SET learning = jsonb_build_object('by', ?::text, 'since', now(),
         'until', now() + ?::float8 * interval '1 minute', 'wanted', ?::int) WHERE key = ?`,
      [by, minutes, wanted, channel],
    )
  })
}

export async function endLearning(database: Database, channel: string): Promise<void> {
  await rows(database, "UPDATE channels SET learning = NULL WHERE key = ?", [channel])
}

/**
 * Keeps a call that was waited for beside those that came before it. Waiting ends with the last that is wanted.
 *
 * @param add what is kept, with those before; `more` for as long as further ones are waited for
 * @returns whether it was waited for
 */
export async function keepSample(
  database: Database,
  channel: string,
  add: (before: string | undefined, wanted: number) => { sealed: string; more: boolean },
): Promise<boolean> {
  return database.transaction(async (step) => {
    const [waits] = await rows<{ wanted: number }>(
      step,
      `SELECT coalesce((learning->>'wanted')::int, 1) AS wanted FROM channels
       WHERE key = ? AND learning IS NOT NULL AND (learning->>'until')::timestamptz > now() FOR UPDATE`,
      [channel],
    )
    if (!waits) return false
    const before = await sampleOf(step, channel)
    const { sealed, more } = add(before?.sealed, waits.wanted)
    if (!more) await rows(step, "UPDATE channels SET learning = NULL WHERE key = ?", [channel])
    await putSample(step, channel, sealed)
    return true
  })
}

/** Keeps samples that were given, in place of any there are. */
export async function putSample(database: Database, channel: string, sealed: string): Promise<void> {
  await rows(
    database,
    `INSERT INTO samples (channel, sealed) VALUES (?, ?)
     ON CONFLICT (channel) DO UPDATE SET sealed = excluded.sealed, at = now()`,
    [channel, sealed],
  )
}

export async function sampleOf(database: Database, channel: string): Promise<{ sealed: string; at: Date } | undefined> {
  return (
    await rows<{ sealed: string; at: Date }>(database, "SELECT sealed, at FROM samples WHERE channel = ?", [channel])
  )[0]
}

export async function dropSample(database: Database, channel: string): Promise<void> {
  await rows(database, "DELETE FROM samples WHERE channel = ?", [channel])
}
