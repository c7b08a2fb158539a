import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"

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

type Told = Happening & { xid: string }

/**
 * Everything since a cursor that no running transaction can still precede, the cursor to go on from, and whether there is
 * more than the limit. Cursors are transaction ids: a row with a lower message id may be committed later, but none with a
 * lower transaction id can be, once that transaction is below the snapshot's xmin.
 */
export async function happenings(
  database: Database,
  since: string | undefined,
  limit: number,
): Promise<{ cursor: string; items: Told[]; more: boolean }> {
  if (since === undefined || !/^\d{1,19}$/.test(since)) {
    const [horizon] = await rows<{ xmin: string }>(database, `SELECT ${xmin}::text AS xmin`)
    return { cursor: horizon!.xmin, items: [], more: false }
  }
  const [{ xid: cursor }, ...items] = (await hotRows<Told>(database, between(limit + 1), [since])) as [Told, ...Told[]]
  if (items.length <= limit) return { cursor, items, more: false }
  // A transaction's rows stay together: what the limit cut through is left for the next look.
  const cut = items.at(-1)!.xid
  const whole = items.filter((item) => item.xid !== cut)
  if (whole.length > 0) return { cursor: cut, items: whole, more: true }
  return { cursor: String(BigInt(cut) + 1n), items: await rows<Told>(database, allOf(cut)), more: true }
}

const xmin = "pg_snapshot_xmin(pg_current_snapshot())"

/** What happens, with the table's rows of it in the place of `rows of`, which knows the column the transaction stands in. */
const branches: { column: string; sql: (rowsOf: (table: string) => string) => string }[] = [
  {
    column: "xid",
    sql: (rowsOf) =>
      `SELECT 'message' AS what, id::text AS message, conversation::text AS conversation, direction AS outcome, xid FROM ${rowsOf("messages")} m`,
  },
  { column: "xid", sql: (rowsOf) => `SELECT 'turn', message, conversation, outcome, xid FROM ${rowsOf("turns")} t` },
  { column: "xid", sql: (rowsOf) => `SELECT 'attempt', message, NULL, outcome, xid FROM ${rowsOf("attempts")} a` },
  { column: "xid", sql: (rowsOf) => `SELECT 'parked', message, conversation, cause, xid FROM ${rowsOf("parked")} p` },
  {
    column: "xid",
    sql: (rowsOf) =>
      `SELECT 'turn', unnest(messages), conversation, 'being handled', xid FROM ${rowsOf("under_way")} u`,
  },
  {
    column: "xid",
    sql: (rowsOf) => `SELECT 'turn', message, conversation, 'being handled', xid FROM ${rowsOf("waits")} w`,
  },
  {
    column: "decided_xid",
    sql: (rowsOf) => `SELECT 'decided', message, conversation, decision, decided_xid FROM ${rowsOf("parked")} d`,
  },
  {
    column: "xid",
    // Row by row, the newest month first: joined, all attempts of two years would be read.
    sql: (rowsOf) =>
      `SELECT 'status', a.message, NULL, s.status, s.xid FROM ${rowsOf("statuses")} s
       CROSS JOIN LATERAL (SELECT message FROM attempts WHERE trace = s.trace ORDER BY message DESC LIMIT 1) a`,
  },
  {
    column: "xid",
    sql: (rowsOf) =>
      `SELECT 'status', NULL, p.conversation, r.status, r.xid FROM ${rowsOf("read_marks")} r
       JOIN places p ON p.channel = r.channel AND p.address = r.address AND p.topic = ''`,
  },
]

function put(condition: (column: string) => string): string {
  return branches
    .map(({ column, sql }) => sql((table) => `(SELECT * FROM ${table} WHERE ${condition(column)})`))
    .join(" UNION ALL ")
}

/**
 * The horizon, and then what lies between a cursor and it. One statement sees one snapshot. Each kind of event is cut at
 * the limit by its own index before they are put together, so that one who resumes from far back does not make all of it
 * be sorted. Prepared: seven tables over 26 months take 40 ms to plan.
 */
function between(limit: number): string {
  const within = (column: string) =>
    `${column} >= (SELECT since FROM h) AND ${column} < (SELECT xmin FROM h) ORDER BY ${column} LIMIT ${limit}`
  return `WITH h AS MATERIALIZED (SELECT ?::text::xid8 AS since, ${xmin} AS xmin)
    SELECT 'now' AS what, NULL AS message, NULL AS conversation, NULL AS outcome, xmin AS xid FROM h
    UNION ALL (SELECT * FROM (${put(within)}) happened ORDER BY xid, message LIMIT ${limit})`
}

/** All of one transaction, which is below the horizon. */
function allOf(xid: string): string {
  return `SELECT * FROM (${put((column) => `${column} = '${BigInt(xid)}'::xid8`)}) happened ORDER BY message`
}
