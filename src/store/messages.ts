import type { ElsewhereNote } from "../core/elsewhere/note.ts"
import type { Facts } from "../core/routing/situation.ts"
import type { Database } from "./database.ts"
import { hotRows, plannedRows, rows } from "./database.ts"
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
  /** The address of the place, which names somebody who has no title. */
  address: string | null
  /** Since when its handler has been running. */
  since: Date | null
  /** When it is looked at again, where it waits for a time. */
  until: Date | null
}

export const inboundStatuses = [
  "waiting",
  "being handled",
  "handled",
  "unrouted",
  "passed over",
  "retrying",
  "parked",
  "dropped",
  "own",
  "from a bot",
  "loop stopped",
  "too late",
  "left to a person",
  "blocked",
  "opted out",
] as const
export const outboundStatuses = [
  "waiting",
  "sending",
  "captured",
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
    m.sent_at AS "sentAt", m.received_at AS "receivedAt", v.title, v.address, coalesce(x.since, u.since) AS since,
    coalesce(CASE WHEN o.state = 'waiting' AND o.due_at > now() AND o.due_at < 'infinity' THEN o.due_at END, x.until) AS until,
    CASE WHEN x.kind IS NOT NULL THEN x.turn->>'route' ELSE t.route END AS route,
    -- What several messages of one turn share stands with the last of them.
    CASE WHEN t.lead <> m.id THEN (SELECT l.replies FROM turns l WHERE l.message = t.lead AND l.turn = t.turn) 
      WHEN x.kind IS NOT NULL THEN ARRAY(SELECT jsonb_array_elements_text(x.turn->'told')) ELSE t.replies END AS replies,
    t.ended_at AS "handledAt",
    CASE WHEN m.origin = 'elsewhere' THEN coalesce(m.sent_at, m.received_at) ELSE a.at END AS "settledAt", s.at AS "toldAt", p.id AS parked,
    CASE WHEN m.event = 'media' AND m.direction = 'in' THEN (
      SELECT jsonb_agg(jsonb_strip_nulls(jsonb_build_object('n', x.n, 'state', x.state, 'hash', x.hash, 'why', x.why, 'mime', f.mime, 'size', f.size)) ORDER BY x.n)
      FROM message_media x LEFT JOIN media f ON f.hash = x.hash WHERE x.message = m.id) END AS kept,
    CASE
      WHEN p.id IS NOT NULL THEN 'parked'
      WHEN u.handler IS NOT NULL OR x.kind IS NOT NULL THEN 'being handled'
      WHEN m.direction = 'in' THEN CASE
        WHEN d.decision = 'drop' THEN 'dropped'
        WHEN d.decision = 'retry' AND d.decided_at > t.ended_at THEN 'waiting'
        WHEN t.outcome IS NULL THEN 'waiting'
        WHEN t.outcome = 'failed' THEN 'retrying'
        ELSE t.outcome END
      WHEN o.state IS NOT NULL THEN o.state
      WHEN d.decision = 'drop' THEN 'dropped'
      WHEN s.status IS NOT NULL THEN s.status
      WHEN a.outcome = 'accepted' AND a.name = 'captured' THEN 'captured'
      WHEN a.outcome = 'accepted' THEN 'sent'
      WHEN a.outcome IS NOT NULL THEN 'failed'
      WHEN m.origin = 'elsewhere' THEN 'sent'
      ELSE 'waiting' END AS status,
    coalesce(p.reason, CASE WHEN u.handler IS NOT NULL THEN 'the handler "' || u.handler || '" is running' END,
      CASE WHEN x.kind IS NOT NULL THEN 'waits for an answer from the ' || x.kind || ' ' || x.place END, CASE WHEN m.direction = 'in' THEN t.reason ELSE coalesce(o.why, CASE WHEN s.status = 'failed' THEN s.why WHEN a.outcome <> 'accepted' THEN a.why END) END) AS reason,
    EXISTS (SELECT 1 FROM attempts u WHERE u.message = m.id AND u.outcome = 'unclear') AS doubtful
  FROM unnest(?::text[]) i (id)
  CROSS JOIN LATERAL (SELECT * FROM messages WHERE id = i.id) m
  JOIN channels c ON c.key = m.channel
  LEFT JOIN conversations v ON v.id = m.conversation
  LEFT JOIN LATERAL (SELECT * FROM turns WHERE message = m.id AND m.direction = 'in' ORDER BY turn DESC LIMIT 1) t ON true
  LEFT JOIN LATERAL (SELECT * FROM attempts WHERE message = m.id AND m.direction = 'out' ORDER BY attempt DESC LIMIT 1) a ON true
  -- What was said in our name by somebody else has no attempt of ours, and statuses all the same.
  LEFT JOIN LATERAL (SELECT CASE WHEN m.origin = 'elsewhere' THEN m.channel || ' ' || m.provider_id ELSE a.trace END AS trace,
    coalesce(a.started_at, m.sent_at, m.received_at) AS began) k ON true
  -- Only ever forward: the furthest that was told counts, in whatever order it came. Of several calls, the last one's; one
  -- that failed has failed the message.
  LEFT JOIN LATERAL (SELECT status, why, at FROM (
      SELECT t.status, t.why, t.at FROM statuses t
        WHERE t.trace IN (k.trace, m.channel || ' mark ' || m.id || '.' || a.call)
      UNION ALL SELECT t.status, t.why, t.at FROM attempts e JOIN statuses t ON t.trace = e.trace AND t.status = 'failed'
        WHERE e.message = m.id AND a.attempt > 1
      UNION ALL SELECT r.status, NULL, r.up_to FROM read_marks r WHERE r.channel = m.channel AND r.address = v.address
        AND r.up_to >= k.began AND k.trace IS NOT NULL
    ) told WHERE k.trace IS NOT NULL
    ORDER BY array_position(ARRAY['sent', 'delivered', 'read', 'failed'], status) DESC LIMIT 1) s ON true
  LEFT JOIN LATERAL (SELECT id, reason FROM parked WHERE message = m.id AND decided_at IS NULL ORDER BY id DESC LIMIT 1) p ON true
  LEFT JOIN LATERAL (SELECT decision, decided_at FROM parked WHERE message = m.id AND decided_at IS NOT NULL ORDER BY decided_at DESC LIMIT 1) d ON true
  LEFT JOIN outbox o ON m.direction = 'out' AND o.conversation = m.conversation AND o.message = m.id
  LEFT JOIN LATERAL (SELECT x.handler, x.since FROM under_way x JOIN work w ON w.conversation = x.conversation AND w.fence = x.fence
    AND w.holder IS NOT NULL AND w.due_at > now()
    WHERE m.direction = 'in' AND x.conversation = m.conversation AND m.id = ANY(x.messages) LIMIT 1) u ON true
  LEFT JOIN waits x ON m.direction = 'in' AND x.conversation = m.conversation AND x.kind IS NOT NULL
    AND (x.message = m.id OR x.turn->'messages' @> to_jsonb(m.id::text))`

/** What a message is found by, from a column with its words: a vector of more than a megabyte would be refused. */
export const searchOf = (words: string) => `to_tsvector('simple', left(${words}, 100000))`

/** By their ids, in the ids' order. Prepared: to plan this over 26 months takes 16 to 80 ms, to run it for 50 messages 5. */
export async function messagesById(database: Database, ids: string[]): Promise<MessageRow[]> {
  if (ids.length === 0) return []
  return hotRows<MessageRow>(database, `${view} ORDER BY m.id`, [ids])
}

/** A conversation's messages in the order of its line, the newest `limit` below a position. */
export async function messagesOfConversation(
  database: Database,
  conversation: string,
  options: { below?: number; limit: number },
): Promise<MessageRow[]> {
  const found = await hotRows<{ id: string }>(
    database,
    "SELECT id FROM messages WHERE conversation = ? AND position < ? ORDER BY position DESC LIMIT ?",
    [conversation, options.below ?? Number.MAX_SAFE_INTEGER, options.limit],
  )
  const shown = await messagesById(
    database,
    found.map((row) => row.id),
  )
  return shown.sort((a, b) => a.position - b.position)
}

/** What was said in a conversation before a position, both ways, the oldest first. */
export async function saidBefore(
  database: Database,
  conversation: string,
  position: number,
  count: number,
): Promise<(SaidRow & { name?: string; address?: string; at: string })[]> {
  const found = await hotRows<SaidRow & { name: string | null; address: string | null; at: Date }>(
    database,
    `SELECT direction, left(words, 4000) AS text, event, body->'from'->>'name' AS name, body->'from'->>'address' AS address,
       received_at AS at
     FROM messages
     WHERE conversation = ? AND position < ? AND event <> 'interview' ORDER BY position DESC LIMIT ?`,
    [conversation, position, count],
  )
  return found.reverse().map(({ at, name, address, ...said }) => ({
    ...said,
    ...(name === null ? {} : { name }),
    ...(address === null ? {} : { address }),
    at: at.toISOString(),
  }))
}

interface SaidRow {
  direction: "in" | "out"
  text: string
  event: string
}

/** What was said to a conversation within the last minute, the newest first. */
export async function saidJustNow(database: Database, conversation: string): Promise<string[]> {
  const found = await hotRows<{ words: string }>(
    database,
    `SELECT words FROM (SELECT words, direction, received_at FROM messages WHERE conversation = ? ORDER BY position DESC LIMIT 30) m
     WHERE direction = 'out' AND received_at > now() - interval '1 minute'`,
    [conversation],
  )
  return found.map(({ words }) => words)
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
  facts: Facts | null
  takenAs: { id: string; label?: string } | null
  /** What the turn did with an interview. */
  interview: { [field: string]: unknown } | null
  stateBefore: { [field: string]: unknown } | null
  stateAfter: { [field: string]: unknown } | null
  replies: string[] | null
  log: unknown[] | null
  error: { name: string; message: string; stack?: string } | null
  degraded: string[] | null
  elsewhere: ElsewhereNote | null
  run: number
  startedAt: Date
  endedAt: Date
}

export async function turnsOf(database: Database, messages: string[]): Promise<TurnRow[]> {
  if (messages.length === 0) return []
  return hotRows<TurnRow>(
    database,
    `SELECT message, turn, lead, outcome, reason, route, handler, release, slots, facts, taken_as AS "takenAs", interview, state_before AS "stateBefore",
       state_after AS "stateAfter", replies, log, error, degraded, elsewhere, run, started_at AS "startedAt", ended_at AS "endedAt"
     FROM unnest(?::text[]) i (id) CROSS JOIN LATERAL (SELECT * FROM turns WHERE message = i.id) t ORDER BY turn, message`,
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
  if (messages.length === 0) return []
  return hotRows<AttemptRow>(
    database,
    `WITH i AS MATERIALIZED (SELECT unnest(?::text[]) AS id)
     SELECT a.message, a.attempt, a.call, a.name, a.started_at AS "startedAt", a.at AS "endedAt", a.outcome, a.why, a.status, a.answer,
       a.provider_id AS "providerId"
     FROM i CROSS JOIN LATERAL (SELECT * FROM attempts WHERE message = i.id) a
     UNION ALL
     -- Under way: on record in the line until it has ended.
     SELECT o.message, o.attempt, o.call, m.calls->o.call->>'name', o.started_at, NULL, NULL, NULL, NULL, NULL, NULL
     FROM i CROSS JOIN LATERAL (SELECT * FROM messages WHERE id = i.id) m
     JOIN outbox o ON o.conversation = m.conversation AND o.message = m.id
     WHERE o.state = 'sending'
     ORDER BY 1, 2`,
    [messages],
  )
}

export async function callsOf(database: Database, messages: string[]): Promise<Map<string, unknown[]>> {
  const found = await hotRows<{ message: string; calls: unknown[] }>(
    database,
    `SELECT m.id AS message, m.calls FROM unnest(?::text[]) i (id)
     CROSS JOIN LATERAL (SELECT * FROM messages WHERE id = i.id) m WHERE m.calls IS NOT NULL`,
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

/**
 * How many messages of a channel were begun to be sent today (UTC): those that are of today, by the channel's own index,
 * and those that waited for longer, among all attempts of today (6.6 s became 20 ms with two million messages).
 */
export async function sentToday(database: Database, channel: string, now: Date): Promise<number> {
  const day = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth(), now.getUTCDate()))
  const [began, today] = [day.toISOString(), idAt("msg", day)]
  const [found] = await plannedRows<{ n: number }>(
    database,
    `SELECT count(*) AS n FROM (
       SELECT m.id FROM messages m WHERE m.channel = ? AND m.id >= ? AND m.direction = 'out'
         AND EXISTS (SELECT 1 FROM attempts a WHERE a.message = m.id)
       UNION
       SELECT a.message FROM attempts a CROSS JOIN LATERAL (SELECT channel, direction FROM messages WHERE id = a.message OFFSET 0) m
       WHERE a.at >= ?::timestamptz AND a.started_at >= ?::timestamptz AND a.message < ? AND m.channel = ? AND m.direction = 'out'
       UNION
       SELECT message FROM outbox WHERE channel = ? AND started_at >= ?::timestamptz
     ) begun`,
    [channel, today, began, began, today, channel, channel, began],
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
