import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/**
 * Takes a chore that is due by the database's clock, and that no other process is at.
 *
 * @param every seconds after which it is due again
 * @param within seconds after which another process may take it, should this one have ended
 * @returns the database's time, or undefined when there is nothing to do
 */
export async function takeChore(
  database: Database,
  chore: { name: string; every: number; within: number },
  holder: string,
): Promise<Date | undefined> {
  const found = await rows<{ at: Date }>(
    database,
    `INSERT INTO chores AS c (name, holder, until) VALUES (?, ?, now() + ?::int * interval '1 second')
     ON CONFLICT (name) DO UPDATE SET holder = excluded.holder, until = excluded.until
       WHERE (c.done_at IS NULL OR c.done_at <= now() - ?::int * interval '1 second') AND (c.until IS NULL OR c.until < now())
     RETURNING now() AS at`,
    [chore.name, holder, chore.within, chore.every],
  )
  return found[0]?.at
}

/** The chore is done. One that was taken over meanwhile stays the other's. */
export async function endChore(database: Database, name: string, holder: string, done: boolean): Promise<void> {
  await rows(
    database,
    `UPDATE chores SET holder = NULL, until = NULL, done_at = CASE WHEN ?::boolean THEN now() ELSE done_at END
     WHERE name = ? AND holder = ?`,
    [done, name, holder],
  )
}

/**
 * Whether the database keeps what it is given, within so many milliseconds: one that only reads, or whose commits wait for
 * another server, is as good as away.
 */
export async function keepsWrites(database: Database, within: number): Promise<boolean> {
  const late = new Promise<false>((resolve) => setTimeout(() => resolve(false), within).unref())
  const write =
    "INSERT INTO chores (name, done_at) VALUES ('ready', now()) ON CONFLICT (name) DO UPDATE SET done_at = excluded.done_at"
  const asked = rows(database, write).then(
    () => true,
    () => false,
  )
  return Promise.race([asked, late])
}
