import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { idAt } from "./ids.ts"

/** One piece of media that came with a message. */
export interface KeptMedia {
  n: number
  state: "waiting" | "kept" | "failed"
  hash?: string
  mime?: string
  size?: number
  why?: string
}

/** A message as lists and pages show it: what was said, and how far it got. */
export interface MessageRow {
  id: string
  channel: string
  /** The channel's kind. */
  kind: string
  conversation: string
  direction: "in" | "out"
  event: string
  position: number
  origin: string
  author: string | null
  intake: string | null
  turn: string | null
  providerId: string | null
  body: { [field: string]: unknown }
  text: string
  sentAt: Date | null
  receivedAt: Date
  status: string
  /** Why it stands where it stands, in words. */
  reason: string | null
  doubtful: boolean
  route: string | null
  parked: string | null
  replies: string[] | null
  handledAt: Date | null
  settledAt: Date | null
  /** When the provider told of its status, by the provider's clock. */
  toldAt: Date | null
  /** What became of the media that came with it. */
  kept: KeptMedia[] | null
  /** The conversation's title. */
  title: string | null
}

export const inboundStatuses = [
  "waiting",
  "handled",
  "unrouted",
  "passed over",
  "retrying",
  "parked",
  "dropped",
  "own",
  "from a bot",
  "loop stopped",
  "left to a person",
  "opted out",
] as const
export const outboundStatuses = [
  "waiting",
  "sending",
  "sent",
  "delivered",
  "read",
  "failed",
  "parked",
  "dropped",
] as const

/** A message's status is what its latest turn, attempt or status says; nothing is updated to know it. */
const view = `
  SELECT m.id, m.channel, c.kind, m.conversation, m.direction, m.event, m.position, m.origin, m.author, m.intake,
    coalesce(t.turn, m.turn) AS turn, coalesce(m.provider_id, a.provider_id) AS "providerId", m.body, m.words AS text,
    m.sent_at AS "sentAt", m.received_at AS "receivedAt", v.title,
    t.route, t.replies, t.ended_at AS "handledAt", a.at AS "settledAt", s.at AS "toldAt", p.id AS parked,
    CASE WHEN m.event = 'media' AND m.direction = 'in' THEN (
      SELECT jsonb_agg(jsonb_strip_nulls(jsonb_build_object('n', x.n, 'state', x.state, 'hash', x.hash, 'why', x.why, 'mime', f.mime, 'size', f.size)) ORDER BY x.n)
      FROM message_media x LEFT JOIN media f ON f.hash = x.hash WHERE x.message = m.id) END AS kept,
    CASE
      WHEN p.id IS NOT NULL THEN 'parked'
      WHEN m.direction = 'in' THEN CASE
        WHEN d.decision = 'drop' THEN 'dropped'
        WHEN d.decision = 'retry' AND d.decided_at > t.ended_at THEN 'waiting'
        WHEN t.outcome IS NULL THEN 'waiting'
        WHEN t.outcome = 'failed' THEN 'retrying'
        ELSE t.outcome END
      WHEN o.state IS NOT NULL THEN o.state
      WHEN d.decision = 'drop' THEN 'dropped'
      WHEN s.status IS NOT NULL THEN s.status
      WHEN a.outcome = 'accepted' THEN 'sent'
      WHEN a.outcome IS NOT NULL THEN 'failed'
      ELSE 'waiting' END AS status,
    coalesce(p.reason, CASE WHEN m.direction = 'in' THEN t.reason ELSE coalesce(o.why, CASE WHEN s.status = 'failed' THEN s.why WHEN a.outcome <> 'accepted' THEN a.why END) END) AS reason,
    EXISTS (SELECT 1 FROM attempts u WHERE u.message = m.id AND u.outcome = 'unclear') AS doubtful
  FROM messages m
  JOIN channels c ON c.key = m.channel
  LEFT JOIN conversations v ON v.id = m.conversation
  LEFT JOIN LATERAL (SELECT * FROM turns WHERE message = m.id AND m.direction = 'in' ORDER BY turn DESC LIMIT 1) t ON true
  LEFT JOIN LATERAL (SELECT * FROM attempts WHERE message = m.id AND m.direction = 'out' ORDER BY attempt DESC LIMIT 1) a ON true
  -- Only ever forward: the furthest that was told counts, in whatever order it came. Of several calls, the last one's; one
  -- that failed has failed the message.
  LEFT JOIN LATERAL (SELECT status, why, at FROM (
      SELECT t.status, t.why, t.at FROM statuses t
        WHERE t.trace IN (a.trace, m.channel || ' mark ' || m.id || '.' || a.call)
      UNION ALL SELECT t.status, t.why, t.at FROM attempts e JOIN statuses t ON t.trace = e.trace AND t.status = 'failed'
        WHERE e.message = m.id AND a.attempt > 1
      UNION ALL SELECT r.status, NULL, r.up_to FROM read_marks r WHERE r.channel = m.channel AND r.address = v.address
        AND r.up_to >= a.started_at AND a.trace IS NOT NULL
    ) told WHERE a.trace IS NOT NULL
    ORDER BY array_position(ARRAY['sent', 'delivered', 'read', 'failed'], status) DESC LIMIT 1) s ON true
  LEFT JOIN LATERAL (SELECT id, reason FROM parked WHERE message = m.id AND decided_at IS NULL ORDER BY id DESC LIMIT 1) p ON true
  LEFT JOIN LATERAL (SELECT decision, decided_at FROM parked WHERE message = m.id AND decided_at IS NOT NULL ORDER BY decided_at DESC LIMIT 1) d ON true
  LEFT JOIN outbox o ON m.direction = 'out' AND o.conversation = m.conversation AND o.message = m.id`

export interface MessageFilter {
  channel?: string
  conversation?: string
  direction?: "in" | "out"
  event?: string
  status?: string
  doubtful?: boolean
  from?: Date
  to?: Date
  text?: string
  /** Only messages below this id: the cursor. */
  below?: string
  limit: number
}

/** The newest first. */
export async function findMessages(database: Database, filter: MessageFilter): Promise<MessageRow[]> {
  const wheres = ["true"]
  const values: unknown[] = []
  const add = (sql: string, ...given: unknown[]) => (wheres.push(sql), values.push(...given))
  if (filter.channel !== undefined) add("m.channel = ?", filter.channel)
  if (filter.conversation !== undefined) add("m.conversation = ?", filter.conversation)
  if (filter.direction !== undefined) add("m.direction = ?", filter.direction)
  if (filter.event !== undefined) add("m.event = ?", filter.event)
  if (filter.from !== undefined) add("m.received_at >= ?", filter.from)
  if (filter.to !== undefined) add("m.received_at < ?", filter.to)
  if (filter.below !== undefined) add("m.id < ?", filter.below)
  const words = searchQuery(filter.text)
  if (filter.text !== undefined)
    add(
      words ? "m.search @@ to_tsquery('simple', ?)" : "m.words ILIKE ?",
      words ?? `%${filter.text.replace(/[\\%_]/g, "\\$&")}%`,
    )
  // Rare statuses stand in narrow tables of their own: found there, not by walking through everything that went well.
  if (filter.status === "parked") add("m.id IN (SELECT message FROM parked WHERE decided_at IS NULL)")
  if (filter.doubtful === true) add("m.id IN (SELECT message FROM attempts WHERE outcome = 'unclear')")
  const outer = ["true"]
  if (filter.status !== undefined) (outer.push("status = ?"), values.push(filter.status))
  if (filter.doubtful === false) outer.push("NOT doubtful")
  const order = "m.id DESC"
  const inner = `${view} WHERE ${wheres.join(" AND ")} ORDER BY ${order}`
  const sql =
    outer.length > 1
      ? `SELECT * FROM (${inner}) found WHERE ${outer.join(" AND ")} ORDER BY id DESC LIMIT ?`
      : `${inner} LIMIT ?`
  return rows<MessageRow>(database, sql, [...values, filter.limit])
}

/** What a message is found by, from a column with its words: a vector of more than a megabyte would be refused. */
export const searchOf = (words: string) => `to_tsvector('simple', left(${words}, 100000))`

/** Every word must be there; the last may be unfinished. */
function searchQuery(text: string | undefined): string | undefined {
  const words = text?.match(/[\p{L}\p{N}]+/gu)
  return words?.map((word) => `${word}:*`).join(" & ")
}

export async function messagesById(database: Database, ids: string[]): Promise<MessageRow[]> {
  if (ids.length === 0) return []
  return rows<MessageRow>(database, `${view} WHERE m.id = ANY(?) ORDER BY m.id`, [ids])
}

/** A conversation's messages in the order of its line, the newest `limit` below a position. */
export async function messagesOfConversation(
  database: Database,
  conversation: string,
  options: { below?: number; limit: number },
): Promise<MessageRow[]> {
  return rows<MessageRow>(
    database,
    `SELECT * FROM (${view} WHERE m.conversation = ? AND m.position < ? ORDER BY m.position DESC LIMIT ?) newest ORDER BY position`,
    [conversation, options.below ?? Number.MAX_SAFE_INTEGER, options.limit],
  )
}

export interface TurnRow {
  message: string
  turn: string
  lead: string
  outcome: string
  reason: string | null
  route: string | null
  handler: string | null
  release: string | null
  slots: { [name: string]: unknown } | null
  takenAs: { id: string; label?: string } | null
  stateBefore: { [field: string]: unknown } | null
  stateAfter: { [field: string]: unknown } | null
  replies: string[] | null
  log: unknown[] | null
  error: { name: string; message: string; stack?: string } | null
  degraded: string[] | null
  run: number
  startedAt: Date
  endedAt: Date
}

export async function turnsOf(database: Database, messages: string[]): Promise<TurnRow[]> {
  return rows<TurnRow>(
    database,
    `SELECT message, turn, lead, outcome, reason, route, handler, release, slots, taken_as AS "takenAs", state_before AS "stateBefore",
       state_after AS "stateAfter", replies, log, error, degraded, run, started_at AS "startedAt", ended_at AS "endedAt"
     FROM turns WHERE message = ANY(?) ORDER BY turn, message`,
    [messages],
  )
}

export interface AttemptRow {
  message: string
  attempt: number
  call: number
  name: string
  startedAt: Date
  endedAt: Date | null
  outcome: string | null
  why: string | null
  status: number | null
  answer: string | null
  providerId: string | null
}

export async function attemptsOf(database: Database, messages: string[]): Promise<AttemptRow[]> {
  return rows<AttemptRow>(
    database,
    `SELECT message, attempt, call, name, started_at AS "startedAt", at AS "endedAt", outcome, why, status, answer,
       provider_id AS "providerId"
     FROM attempts WHERE message = ANY(?)
     UNION ALL
     -- Under way: on record in the line until it has ended.
     SELECT o.message, o.attempt, o.call, m.calls->o.call->>'name', o.started_at, NULL, NULL, NULL, NULL, NULL, NULL
     FROM messages m JOIN outbox o ON o.conversation = m.conversation AND o.message = m.id
     WHERE m.id = ANY(?) AND o.state = 'sending'
     ORDER BY 1, 2`,
    [messages, messages],
  )
}

export async function callsOf(database: Database, messages: string[]): Promise<Map<string, unknown[]>> {
  const found = await rows<{ message: string; calls: unknown[] }>(
    database,
    "SELECT id AS message, calls FROM messages WHERE id = ANY(?) AND calls IS NOT NULL",
    [messages],
  )
  return new Map(found.map((row) => [row.message, row.calls]))
}

/** Courtesy calls belong to the message they answer; they are recorded whole once made. */
export async function keepCourtesies(
  database: Database,
  made: {
    message: string
    attempt: number
    name: string
    outcome: string
    why?: string
    status?: number
    answer?: string
    startedAt: Date
  }[],
): Promise<void> {
  for (const one of made) {
    await rows(
      database,
      `INSERT INTO attempts (message, attempt, call, name, outcome, why, status, answer, started_at)
       VALUES (?, ?, 0, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
      [
        one.message,
        one.attempt,
        one.name,
        one.outcome,
        one.why ?? null,
        one.status ?? null,
        one.answer ?? null,
        one.startedAt,
      ],
    )
  }
}

/** How many messages of a channel were begun to be sent today (UTC). */
export async function sentToday(database: Database, channel: string): Promise<number> {
  const [found] = await rows<{ n: number }>(
    database,
    `WITH today AS (SELECT date_trunc('day', now() AT TIME ZONE 'UTC') AT TIME ZONE 'UTC' AS began)
     SELECT count(*) AS n FROM (
       SELECT a.message FROM today, attempts a JOIN messages m ON m.id = a.message
       WHERE a.message >= ? AND a.started_at >= began AND m.channel = ? AND m.direction = 'out'
       UNION
       SELECT message FROM today, outbox WHERE channel = ? AND started_at >= began
     ) begun`,
    // What is tried again for the first time after a month is not counted: otherwise the whole record would be read.
    [idAt("msg", new Date(Date.now() - 31 * 86_400_000)), channel, channel],
  )
  return found?.n ?? 0
}

/** The inbound message that a turn was about, looked for among those before a reply in its conversation. */
export async function leadOfTurn(
  database: Database,
  conversation: string,
  turn: string,
  below: number,
): Promise<string | undefined> {
  const [found] = await rows<{ lead: string }>(
    database,
    `SELECT t.lead FROM (
       SELECT id FROM messages WHERE conversation = ? AND position < ? AND direction = 'in' ORDER BY position DESC LIMIT 200
     ) m JOIN turns t ON t.message = m.id AND t.turn = ? LIMIT 1`,
    [conversation, below, turn],
  )
  return found?.lead
}

/** All messages of one turn, looked for around one of them. */
export async function messagesOfTurn(
  database: Database,
  conversation: string,
  turn: string,
  around: number,
): Promise<string[]> {
  const found = await rows<{ id: string }>(
    database,
    `SELECT m.id FROM messages m JOIN turns t ON t.message = m.id AND t.turn = ?
     WHERE m.conversation = ? AND m.position BETWEEN ? AND ? ORDER BY m.position`,
    [turn, conversation, around - 60, around + 60],
  )
  return found.map((row) => row.id)
}
