import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { idAt } from "./ids.ts"

/** Rows forgotten by one statement, so that none takes long or holds many locks. */
const atOnce = 5000

/** Days after which an event's key is forgotten: no provider known repeats a call after seven. */
const seenDays = 30

/** Forgets event keys that no provider repeats any more. */
export async function pruneSeen(database: Database, now: Date): Promise<void> {
  const before = idAt("msg", new Date(now.getTime() - seenDays * 86_400_000))
  await inPieces(() =>
    rows(
      database,
      `DELETE FROM seen WHERE ctid = ANY(ARRAY(SELECT ctid FROM seen WHERE message < ? LIMIT ?)) RETURNING 1`,
      [before, atOnce],
    ),
  )
}

/** Refused calls of one channel that are kept; older ones go first. */
const mostRefused = 2000

/** Forgets refused calls that are old or too many: they were promised to nobody. */
export async function pruneRefused(database: Database, channels: string[], now: Date): Promise<void> {
  const before = idAt("itk", new Date(now.getTime() - seenDays * 86_400_000))
  for (const channel of channels) {
    await inPieces(() =>
      rows(
        database,
        `DELETE FROM intakes WHERE id = ANY(ARRAY(
           SELECT id FROM intakes WHERE channel = ? AND NOT genuine AND id < greatest(?, (
             SELECT id FROM intakes WHERE channel = ? AND NOT genuine ORDER BY id DESC OFFSET ? LIMIT 1)) LIMIT ?))
         RETURNING 1`,
        [channel, before, channel, mostRefused, atOnce],
      ),
    )
  }
}

/** Days for which an Idempotency-Key is remembered. */
const keyDays = 7
/** Days after which a call that was kept to learn from is forgotten. */
const sampleDays = 7

/** Days for which what applications told is kept. */
const noticeDays = 90
/** Days for which it is kept what models cost. */
const spendingDays = 62

/** Forgets what nobody needs any more: keys of repeated sends, uploads the provider has dropped, old samples. */
export async function pruneLeftovers(database: Database): Promise<void> {
  await inPieces(() =>
    rows(
      database,
      `DELETE FROM sends WHERE ctid = ANY(ARRAY(
         SELECT ctid FROM sends WHERE at < now() - ?::int * interval '1 day' LIMIT ?)) RETURNING 1`,
      [keyDays, atOnce],
    ),
  )
  await rows(database, "DELETE FROM uploads WHERE until < now()")
  await rows(database, "DELETE FROM recipients WHERE at < now() - ?::int * interval '1 day' AND state <> 'waiting'", [
    noticeDays,
  ])
  await rows(
    database,
    `DELETE FROM notices n WHERE at < now() - ?::int * interval '1 day' AND state = 'spread'
       AND NOT EXISTS (SELECT 1 FROM recipients r WHERE r.notice = n.id)`,
    [noticeDays],
  )
  await rows(database, "DELETE FROM spending WHERE day < now() - ?::int * interval '1 day'", [spendingDays])
  await rows(database, "DELETE FROM samples WHERE at < now() - ?::int * interval '1 day'", [sampleDays])
}

async function inPieces(forget: () => Promise<unknown[]>): Promise<void> {
  while ((await forget()).length === atOnce);
}
