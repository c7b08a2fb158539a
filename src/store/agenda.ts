import { claimSeconds } from "./claims.ts"
import type { Database } from "./database.ts"
import { hotRows, statement } from "./database.ts"
import { mostLeases } from "./waits.ts"

/** Whether there is something to do, as its own statement would find it. Each goes by an index. */
const questions = {
  turns: "SELECT 1 FROM work WHERE due_at <= now()",
  /** Conversations claimed for the process that asks, three seconds ago or longer. */
  claims: `SELECT 1 FROM work WHERE due_at > now() AND due_at < now() + interval '${claimSeconds - 3} seconds' AND holder = :self`,
  /** What waits on channels the process sends for, and is due within a second. */
  sends: `SELECT 1 FROM unnest(:channels::text[]) AS c (key) CROSS JOIN LATERAL (
     SELECT 1 FROM outbox o WHERE o.channel = c.key AND o.state = 'waiting' AND o.due_at < now() + interval '1 second' LIMIT 1) AS o`,
  timers: "SELECT 1 FROM timers WHERE due_at <= now()",
  /** A notice of which it is not known yet whom it is told, or somebody who is told within a second. */
  notices: `SELECT 1 FROM notices WHERE state = 'new' UNION ALL
     SELECT 1 FROM recipients WHERE state = 'waiting' AND due_at < now() + interval '1 second'`,
  relays: "SELECT 1 FROM relays WHERE state = 'waiting' AND due_at <= now()",
  media: "SELECT 1 FROM message_media WHERE state = 'waiting' AND due_at <= now()",
  /** Turns that wait for an endpoint or a model that may be asked, or that were leased too often. */
  waits: `SELECT 1 FROM waits WHERE kind <> 'queue' AND answer IS NULL AND due_at <= now() UNION ALL
     SELECT 1 FROM waits WHERE answer IS NULL AND leases >= ${mostLeases} AND due_at <= now()`,
  forgettings: `SELECT 1 FROM forgettings WHERE ended_at IS NULL AND asked_at < now() - interval '3 seconds'
     AND (until IS NULL OR until < now() OR holder = :self)`,
  desk: `SELECT 1 FROM conversations WHERE answered_by = 'person' AND taken_by IS NULL
     AND handed_at IS NOT NULL AND (told_at IS NULL OR told_at < handed_at)`,
}

/** What is done when its time has come. */
export type Errand = keyof typeof questions

/**
 * What there is to do just now, of what the process does: one statement for all of it, so that a service with nothing to
 * do asks hardly anything.
 *
 * @param of the process that asks, and the channels it sends for
 */
export async function errandsDue(
  database: Database,
  errands: readonly Errand[],
  of: { self: string; channels: string[] },
): Promise<Errand[]> {
  if (errands.length === 0) return []
  const asked = statement(`errands ${errands.join(" ")}`, () => {
    const cases = errands.map((errand) => `CASE WHEN EXISTS (${questions[errand]}) THEN '${errand}' END`)
    const given = "given AS (SELECT ?::text AS self, ?::text[] AS channels)"
    const found = cases.join(",\n").replaceAll(/:(self|channels)\b/g, "(SELECT $1 FROM given)")
    return `WITH ${given} SELECT array_remove(ARRAY[${found}], NULL) AS due`
  })
  const [found] = await hotRows<{ due: Errand[] }>(database, asked, [of.self, of.channels])
  return found!.due
}
