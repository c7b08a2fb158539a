import type { Entry } from "../core/interview/journal.ts"
import type { StandingInterview, Waits } from "../core/interview/standing.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import type { Batch } from "./unnest.ts"
import { shape } from "./unnest.ts"

/** How an interview ended. */
export type InterviewEnd =
  "done" | "left" | "cancelled" | "given up" | "late" | "changed" | "too long" | "stopped" | "ended by hand"

/** What a turn leaves of an interview: committed with it, and only by the holder of the claim. */
export interface InterviewChange {
  id: string
  conversation: string
  who: string
  handler: string
  route: string | undefined
  release: string
  stands: "asks" | "waits" | "set aside" | "ended"
  waits: Waits | undefined
  mark: string
  /** Its entries, with the new ones. */
  count: number
  beneath: string | undefined
  simulated: string | undefined
  ended: InterviewEnd | undefined
  why: string | undefined
  /** What joins its journal. */
  entries: Entry[]
  /** The times it waits for from now on; those before are forgotten. Undefined where they stay. */
  timers: TimerSet[] | undefined
  /** Set where those before are not forgotten. */
  timersJoin?: true | undefined
}

/** @property within in milliseconds from now, by the database's clock; or an instant, ISO 8601 */
export interface TimerSet {
  id: string
  what: "time" | "word" | "late" | "reminder"
  within: number | undefined
  at: string | undefined
}

const changeShape = shape<InterviewChange>("iv", {
  id: ["text", (one) => one.id],
  conversation: ["text", (one) => one.conversation],
  who: ["text", (one) => one.who],
  handler: ["text", (one) => one.handler],
  route: ["text", (one) => one.route],
  release: ["text", (one) => one.release],
  stands: ["text", (one) => one.stands],
  waits: ["jsonb", (one) => one.waits],
  mark: ["text", (one) => one.mark],
  count: ["integer", (one) => one.count],
  beneath: ["text", (one) => one.beneath],
  simulated: ["text", (one) => one.simulated],
  ended: ["text", (one) => one.ended],
  why: ["text", (one) => one.why],
  timed: ["boolean", (one) => one.timers !== undefined && !one.timersJoin],
})

/** @property said the last message of the turn, from whose sending lengths of time are counted */
interface Said {
  change: InterviewChange
  said: string | undefined
}

const entryShape = shape<{ change: InterviewChange; entry: Entry }>("je", {
  conversation: ["text", ({ change }) => change.conversation],
  interview: ["text", ({ change }) => change.id],
  n: ["integer", ({ entry }) => entry.n],
  entry: ["jsonb", ({ entry }) => entry],
})

const timerShape = shape<Said & { timer: TimerSet }>("ts", {
  id: ["text", ({ timer }) => timer.id],
  conversation: ["text", ({ change }) => change.conversation],
  interview: ["text", ({ change }) => change.id],
  mark: ["text", ({ change }) => change.mark],
  what: ["text", ({ timer }) => timer.what],
  within: ["double precision", ({ timer }) => timer.within],
  at: ["timestamptz", ({ timer }) => timer.at],
  said: ["text", ({ timer, said }) => (timer.what === "time" ? undefined : said)],
})

/** The part of a commit that keeps what became of interviews; empty where there are none, as in most. */
export function interviewsWith(said: Said[]): Batch {
  const changes = said.map(({ change }) => change)
  if (changes.length === 0) return { sql: "", values: [] }
  const entries = changes.flatMap((change) => change.entries.map((entry) => ({ change, entry })))
  const timers = said.flatMap((one) => (one.change.timers ?? []).map((timer) => ({ ...one, timer })))
  return {
    sql: `, iv AS (
      SELECT iv.* FROM ${changeShape.sql} JOIN held USING (conversation)
    ), kept_interviews AS (
      INSERT INTO interviews (id, conversation, who, handler, route, release, stands, waits, mark, entries, beneath, simulated, ended, why, ended_at)
      SELECT iv.id, iv.conversation, iv.who, iv.handler, iv.route, iv.release, iv.stands, iv.waits, iv.mark, iv.count, iv.beneath,
        iv.simulated, iv.ended, iv.why, CASE WHEN iv.stands = 'ended' THEN clock_timestamp() END FROM iv
      ON CONFLICT (id) DO UPDATE SET release = excluded.release, stands = excluded.stands, waits = excluded.waits,
        mark = excluded.mark, entries = excluded.entries, beneath = excluded.beneath, ended = excluded.ended, why = excluded.why,
        ended_at = excluded.ended_at, changed_at = clock_timestamp(),
        -- Whoever was joined with another meanwhile is that one, whatever this turn knew.
        who = CASE WHEN EXISTS (SELECT 1 FROM contacts c WHERE c.id = excluded.who) THEN excluded.who ELSE interviews.who END
    ), kept_entries AS (
      INSERT INTO journal (interview, n, entry) SELECT je.interview, je.n, je.entry FROM ${entryShape.sql} JOIN held USING (conversation)
    ), forgotten_timers AS (
      DELETE FROM timers t USING iv WHERE t.interview = iv.id AND iv.timed
    ), kept_timers AS (
      INSERT INTO timers (id, conversation, interview, mark, what, due_at, said, within)
      SELECT ts.id, ts.conversation, ts.interview, ts.mark, ts.what, coalesce(ts.at, clock_timestamp() + ts.within * interval '1 millisecond'), ts.said, ts.within
      FROM ${timerShape.sql} JOIN held USING (conversation)
    )`,
    values: [...changeShape.values(changes), ...entryShape.values(entries), ...timerShape.values(timers)],
  }
}

/** Interviews of one conversation that a turn looks at: in a group each person may have some. */
const mostRunning = 2000

/**
 * The interviews that run in a conversation, the one that began first first, and who somebody at an address is now.
 *
 * Whose each is, is read from the address that said its first message, whose id it has: people are joined and split while
 * turns run, and an interview that was begun meanwhile still names who they were.
 */
export async function runningIn(
  database: Database,
  conversation: string,
  { channel, address }: { channel: string; address: string },
): Promise<{ running: StandingInterview[]; speaker: string | undefined }> {
  const found = await rows<StandingInterview & { speaker: string | null }>(
    database,
    `SELECT i.id, coalesce(n.contact, i.who) AS who, i.handler, i.route, i.release, i.stands, i.waits, i.mark, i.entries, i.beneath,
       i.simulated, (SELECT contact FROM addresses WHERE channel = ? AND address = ?) AS speaker
     FROM interviews i LEFT JOIN LATERAL (
       SELECT a.contact FROM messages m JOIN addresses a ON a.channel = m.channel AND a.address = m.body->'from'->>'address'
       WHERE m.id = 'msg_' || substr(i.id, 5)) n ON true
     WHERE i.conversation = ? AND i.ended_at IS NULL ORDER BY i.begun_at, i.id LIMIT ${mostRunning}`,
    [channel, address, conversation],
  )
  return { running: found.map(({ speaker: _, ...one }) => one), speaker: found[0]?.speaker ?? undefined }
}

/** Everything an interview has behind it. */
export async function journalOf(database: Database, interview: string): Promise<Entry[]> {
  const found = await rows<{ entry: Entry }>(database, "SELECT entry FROM journal WHERE interview = ? ORDER BY n", [
    interview,
  ])
  return found.map(({ entry }) => entry)
}

/** An interview as people see it. */
export interface InterviewRow {
  id: string
  conversation: string
  who: string
  name: string | null
  handler: string
  route: string | null
  release: string
  stands: string
  waits: Waits | null
  entries: number
  begunAt: Date
  changedAt: Date
  endedAt: Date | null
  ended: string | null
  why: string | null
  dueAt: Date | null
}

const view = `SELECT i.id, i.conversation, i.who, coalesce(c.name, a.name) AS name, i.handler, i.route, i.release, i.stands, i.waits,
    i.entries, i.begun_at AS "begunAt", i.changed_at AS "changedAt", i.ended_at AS "endedAt", i.ended, i.why,
    (SELECT min(t.due_at) FROM timers t WHERE t.interview = i.id AND t.what <> 'reminder') AS "dueAt"
  FROM interviews i
  LEFT JOIN contacts c ON c.id = i.who
  LEFT JOIN LATERAL (SELECT a.name FROM addresses a WHERE a.contact = i.who AND a.name IS NOT NULL LIMIT 1) a ON true`

/** The interviews of a conversation: those that run, and the last that have ended. */
export async function interviewsIn(database: Database, conversation: string, limit: number): Promise<InterviewRow[]> {
  return rows<InterviewRow>(
    database,
    `SELECT * FROM (${view} WHERE i.conversation = ? ORDER BY i.ended_at IS NULL DESC, i.id DESC LIMIT ?) v ORDER BY v.id`,
    [conversation, limit],
  )
}

export async function interviewById(database: Database, id: string): Promise<InterviewRow | undefined> {
  const [found] = await rows<InterviewRow>(database, `${view} WHERE i.id = ?`, [id])
  return found
}

/** The question that stands open in a conversation. */
export async function openQuestion(
  database: Database,
  conversation: string,
): Promise<{ id: string; mark: string } | undefined> {
  const [found] = await rows<{ id: string; mark: string }>(
    database,
    "SELECT id, mark FROM interviews WHERE conversation = ? AND ended_at IS NULL AND stands = 'asks' ORDER BY id DESC LIMIT 1",
    [conversation],
  )
  return found
}
