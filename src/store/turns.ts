import type { OutgoingCall } from "../core/channels/kind.ts"
import type { Message, Place } from "../core/message/message.ts"
import type { Database } from "./database.ts"
import { hotRows, retryingConflicts, rows } from "./database.ts"
import type { Claimed } from "./intake.ts"
import { newId } from "./ids.ts"
import type { Batch } from "./unnest.ts"
import { batch } from "./unnest.ts"

/** Takes conversations whose time has come and that nobody holds; many at once, none twice. */
export async function claimDue(database: Database, holder: string, seconds: number, limit: number): Promise<Claimed[]> {
  return rows<Claimed>(
    database,
    `WITH due AS (
       SELECT conversation FROM work WHERE due_at <= now() ORDER BY due_at LIMIT ? FOR UPDATE SKIP LOCKED
     )
     UPDATE work w SET holder = ?, fence = w.fence + 1, due_at = now() + ?::int * interval '1 second'
     FROM due WHERE due.conversation = w.conversation
     RETURNING w.conversation, w.channel, w.fence`,
    [limit, holder, seconds],
  )
}

/** Makes claims last longer; gives those that are still held. */
export async function renewClaims(
  database: Database,
  holder: string,
  claims: Claimed[],
  seconds: number,
): Promise<Set<string>> {
  const held = batch(
    "c",
    claims.map(({ conversation, fence }) => ({ conversation, fence })),
    { conversation: "text", fence: "bigint" },
  )
  const found = await rows<{ conversation: string }>(
    database,
    `UPDATE work w SET due_at = now() + ?::int * interval '1 second' FROM ${held.sql}
     WHERE w.conversation = c.conversation AND w.fence = c.fence AND w.holder = ? RETURNING w.conversation`,
    [seconds, ...held.values, holder],
  )
  return new Set(found.map((row) => row.conversation))
}

/**
 * Claims on record as this process's that are older than so many seconds: those it does not know of came with an
 * answer that was lost on the way.
 */
export async function claimsOf(database: Database, holder: string, seconds: number, age: number): Promise<Claimed[]> {
  return rows<Claimed>(
    database,
    `SELECT conversation, channel, fence FROM work
     WHERE due_at > now() AND due_at < now() + ?::int * interval '1 second' AND holder = ?`,
    [seconds - age, holder],
  )
}

/** Everything a turn needs to know of its conversation, and the messages that wait for one. */
export interface Line {
  conversation: string
  fence: number
  channel: string
  heard: number
  next: number
  /** How many outbound messages have joined the line so far. */
  said: number
  tries: number
  minuteAt: Date | null
  minuteTurns: number
  botTurns: number
  channelOn: boolean
  state: { [field: string]: unknown }
  /** The options that were offered last, while nothing else has been said since. */
  offered: Offered[]
  /** Set when the person asked to be sent nothing more. */
  optedOut: boolean
  release: string | null
  place: Place
  answeredBy: string
  pending: PendingMessage[]
}

export interface Offered {
  id: string
  label: string
}

export interface PendingMessage {
  id: string
  position: number
  message: Message & { own?: boolean | string }
  courtesies: OutgoingCall[]
  receivedAt: Date
  /** Set when it was parked and is tried again: then it is never too late. */
  rejoined: boolean
  contact: string | null
}

/** Loads the lines of claims that still stand. The lane's release is read here, so that no process runs a stale one. */
export async function loadLines(database: Database, holder: string, claims: Claimed[], limit: number): Promise<Line[]> {
  const held = batch(
    "h",
    claims.map(({ conversation, fence }) => ({ conversation, fence })),
    { conversation: "text", fence: "bigint" },
  )
  type Row = LineColumns & {
    channel_state: string
    pending:
      | {
          id: string
          position: number
          body: Message & { own?: boolean | string }
          courtesies: OutgoingCall[] | null
          at: string
          again: boolean
          contact: string | null
        }[]
      | null
  }
  const found = await hotRows<Row>(
    database,
    `SELECT w.conversation, w.fence, w.channel, w.heard, w.next_position, w.said, w.tries, w.minute_at, w.minute_turns, w.bot_turns,
       c.state AS channel_state, s.state, s.offered, v.address, v.kind, v.title, v.topic, v.answered_by, v.opted_out,
       (${releaseOfLane}) AS release,
       p.pending
     FROM ${held.sql}
     JOIN work w ON w.conversation = h.conversation AND w.fence = h.fence
     JOIN channels c ON c.key = w.channel
     JOIN conversations v ON v.id = w.conversation
     LEFT JOIN states s ON s.conversation = w.conversation
     LEFT JOIN LATERAL (
       SELECT jsonb_agg(jsonb_build_object('id', q.id, 'position', q.position, 'body', q.body, 'courtesies', q.courtesies,
         'at', q.received_at, 'again', q.again,
         'contact', (SELECT a.contact FROM addresses a WHERE a.channel = w.channel AND a.address = q.body->'from'->>'address')) ORDER BY q.position) AS pending
       FROM (
         SELECT * FROM (
           (SELECT id, position, body, courtesies, received_at, false AS again FROM messages
            WHERE conversation = w.conversation AND position > w.heard AND direction = 'in' ORDER BY position LIMIT ?)
           UNION ALL
           (SELECT m.id, r.position, m.body, NULL, m.received_at, true FROM rejoined r JOIN messages m ON m.id = r.message
            WHERE r.conversation = w.conversation AND r.position > w.heard ORDER BY r.position LIMIT ?)
         ) both_sorts ORDER BY position LIMIT ?
       ) q
     ) p ON true
     WHERE w.holder = ?`,
    [...held.values, limit, limit, limit, holder],
  )
  return found.map((row) =>
    lineOf(
      row,
      row.channel_state === "on",
      (row.pending ?? []).map((one) => ({
        id: one.id,
        position: one.position,
        message: one.body,
        courtesies: one.courtesies ?? [],
        receivedAt: new Date(one.at),
        rejoined: one.again,
        contact: one.contact,
      })),
    ),
  )
}

/** What a line is made of besides its messages, as both statements that tell it name it. */
export interface LineColumns {
  conversation: string
  fence: number
  channel: string
  heard: number
  next_position: number
  said: number
  tries: number
  minute_at: Date | null
  minute_turns: number
  bot_turns: number
  state: { [field: string]: unknown } | null
  offered: Offered[] | null
  opted_out: Date | null
  release: string | null
  address: string
  kind: Place["kind"]
  title: string | null
  topic: string | null
  answered_by: string
}

/** The release a channel `c` follows. */
export const releaseOfLane =
  "SELECT l.release FROM lanes l WHERE l.lane = c.lane AND (c.bot IS NULL OR l.bot = c.bot) ORDER BY l.moved_at DESC LIMIT 1"

export function lineOf(row: LineColumns, channelOn: boolean, pending: PendingMessage[]): Line {
  const place: Place = { address: row.address, kind: row.kind }
  if (row.title) place.title = row.title
  if (row.topic) place.topic = row.topic
  return {
    conversation: row.conversation,
    fence: row.fence,
    channel: row.channel,
    heard: row.heard,
    next: row.next_position,
    said: row.said,
    tries: row.tries,
    minuteAt: row.minute_at,
    minuteTurns: row.minute_turns,
    botTurns: row.bot_turns,
    state: row.state ?? {},
    offered: row.offered ?? [],
    optedOut: row.opted_out !== null,
    release: row.release,
    answeredBy: row.answered_by,
    place,
    channelOn,
    pending,
  }
}

export type TurnOutcome =
  | "handled"
  | "unrouted"
  | "passed over"
  | "failed"
  | "parked"
  | "too late"
  | "own"
  | "from a bot"
  | "loop stopped"
  | "set aside"
  | "left to a person"
  | "opted out"

/** What a finished turn leaves behind: committed whole, and only by the holder of the claim. */
export interface TurnResult {
  conversation: string
  channel: string
  place: Place
  fence: number
  /** Everything up to this position has had its turn. */
  heard: number
  /** What it was when the line was loaded: a second turn from the same place would be one too many. */
  heardBefore: number
  /** What `next` was when the line was loaded, so that the commit can tell whether more has come. */
  seenNext: number
  /** The same for `said`. */
  seenSaid: number
  /** Left out when the state stays as it is. */
  state?: { [field: string]: unknown } | undefined
  /** The options to remember; kept with `state`, so both are given or neither. */
  offered?: Offered[] | undefined
  /** When somebody should look again, in milliseconds from now; left out when the line goes on at once or rests. */
  again?: number | undefined
  tries: number
  minuteAt: Date | null
  minuteTurns: number
  botTurns: number
  turn: TurnRecord
  out: OutboundMessage[]
  parked?: { cause: string; reason: string; remedy?: string } | undefined
  tokens: { token: string; id: string; label: string }[]
}

export interface TurnRecord {
  id: string
  messages: string[]
  outcome: TurnOutcome
  reason?: string | undefined
  route?: string | undefined
  handler?: string | undefined
  release?: string | undefined
  slots?: unknown
  /** What a text was taken for: an option offered before. */
  takenAs?: unknown
  stateBefore?: unknown
  stateAfter?: unknown
  log?: unknown
  error?: unknown
  degraded?: unknown
  run: number
  startedAt: Date
}

/** An outbound message with its provider calls, rendered once and kept. */
export interface OutboundMessage {
  id: string
  event: string
  origin: "handler" | "person" | "api" | "alert"
  author?: string | undefined
  body: object
  words: string
  calls: OutgoingCall[]
  /** Set for the one whose first attempt should start with this commit if the line is free. */
  start?: boolean
  /** Set where the person may have asked for nothing more: then it starts only if they have not. */
  guarded?: boolean
}

export interface CommitResult {
  /** Conversations whose turn was committed; others had lost their claim. */
  committed: Set<string>
  /** Of these, the ones that are still claimed because more has come. */
  more: Set<string>
  /** Messages whose first attempt has started. */
  started: { message: string; conversation: string; position: number }[]
  /** Messages that wait in the outbox. */
  waiting: { message: string; conversation: string; channel: string }[]
}

/**
 * Commits finished turns, many in one statement. Only what the fenced `UPDATE work` lets through is inserted, so a
 * process that lost its claim leaves nothing. The first attempt of a reply starts in the same transaction when nothing
 * of its conversation is unsent.
 */
export async function commitTurns(
  database: Database,
  holder: string,
  seconds: number,
  results: TurnResult[],
): Promise<CommitResult> {
  const sorted = [...results].sort((a, b) => (a.conversation < b.conversation ? -1 : 1))
  const done = batch(
    "i",
    sorted.map((one) => ({
      conversation: one.conversation,
      fence: one.fence,
      heard: one.heard,
      was: one.heardBefore,
      seen: one.seenNext,
      said: one.seenSaid,
      again: one.again,
      tries: one.tries,
      minute: one.minuteAt?.toISOString(),
      turns: one.minuteTurns,
      bots: one.botTurns,
      outs: one.out.length,
      state: one.state,
      offered: one.offered && one.offered.length > 0 ? one.offered : undefined,
      last: one.out.at(-1)?.id,
    })),
    {
      conversation: "text",
      fence: "bigint",
      heard: "bigint",
      was: "bigint",
      seen: "bigint",
      said: "integer",
      again: "double precision",
      tries: "integer",
      minute: "timestamptz",
      turns: "integer",
      bots: "integer",
      outs: "integer",
      state: "jsonb",
      offered: "jsonb",
      last: "text",
    },
  )
  const turns = batch(
    "t",
    sorted.flatMap(({ conversation, turn, out }) =>
      turn.messages.map((message, at) => {
        // What several messages of one turn share is written once, with the last of them.
        const lead = at === turn.messages.length - 1
        return {
          conversation,
          message,
          turn: turn.id,
          lead: turn.messages.at(-1)!,
          outcome: turn.outcome,
          reason: turn.reason,
          route: turn.route,
          handler: turn.handler,
          release: turn.release,
          slots: lead ? turn.slots : undefined,
          taken: lead ? turn.takenAs : undefined,
          before: lead ? turn.stateBefore : undefined,
          after: lead ? turn.stateAfter : undefined,
          replies: lead ? out.map((one) => one.id) : undefined,
          log: lead ? turn.log : undefined,
          error: lead ? turn.error : undefined,
          degraded: lead ? turn.degraded : undefined,
          run: turn.run,
          started: turn.startedAt.toISOString(),
        }
      }),
    ),
    {
      conversation: "text",
      message: "text",
      turn: "text",
      lead: "text",
      outcome: "text",
      reason: "text",
      route: "text",
      handler: "text",
      release: "text",
      slots: "jsonb",
      taken: "jsonb",
      before: "jsonb",
      after: "jsonb",
      replies: "jsonb",
      log: "jsonb",
      error: "jsonb",
      degraded: "jsonb",
      run: "integer",
      started: "timestamptz",
    },
  )
  const outs = outboundBatch(
    sorted.flatMap(({ conversation, channel, out, turn }) =>
      out.map((one, n) => ({ conversation, channel, turn: turn.id, out: one, n })),
    ),
  )
  const parked = parkedWith(sorted)
  const tokens = tokensWith(sorted)
  // Asked only where somebody may have opted out, so that the other kinds do not pay for it.
  const unlessOptedOut = sorted.some((one) => one.out.some((out) => out.guarded))
    ? "AND (SELECT v.opted_out FROM conversations v WHERE v.id = o.conversation) IS NULL"
    : ""
  const sql = `
    WITH i AS (SELECT * FROM ${done.sql}),
    -- Locked in the batch's order, which is sorted: the planner goes from it to work by index, one by one.
    held AS (
      UPDATE work w SET
        heard = CASE WHEN w.next_position = i.seen AND i.heard >= i.seen - 1 THEN w.next_position + i.outs - 1 ELSE i.heard END,
        due_at = CASE
          WHEN i.again IS NOT NULL THEN now() + i.again * interval '1 millisecond'
          WHEN w.next_position <> i.seen OR i.heard < i.seen - 1 THEN now() + ?::int * interval '1 second' END,
        holder = CASE WHEN i.again IS NULL AND (w.next_position <> i.seen OR i.heard < i.seen - 1) THEN w.holder END,
        next_position = w.next_position + i.outs,
        said = w.said + i.outs,
        tries = i.tries, minute_at = i.minute, minute_turns = i.turns, bot_turns = i.bots,
        last_id = coalesce(i.last, w.last_id)
      FROM i
      WHERE w.conversation = i.conversation AND w.fence = i.fence AND w.heard = i.was AND w.holder = ?
      RETURNING w.conversation, w.next_position - i.outs AS first, w.said - i.outs = i.said AS alone, w.holder IS NOT NULL AS more
    ), kept_state AS (
      INSERT INTO states (conversation, state, offered)
      SELECT i.conversation, i.state, i.offered FROM i JOIN held USING (conversation) WHERE i.state IS NOT NULL
      ON CONFLICT (conversation) DO UPDATE SET state = excluded.state, offered = excluded.offered
    ), kept_turns AS (
      INSERT INTO turns (message, turn, lead, conversation, outcome, reason, route, handler, release, slots, taken_as, state_before,
        state_after, replies, log, error, degraded, run, started_at)
      SELECT t.message, t.turn, t.lead, t.conversation, t.outcome, t.reason, t.route, t.handler, t.release, t.slots, t.taken, t.before,
        t.after, CASE WHEN t.replies IS NOT NULL THEN ARRAY(SELECT jsonb_array_elements_text(t.replies)) END, t.log, t.error, t.degraded, t.run, t.started
      FROM ${turns.sql} JOIN held USING (conversation)
    ), o AS (
      -- What this statement sees of the outbox is all there is only if nothing outbound has joined the line since it was loaded.
      SELECT o.*, h.first + o.n AS position, o.start AND o.n = 0 AND h.alone
        AND NOT EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = o.conversation)
        ${unlessOptedOut} AS starts
      FROM ${outs.sql} JOIN held h USING (conversation)
    ),
    ${outboundInserts}${parked.sql}${tokens.sql}
    -- Not joined: the planner takes batches for small and would go through all of one for each of the other.
    SELECT conversation, more, NULL AS id, NULL AS position, NULL AS starts, NULL AS channel FROM held
    UNION ALL SELECT conversation, NULL, id, position, starts, channel FROM o`
  const values = [
    ...done.values,
    seconds,
    holder,
    ...turns.values,
    ...outs.values,
    holder,
    ...parked.values,
    ...tokens.values,
  ]
  type Row = {
    conversation: string
    more: boolean
    id: string | null
    position: number
    starts: boolean
    channel: string
  }
  const found = await retryingConflicts(() => hotRows<Row>(database, sql, values))
  const held = found.filter((row) => row.id === null)
  const sent = found.filter((row) => row.id !== null)
  return {
    committed: new Set(held.map((row) => row.conversation)),
    more: new Set(held.filter((row) => row.more).map((row) => row.conversation)),
    started: sent
      .filter((row) => row.starts)
      .map((row) => ({ message: row.id!, conversation: row.conversation, position: row.position })),
    waiting: sent
      .filter((row) => !row.starts)
      .map((row) => ({ message: row.id!, conversation: row.conversation, channel: row.channel })),
  }
}

/** The part of a commit that parks what is for a person to decide; empty when nothing is, so that most commits are shorter. */
function parkedWith(results: TurnResult[]): Batch {
  const parked = results.flatMap((one) =>
    one.parked
      ? one.turn.messages.map((message) => ({
          id: newId("prk"),
          conversation: one.conversation,
          channel: one.channel,
          message,
          ...one.parked,
        }))
      : [],
  )
  if (parked.length === 0) return { sql: "", values: [] }
  const rows = batch("p", parked, {
    id: "text",
    conversation: "text",
    channel: "text",
    message: "text",
    cause: "text",
    reason: "text",
    remedy: "text",
  })
  return {
    sql: `, kept_parked AS (
      INSERT INTO parked (id, what, cause, reason, remedy, channel, conversation, message)
      SELECT p.id, 'turn', p.cause, p.reason, p.remedy, p.channel, p.conversation, p.message FROM ${rows.sql} JOIN held USING (conversation)
    )`,
    values: rows.values,
  }
}

/** The part of a commit that keeps what short words in buttons stand for; empty when there are none. */
function tokensWith(results: TurnResult[]): Batch {
  const tokens = distinctTokens(
    results.flatMap((one) => one.tokens.map((token) => ({ channel: one.channel, ...token }))),
  )
  if (tokens.length === 0) return { sql: "", values: [] }
  const rows = batch("k", tokens, { channel: "text", token: "text", id: "text", label: "text" })
  return {
    sql: `, kept_tokens AS (
      INSERT INTO choice_tokens (channel, token, choice, label) SELECT k.channel, k.token, k.id, k.label FROM ${rows.sql}
      ON CONFLICT DO NOTHING
    )`,
    values: rows.values,
  }
}

export function outboundBatch(
  records: { conversation: string; channel: string; turn?: string; out: OutboundMessage; n: number }[],
) {
  return batch(
    "o",
    records.map(({ conversation, channel, turn, out, n }) => ({
      conversation,
      channel,
      turn,
      n,
      id: out.id,
      event: out.event,
      origin: out.origin,
      author: out.author,
      body: out.body,
      words: out.words,
      calls: out.calls,
      start: out.start ?? false,
    })),
    {
      conversation: "text",
      channel: "text",
      turn: "text",
      n: "integer",
      id: "text",
      event: "text",
      origin: "text",
      author: "text",
      body: "jsonb",
      words: "text",
      calls: "jsonb",
      start: "boolean",
    },
  )
}

/** What every new outbound message writes, from a relation `o` with `position` and `starts`. Takes the holder. */
export const outboundInserts = `kept_out AS (
      INSERT INTO messages (id, channel, conversation, direction, event, position, origin, author, turn, body, words, calls)
      SELECT o.id, o.channel, o.conversation, 'out', o.event, o.position, o.origin, o.author, o.turn, o.body, o.words, o.calls FROM o
    ), kept_outbox AS (
      INSERT INTO outbox (conversation, position, channel, message, state, due_at, holder, attempt, started_at)
      SELECT o.conversation, o.position, o.channel, o.id, CASE WHEN o.starts THEN 'sending' ELSE 'waiting' END, now(),
        CASE WHEN o.starts THEN ?::text END, CASE WHEN o.starts THEN 1 ELSE 0 END,
        CASE WHEN o.starts THEN clock_timestamp() END FROM o
    )`

function distinctTokens<T extends { channel: string; token: string }>(tokens: T[]): T[] {
  return [...new Map(tokens.map((one) => [`${one.channel} ${one.token}`, one])).values()]
}

/** Nothing was left to hear: lets the conversation rest, unless something has come meanwhile. */
export async function restLines(
  database: Database,
  holder: string,
  lines: { conversation: string; fence: number; next: number }[],
): Promise<Set<string>> {
  const idle = batch("i", lines, { conversation: "text", fence: "bigint", next: "bigint" })
  const found = await rows<{ conversation: string }>(
    database,
    `UPDATE work w SET due_at = NULL, holder = NULL, heard = w.next_position - 1, tries = 0 FROM ${idle.sql}
     WHERE w.conversation = i.conversation AND w.fence = i.fence AND w.holder = ? AND w.next_position = i.next
     RETURNING w.conversation`,
    [...idle.values, holder],
  )
  return new Set(found.map((row) => row.conversation))
}

/** Gives claims back: to wait for a channel that is paused, or for another process. */
export async function releaseClaims(database: Database, holder: string, claims: Claimed[]): Promise<void> {
  const held = batch(
    "h",
    claims.map(({ conversation, fence }) => ({ conversation, fence })),
    { conversation: "text", fence: "bigint" },
  )
  await rows(
    database,
    `UPDATE work w SET holder = NULL, due_at = CASE WHEN c.state = 'on' THEN now() ELSE 'infinity' END
     FROM ${held.sql}, channels c
     WHERE w.conversation = h.conversation AND w.fence = h.fence AND w.holder = ? AND c.key = w.channel`,
    [...held.values, holder],
  )
}

/** Choice tokens that came back, with the ids and labels they stand for. */
export async function choicesBehind(
  database: Database,
  tokens: { channel: string; token: string }[],
): Promise<Map<string, { id: string; label: string }>> {
  const asked = batch("a", tokens, { channel: "text", token: "text" })
  const found = await rows<{ channel: string; token: string; choice: string; label: string }>(
    database,
    `SELECT k.* FROM ${asked.sql} JOIN choice_tokens k USING (channel, token)`,
    asked.values,
  )
  return new Map(found.map((row) => [`${row.channel} ${row.token}`, { id: row.choice, label: row.label }]))
}
