import { strays } from "./claims.ts"
import { notTold } from "./conversations.ts"
import type { Database } from "./database.ts"
import { hotRows, statement } from "./database.ts"
import { takeable } from "./forgetting.ts"
import { givenUp, toAsk } from "./waits.ts"

/** Whether there is something to do, by the condition of the statement that does it. Each goes by an index. */
const questions = {
  turns: "SELECT 1 FROM work WHERE due_at <= now()",
  /** Conversations that have been claimed for the process that asks for some seconds. */
  claims: `SELECT 1 FROM work WHERE ${strays(":self")}`,
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
  waits: `SELECT 1 FROM waits WHERE ${toAsk} UNION ALL SELECT 1 FROM waits x WHERE ${givenUp}`,
  forgettings: `SELECT 1 FROM forgettings WHERE ${takeable(":self")}`,
  desk: `SELECT 1 FROM conversations v WHERE v.answered_by = 'person' AND ${notTold}`,
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
