import type { ElsewhereOutcome } from "../core/elsewhere/answer.ts"
import type { AskedTurn } from "../core/elsewhere/asked.ts"
import type { ElsewhereCall } from "../core/elsewhere/note.ts"
import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"
import { faultPoint } from "./faults.ts"
import type { Batch } from "./unnest.ts"
import { batch, shape } from "./unnest.ts"

/** Who holds the line of a turn that waits: no process. */
export const elsewhere = "elsewhere"

/** What came back for a turn that waits: what it wants done, or that nothing comes any more. */
export type WaitAnswer =
  | {
      outcome: ElsewhereOutcome
      /** Names of the secrets that stood in it, and were masked. */
      masked?: string[]
    }
  /** @property over whether a limit of the day is reached */
  | { fails: string; over?: true }

/** Times a turn is leased, or its endpoint asked: an index knows those that were. */
export const mostLeases = 5

/** Turns whose endpoint or model may be asked. */
export const toAsk = "kind <> 'queue' AND answer IS NULL AND due_at <= now()"
/** Turns that were leased, or asked for, too often. */
export const givenUp = `x.answer IS NULL AND x.leases >= ${mostLeases} AND x.due_at <= now() AND x.until > now()`

/** A turn that is to wait, as its commit keeps it. */
export interface WaitChange {
  conversation: string
  message: string
  position: number
  /** How often it was left from route to route before. */
  leg: number
  kind: "endpoint" | "queue" | "model"
  place: string
  bot: string
  lane: string
  channel: string
  turn: object
  asked: AskedTurn
  /** Milliseconds from now, by the database's clock, until its time is over. */
  within: number
  /** Milliseconds until it may be asked, or leased; undefined where nothing but the answer is waited for. */
  due: number | undefined
  /** Set where a call is under way. */
  lease: string | undefined
  leasedBy: string | undefined
  leases: number
  calls: ElsewhereCall[]
}

/** How a turn that waits stands. What has only an answer was answered before its wait was on record. */
export interface WaitRow {
  conversation: string
  message: string
  kind: "endpoint" | "queue" | "model" | null
  place: string | null
  turn: object | null
  asked: AskedTurn | null
  since: Date
  until: Date | null
  /** Milliseconds left, by the database's clock. */
  left: number | null
  lease: string | null
  leases: number
  /** Who holds it at a queue, and until when. */
  leasedBy: string | null
  leasedUntil: Date | null
  calls: ElsewhereCall[]
  answer: WaitAnswer | null
}

const shown = `x.conversation, x.message, x.kind, x.place, x.turn, x.asked, x.since, x.until,
  (extract(epoch FROM x.until - clock_timestamp()) * 1000)::float8 AS left, x.lease, x.leases, x.calls, x.answer,
  CASE WHEN x.kind = 'queue' AND x.lease IS NOT NULL AND x.due_at > now() THEN x.leased_by END AS "leasedBy",
  CASE WHEN x.kind = 'queue' AND x.lease IS NOT NULL AND x.due_at > now() THEN x.due_at END AS "leasedUntil"`

const waitShape = shape<WaitChange>("wt", {
  conversation: ["text", (one) => one.conversation],
  message: ["text", (one) => one.message],
  position: ["bigint", (one) => one.position],
  leg: ["integer", (one) => one.leg],
  kind: ["text", (one) => one.kind],
  place: ["text", (one) => one.place],
  bot: ["text", (one) => one.bot],
  lane: ["text", (one) => one.lane],
  channel: ["text", (one) => one.channel],
  turn: ["jsonb", (one) => one.turn],
  asked: ["jsonb", (one) => one.asked],
  within: ["double precision", (one) => one.within],
  due: ["double precision", (one) => one.due],
  lease: ["text", (one) => one.lease],
  by: ["text", (one) => one.leasedBy],
  leases: ["integer", (one) => one.leases],
  calls: ["jsonb", (one) => one.calls],
})

/** The part of a commit that keeps turns that wait, and forgets those that waited. */
export function waitsWith(waiting: WaitChange[], ended: { conversation: string }[]): Batch {
  let sql = ""
  const values: Buffer[] = []
  if (waiting.length > 0) {
    sql += `, kept_waits AS (
      INSERT INTO waits AS x (conversation, message, position, leg, kind, place, bot, lane, channel, turn, asked, until, due_at, lease, leased_by, leased_at, leases, calls)
      SELECT wt.conversation, wt.message, wt.position, wt.leg, wt.kind, wt.place, wt.bot, wt.lane, wt.channel, wt.turn, wt.asked,
        now() + wt.within * interval '1 millisecond',
        CASE WHEN wt.due IS NULL THEN 'infinity' ELSE now() + wt.due * interval '1 millisecond' END,
        wt.lease, wt.by, CASE WHEN wt.lease IS NOT NULL THEN now() END, wt.leases, wt.calls
      FROM ${waitShape.sql} JOIN held USING (conversation)
      -- What is there may be an answer that came before; what is there of a route before is over.
      ON CONFLICT (conversation) DO UPDATE SET message = excluded.message, position = excluded.position, leg = excluded.leg,
        kind = excluded.kind, place = excluded.place, bot = excluded.bot, lane = excluded.lane, channel = excluded.channel,
        turn = excluded.turn, asked = excluded.asked, since = excluded.since, until = excluded.until, due_at = excluded.due_at,
        lease = excluded.lease, leased_by = excluded.leased_by, leased_at = excluded.leased_at, leases = excluded.leases, xid = excluded.xid,
        calls = excluded.calls || CASE WHEN x.kind IS NULL AND x.message = excluded.message THEN x.calls ELSE '[]' END,
        answer = CASE WHEN x.kind IS NULL AND x.message = excluded.message AND x.leg = excluded.leg THEN x.answer END
    )`
    values.push(...waitShape.values(waiting))
  }
  if (ended.length > 0) {
    const gone = batch("we", ended, { conversation: "text" })
    sql += `, ended_waits AS (
      DELETE FROM waits x USING ${gone.sql} JOIN held USING (conversation) WHERE x.conversation = we.conversation
    )`
    values.push(...gone.values)
  }
  return { sql, values }
}

/** How the turn of a conversation stands that waits, or waited. */
export async function waitOf(database: Database, conversation: string): Promise<WaitRow | undefined> {
  return (await hotRows<WaitRow>(database, `SELECT ${shown} FROM waits x WHERE x.conversation = ?`, [conversation]))[0]
}

/** Turns that wait, by the first of their messages. */
export async function waitsOfMessages(
  database: Database,
  messages: { id: string; conversation: string }[],
): Promise<Map<string, WaitRow>> {
  const found = await rows<WaitRow>(
    database,
    `SELECT ${shown} FROM waits x WHERE x.conversation = ANY(?) AND x.message = ANY(?)`,
    [messages.map(({ conversation }) => conversation), messages.map(({ id }) => id)],
  )
  return new Map(found.map((row) => [row.message, row]))
}

/** Wakes the lines of turns whose answer is there. From a relation `answered` with their conversations. */
const woken = `UPDATE work w SET waits = 2,
    due_at = CASE WHEN w.holder = '${elsewhere}' THEN CASE WHEN c.state = 'on' THEN now() ELSE 'infinity' END ELSE w.due_at END,
    holder = CASE WHEN w.holder = '${elsewhere}' THEN NULL ELSE w.holder END
  FROM answered a, channels c WHERE w.conversation = a.conversation AND c.key = w.channel`

/**
 * Keeps the answer of whoever holds the lease, once, and wakes the line. The line is locked first, as a turn's commit
 * does it. Gives the conversation, or nothing where the lease is another's, or the turn is over.
 *
 * @param calls how the calls, or the lease, go on record
 */
export async function answerLease(
  database: Database,
  lease: string,
  answer: WaitAnswer,
  calls: ElsewhereCall[],
): Promise<{ conversation: string; message: string } | undefined> {
  const [found] = await rows<{ conversation: string; message: string }>(
    database,
    `WITH line AS (
       SELECT w.conversation FROM waits x JOIN work w ON w.conversation = x.conversation WHERE x.lease = ? FOR UPDATE OF w
     ), answered AS (
       UPDATE waits x SET answer = ?::jsonb, answered_at = clock_timestamp(), calls = x.calls || ?::jsonb
       FROM line WHERE x.conversation = line.conversation AND x.lease = ? AND x.answer IS NULL AND x.until > clock_timestamp()
       RETURNING x.conversation, x.message
     ), woken AS (${woken})
     SELECT * FROM answered`,
    [lease, JSON.stringify(answer), JSON.stringify(calls), lease],
  )
  if (FAULTS_BUILT) await faultPoint("elsewhere: answer kept")
  return found
}

/** A turn as its token names it. */
export interface TokenTurn {
  message: string
  position: number
  leg: number
}

/**
 * Keeps an answer that came by the API, once, and wakes the line. It may come before the turn's wait is on record, while
 * the call that asked is still under way; then it is there when the turn is taken on.
 */
export async function answerTurn(
  database: Database,
  { message, position, leg }: TokenTurn,
  answer: WaitAnswer,
  call: ElsewhereCall,
): Promise<"kept" | "answered" | "over"> {
  return database.transaction(async (step) => {
    const [line] = await rows<{ conversation: string }>(
      step,
      `SELECT w.conversation FROM messages m JOIN work w ON w.conversation = m.conversation JOIN conversations v ON v.id = m.conversation
       WHERE m.id = ? AND w.heard < ? AND v.answered_by = 'bot' FOR UPDATE OF w`,
      [message, position],
    )
    if (!line) return "over"
    const { conversation } = line
    const kept = await rows(
      step,
      `INSERT INTO waits AS x (conversation, message, position, leg, answer, answered_at, calls)
       VALUES (?, ?, ?, ?, ?::jsonb, clock_timestamp(), ?::jsonb)
       ON CONFLICT (conversation) DO UPDATE SET answer = excluded.answer, answered_at = excluded.answered_at, calls = x.calls || excluded.calls
       WHERE x.message = excluded.message AND x.position = excluded.position AND x.leg = excluded.leg AND x.answer IS NULL AND (x.until IS NULL OR x.until > clock_timestamp())
       RETURNING x.conversation`,
      [conversation, message, position, leg, JSON.stringify(answer), JSON.stringify([call])],
    )
    if (kept.length === 0) {
      const before = await rows<{ answer: WaitAnswer | null }>(
        step,
        "SELECT answer FROM waits WHERE conversation = ? AND message = ? AND leg = ?",
        [conversation, message, leg],
      )
      return before[0]?.answer ? "answered" : "over"
    }
    await rows(step, `WITH answered AS (SELECT ?::text AS conversation) ${woken}`, [conversation])
    return "kept"
  })
}

/** A turn that was taken off to be answered. */
export interface LeasedWait {
  conversation: string
  message: string
  lease: string
  place: string
  bot: string
  lane: string
  asked: AskedTurn
  position: number
  leg: number
  turn: object
  leases: number
  since: Date
  until: Date
  left: number
  leasedUntil: Date
}

/**
 * Takes turns that wait to be answered, the longest waiting first, for so many seconds each. A lease that ran out is
 * nobody's: its turn is taken again.
 */
export async function leaseWaits(
  database: Database,
  asked: {
    kind: "endpoint" | "queue" | "model"
    place: string
    by: string
    seconds: number
    count: number
    bot?: string | undefined
    lane?: string | undefined
    /** For each its lease. */
    leases: string[]
    /** Conversations that are left out. */
    except?: string[]
  },
): Promise<LeasedWait[]> {
  const { kind, place, by, seconds, count, bot, lane, leases, except = [] } = asked
  const found = await rows<LeasedWait>(
    database,
    `WITH due AS (
       SELECT x.conversation FROM waits x
       WHERE x.kind = ? AND x.place = ? AND x.due_at <= now() AND x.answer IS NULL AND x.until > now() AND x.leases < ${mostLeases}
         ${bot === undefined ? "" : "AND x.bot = ?"} ${lane === undefined ? "" : "AND x.lane = ?"}
         ${except.length === 0 ? "" : "AND x.conversation <> ALL(?)"}
       ORDER BY x.due_at LIMIT ? FOR UPDATE SKIP LOCKED
     ), n AS (SELECT conversation, row_number() OVER () AS n FROM due)
     UPDATE waits x SET lease = (?::text[])[n.n], leased_by = ?, leased_at = now(), leases = x.leases + 1,
       due_at = least(now() + ?::float8 * interval '1 second', x.until)
     FROM n WHERE x.conversation = n.conversation
     RETURNING x.conversation, x.message, x.position, x.leg, x.lease, x.place, x.bot, x.lane, x.asked, x.turn, x.leases, x.since, x.until,
       (extract(epoch FROM x.until - clock_timestamp()) * 1000)::float8 AS left, x.due_at AS "leasedUntil"`,
    [
      ...[kind, place],
      ...(bot === undefined ? [] : [bot]),
      ...(lane === undefined ? [] : [lane]),
      ...(except.length === 0 ? [] : [except]),
      ...[count, leases, by, seconds],
    ],
  )
  if (FAULTS_BUILT) await faultPoint("elsewhere: leased")
  return found.sort((a, b) => a.since.getTime() - b.since.getTime())
}

/** Gives a lease back, to be taken again after so many milliseconds; undefined for never. Gives whether it was held. */
export async function releaseLease(
  database: Database,
  lease: string,
  calls: ElsewhereCall[],
  due: number | undefined,
): Promise<boolean> {
  const done = await rows(
    database,
    `UPDATE waits x SET lease = NULL, leased_by = NULL, leased_at = NULL, calls = x.calls || ?::jsonb,
       due_at = CASE WHEN ?::float8 IS NULL THEN 'infinity' ELSE now() + ?::float8 * interval '1 millisecond' END
     WHERE x.lease = ? AND x.answer IS NULL RETURNING 1`,
    [JSON.stringify(calls), due ?? null, due ?? null, lease],
  )
  return done.length > 0
}

/** Makes a lease last so many seconds from now, and never longer than the turn waits. Gives until when. */
export async function extendLease(database: Database, lease: string, seconds: number): Promise<Date | undefined> {
  const [found] = await rows<{ until: Date }>(
    database,
    `UPDATE waits x SET due_at = least(now() + ?::float8 * interval '1 second', x.until)
     WHERE x.lease = ? AND x.answer IS NULL AND x.until > now() RETURNING x.due_at AS until`,
    [seconds, lease],
  )
  return found?.until
}

/** A lease that is held, or was answered. */
export interface Held {
  place: string
  message: string
  by: string
  at: Date
  answered: boolean
  /** Whether its turn's time is over. */
  over: boolean
}

/** What a lease is about, while nobody else holds its turn. */
export async function leased(database: Database, lease: string): Promise<Held | undefined> {
  const [found] = await rows<Held>(
    database,
    `SELECT place, message, leased_by AS by, leased_at AS at, answer IS NOT NULL AS answered, until <= now() AS over
     FROM waits WHERE lease = ?`,
    [lease],
  )
  return found
}

/** Endpoints and model servers that are to be asked now. */
export async function dueToAsk(database: Database): Promise<{ kind: "endpoint" | "model"; place: string }[]> {
  return hotRows(database, `SELECT DISTINCT kind, place FROM waits WHERE ${toAsk} LIMIT 1000`, [])
}

/**
 * Turns that were taken so many times and never answered are given up: their line is woken, and says its fallback or is
 * parked. Gives how many.
 */
export async function giveUpLeased(database: Database): Promise<number> {
  const found = await hotRows(
    database,
    `WITH line AS (
       SELECT w.conversation FROM waits x JOIN work w ON w.conversation = x.conversation
       WHERE ${givenUp}
       ORDER BY w.conversation LIMIT 200 FOR UPDATE OF w SKIP LOCKED
     ), answered AS (
       UPDATE waits x SET answered_at = clock_timestamp(), answer = jsonb_build_object('fails',
         CASE x.kind WHEN 'queue' THEN 'it was leased ' || x.leases || ' times and never finished' ELSE 'it was asked ' || x.leases || ' times' END)
       FROM line WHERE x.conversation = line.conversation AND x.answer IS NULL RETURNING x.conversation
     ), woken AS (${woken})
     SELECT 1 FROM answered`,
    [],
  )
  return found.length
}

/** Ends the waiting of conversations whose turn is a person's now, or that want nothing more: their lines are woken. */
export async function endWaiting(database: Database, conversations: string[]): Promise<void> {
  if (conversations.length === 0) return
  await rows(
    database,
    `UPDATE work w SET holder = NULL, due_at = CASE WHEN c.state = 'on' THEN now() ELSE 'infinity' END
     FROM channels c WHERE c.key = w.channel AND w.conversation = ANY(?) AND w.holder = '${elsewhere}'`,
    [conversations],
  )
}

/** The message that grows into the answer of a turn that waits, by the lease of whoever is asked. */
export async function draftOfLease(database: Database, lease: string): Promise<string | undefined> {
  const [found] = await hotRows<{ draft: string | null }>(
    database,
    "SELECT turn->>'draft' AS draft FROM waits WHERE lease = ? AND answer IS NULL",
    [lease],
  )
  return found?.draft ?? undefined
}

/** A queue at a glance. */
export interface QueueRow {
  queue: string
  waiting: number
  leased: number
  /** Whether more wait than were counted. */
  more: boolean
  oldest: Date | null
}

/** Turns of a queue that are counted at most: a look at queues takes no longer where more wait. */
export const mostCounted = 10_000

export async function listQueues(database: Database): Promise<QueueRow[]> {
  const here = "FROM waits WHERE kind = 'queue' AND place = q.place AND answer IS NULL"
  return hotRows<QueueRow>(
    database,
    `WITH RECURSIVE q AS (
       (SELECT place FROM waits WHERE kind = 'queue' AND answer IS NULL ORDER BY place LIMIT 1)
       UNION ALL SELECT n.place FROM q CROSS JOIN LATERAL (
         SELECT place FROM waits WHERE kind = 'queue' AND answer IS NULL AND place > q.place ORDER BY place LIMIT 1) n
     )
     SELECT q.place AS queue, least(w.n + l.resting, ${mostCounted}) AS waiting, w.n + l.resting > ${mostCounted} AS more,
       l.leased, (SELECT since ${here} ORDER BY since LIMIT 1) AS oldest
     FROM q CROSS JOIN LATERAL (
       SELECT count(*)::int AS n FROM (SELECT 1 ${here} AND due_at <= now() LIMIT ${mostCounted + 1}) x) w
     CROSS JOIN LATERAL (
       SELECT (count(*) FILTER (WHERE lease IS NOT NULL))::int AS leased, (count(*) FILTER (WHERE lease IS NULL))::int AS resting
       ${here} AND due_at > now()) l
     ORDER BY q.place`,
    [],
  )
}

/** A turn at a queue, as people look at it. */
export interface QueuedRow {
  conversation: string
  message: string
  queue: string
  bot: string
  lane: string
  channel: string
  text: string
  title: string | null
  since: Date
  /** The same in microseconds, for whoever goes on from there. */
  place: string
  until: Date
  leases: number
  leasedBy: string | null
  leasedAt: Date | null
  leasedUntil: Date | null
}

export async function listQueued(
  database: Database,
  queue: string,
  page: { limit: number; after?: { since: string; conversation: string } },
): Promise<QueuedRow[]> {
  const { limit, after } = page
  return rows<QueuedRow>(
    database,
    `SELECT x.conversation, x.message, x.place AS queue, x.bot, x.lane, x.channel, left(m.words, 300) AS text, v.title, x.since,
       to_char(x.since AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') AS place, x.until, x.leases,
       CASE WHEN x.lease IS NOT NULL AND x.due_at > now() THEN x.leased_by END AS "leasedBy",
       CASE WHEN x.lease IS NOT NULL AND x.due_at > now() THEN x.leased_at END AS "leasedAt",
       CASE WHEN x.lease IS NOT NULL AND x.due_at > now() THEN x.due_at END AS "leasedUntil"
     FROM waits x JOIN messages m ON m.id = x.message JOIN conversations v ON v.id = x.conversation
     WHERE x.kind = 'queue' AND x.place = ? AND x.answer IS NULL
       ${after ? "AND (x.since, x.conversation) > (?::timestamptz, ?)" : ""}
     ORDER BY x.since, x.conversation LIMIT ?`,
    after ? [queue, after.since, after.conversation, limit] : [queue, limit],
  )
}

/** How an endpoint stands, by what each process found last. */
export interface EndpointRow {
  address: string
  state: string
  failures: number
  why: string | null
  at: Date | null
  until: Date | null
  waiting: number
  oldest: Date | null
}

export async function listEndpoints(database: Database): Promise<EndpointRow[]> {
  return rows<EndpointRow>(
    database,
    `SELECT coalesce(e.address, x.place) AS address, CASE WHEN e.state = 'open' AND e.until <= now() THEN 'half-open' ELSE coalesce(e.state, 'closed') END AS state, coalesce(e.failures, 0) AS failures, e.why, e.at, e.until,
       coalesce(x.waiting, 0) AS waiting, x.oldest
     FROM (SELECT DISTINCT ON (address) * FROM endpoints ORDER BY address, at DESC) e
     FULL JOIN (SELECT place, count(*)::int AS waiting, min(since) AS oldest FROM waits
       WHERE kind <> 'queue' AND answer IS NULL GROUP BY place) x ON x.place = e.address
     ORDER BY 1 LIMIT 500`,
  )
}

/** Puts on record how a process's breaker of an endpoint stands; it is told only when that changes. */
export async function noteEndpoint(
  database: Database,
  note: { address: string; holder: string; state: string; failures: number; why: string | undefined; open: number },
): Promise<void> {
  const { address, holder, state, failures, why, open } = note
  await rows(
    database,
    `INSERT INTO endpoints (address, holder, state, failures, why, until)
     VALUES (?, ?, ?, ?, ?, CASE WHEN ?::float8 > 0 THEN now() + ?::float8 * interval '1 millisecond' END)
     ON CONFLICT (address, holder) DO UPDATE SET state = excluded.state, failures = excluded.failures, why = excluded.why,
       at = excluded.at, until = excluded.until`,
    [address, holder, state, failures, why ?? null, open, open],
  )
}

/** What a process that ends has found says nothing any more. */
export async function forgetEndpoints(database: Database, holder: string): Promise<void> {
  await rows(database, "DELETE FROM endpoints WHERE holder = ?", [holder])
}
