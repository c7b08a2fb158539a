import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/**
 * Something that happened since a cursor: a message came or went, a turn or an attempt ended, something was parked or
 * decided, the provider told how far a message got. What it tells of a whole place names only the conversation.
 */
export interface Happening {
  what: "message" | "turn" | "attempt" | "parked" | "decided" | "status"
  message: string | null
  conversation: string | null
  outcome: string | null
}

/**
 * Everything since a cursor that no running transaction can still precede, and the cursor to go on from. Cursors are
 * transaction ids: a row with a lower message id may be committed later, but none with a lower transaction id can be,
 * once that transaction is below the snapshot's xmin.
 */
export async function happenings(
  database: Database,
  since: string | undefined,
  limit: number,
): Promise<{ cursor: string; items: (Happening & { xid: string })[] }> {
  return database.transaction(
    async (step) => {
      const [horizon] = await rows<{ xmin: string }>(
        step,
        "SELECT pg_snapshot_xmin(pg_current_snapshot())::text AS xmin",
      )
      const cursor = horizon!.xmin
      if (since === undefined || !/^\d{1,19}$/.test(since)) return { cursor, items: [] }
      const items = await rows<Happening & { xid: string }>(
        step,
        `SELECT * FROM (
           SELECT 'message' AS what, id::text AS message, conversation::text AS conversation, direction AS outcome, xid FROM messages WHERE xid >= ?::text::xid8 AND xid < ?::text::xid8
           UNION ALL
           SELECT 'turn', message, conversation, outcome, xid FROM turns WHERE xid >= ?::text::xid8 AND xid < ?::text::xid8
           UNION ALL
           SELECT 'attempt', message, NULL, outcome, xid FROM attempts WHERE xid >= ?::text::xid8 AND xid < ?::text::xid8
           UNION ALL
           SELECT 'parked', message, conversation, cause, xid FROM parked WHERE xid >= ?::text::xid8 AND xid < ?::text::xid8
           UNION ALL
           SELECT 'decided', message, conversation, decision, decided_xid FROM parked WHERE decided_xid >= ?::text::xid8 AND decided_xid < ?::text::xid8
           UNION ALL
           SELECT 'status', a.message, NULL, s.status, s.xid FROM statuses s JOIN attempts a ON a.trace = s.trace
             WHERE s.xid >= ?::text::xid8 AND s.xid < ?::text::xid8
           UNION ALL
           SELECT 'status', NULL, p.conversation, r.status, r.xid FROM read_marks r
             JOIN places p ON p.channel = r.channel AND p.address = r.address AND p.topic = ''
             WHERE r.xid >= ?::text::xid8 AND r.xid < ?::text::xid8
         ) h ORDER BY xid, message LIMIT ?`,
        [...Array.from({ length: 7 }, () => [since, cursor]).flat(), limit + 1],
      )
      if (items.length <= limit) return { cursor, items }
      // A transaction's rows stay together: what the limit cut through is left for the next look.
      const cut = items.at(-1)!.xid
      const whole = items.filter((item) => item.xid !== cut)
      return whole.length > 0 ? { cursor: cut, items: whole } : { cursor: String(BigInt(cut) + 1n), items }
    },
    { isolationLevel: "repeatable read", readOnly: true },
  )
}
