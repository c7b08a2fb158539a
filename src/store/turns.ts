import type { OutgoingCall } from "../core/channels/call.ts"
import type { Place } from "../core/message/message.ts"
import type { Database, Statement } from "./database.ts"
import { hotLists, retryingConflicts, rows, statement } from "./database.ts"
import { newId } from "./ids.ts"
import type { InterviewChange } from "./interviews.ts"
import { interviewsWith } from "./interviews.ts"
import type { Offered } from "./lines.ts"
import { searchOf } from "./messages.ts"
import { inTheirMonths } from "./partitions.ts"
import type { Batch } from "./unnest.ts"
import { batch, listLiteral, shape } from "./unnest.ts"
import type { RelayChange } from "./relays.ts"
import { relaysWith } from "./relays.ts"
import type { WaitChange } from "./waits.ts"
import { elsewhere, waitsWith } from "./waits.ts"

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
  | "waits"
  | "left to a person"
  | "blocked"
  | "opted out"

/** What a finished turn leaves behind: committed whole, and only by the holder of the claim. */
export interface TurnResult {
  conversation: string
  channel: string
  place: Place
  fence: number
  /** Everything up to this position has had its turn. */
  heard: number
  /** Where the last of the turn's messages stands. */
  heardTo: number
  /** What it was when the line was loaded: a second turn from the same place would be one too many. */
  heardBefore: number
  /** What `next` was when the line was loaded, so that the commit can tell whether more has come. */
  seenNext: number
  /** The same for `said`. */
  seenSaid: number
  /** Undefined when the state stays as it is. */
  state?: { [field: string]: unknown } | undefined
  /** The options to remember; kept with `state`, so both are given or neither. */
  offered?: Offered[] | undefined
  /** How many messages each counted route has taken; written where `state` is. */
  taken?: { [route: string]: number } | undefined
  /** When somebody should look again, in milliseconds from now; undefined when the line continues at once or rests. */
  again?: number | undefined
  tries: number
  minuteAt: Date | null
  minuteTurns: number
  botTurns: number
  turn: TurnRecord
  out: OutboundMessage[]
  parked?: { cause: string; reason: string; remedy?: string } | undefined
  tokens: { token: string; id: string; label: string }[]
  /** What became of interviews; where there is any, `state` and `running` are given too. */
  interviews?: InterviewChange[] | undefined
  /** Whether any interview runs in the conversation from now on; written where `state` is. */
  running?: boolean | undefined
  /** Changes of the person's fields. */
  contact?: { id: string; fields: { [field: string]: unknown } } | undefined
  /** Set where the conversation is handed to a person. */
  handed?: true | undefined
  /** Set where the turn is to wait for an answer from elsewhere: until then its line belongs to nobody. */
  waits?: WaitChange | "still" | undefined
  /** What is to be shown elsewhere. */
  relays?: RelayChange[] | undefined
  /** The messages of a turn that waits. */
  resting?: string[] | undefined
  /** What the line said of its waiting when it was loaded. */
  saw: number
  /** Set where it may have waited: what is on record of that goes with it. */
  waited?: true | undefined
}

export interface TurnRecord {
  id: string
  messages: string[]
  outcome: TurnOutcome
  reason?: string | undefined
  route?: string | undefined
  handler?: string | undefined
  release?: string | undefined
  /** The release's bot, for its tally. */
  bot?: string | undefined
  /** What the decision saw besides message and state. */
  facts?: unknown
  slots?: unknown
  /** What a text was taken for: an option offered before. */
  takenAs?: unknown
  stateBefore?: unknown
  stateAfter?: unknown
  log?: unknown
  error?: unknown
  degraded?: unknown
  /** What the turn did with an interview. */
  interview?: unknown
  /** Ids of what was said early. */
  told?: string[] | undefined
  /** Whom it asked elsewhere, and what came of that. */
  elsewhere?: unknown
  run: number
  startedAt: Date
}

/** An outbound message with its provider calls, rendered once and kept. */
export interface OutboundMessage {
  id: string
  event: string
  origin: "handler" | "person" | "api" | "alert" | "notice" | "relay"
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

const doneShape = shape<TurnResult>("i", {
  conversation: ["text", (one) => one.conversation],
  fence: ["bigint", (one) => one.fence],
  heard: ["bigint", (one) => one.heard],
  was: ["bigint", (one) => one.heardBefore],
  seen: ["bigint", (one) => one.seenNext],
  said: ["integer", (one) => one.seenSaid],
  again: ["double precision", (one) => one.again],
  tries: ["integer", (one) => one.tries],
  minute: ["timestamptz", (one) => one.minuteAt],
  turns: ["integer", (one) => one.minuteTurns],
  bots: ["integer", (one) => one.botTurns],
  outs: ["integer", (one) => one.out.length],
  state: ["jsonb", (one) => one.state],
  offered: ["jsonb", (one) => (one.offered && one.offered.length > 0 ? one.offered : undefined)],
  taken: ["jsonb", (one) => one.taken],
  running: ["boolean", (one) => one.running],
  // The last of the messages of a turn that waits.
  freeze: ["bigint", (one) => (one.waits ? one.heardTo : undefined)],
  saw: ["integer", (one) => one.saw],
  last: ["text", (one) => one.out.at(-1)?.id],
})

/** A turn as it stands with one of its messages. */
interface TurnRow {
  conversation: string
  message: string
  turn: TurnRecord
  lead: string
  /** Whether this is the message that what they share is written with. */
  whole: boolean
  replies: OutboundMessage[]
}

/** Turns that a route took, or that none took. */
function isTallied({ outcome, handler }: TurnRecord): boolean {
  return outcome === "unrouted" || (handler !== undefined && ["handled", "failed", "parked"].includes(outcome))
}

const turnsShape = shape<TurnRow>("t", {
  conversation: ["text", (one) => one.conversation],
  message: ["text", (one) => one.message],
  turn: ["text", ({ turn }) => turn.id],
  lead: ["text", (one) => one.lead],
  outcome: ["text", ({ turn }) => turn.outcome],
  reason: ["text", ({ turn }) => turn.reason],
  route: ["text", ({ turn }) => turn.route],
  handler: ["text", ({ turn }) => turn.handler],
  release: ["text", ({ turn }) => turn.release],
  bot: ["text", ({ turn, whole }) => (whole && isTallied(turn) ? turn.bot : undefined)],
  took: ["integer", ({ turn }) => Math.min(Date.now() - turn.startedAt.getTime(), 2_000_000_000)],
  facts: ["jsonb", ({ turn, whole }) => (whole ? turn.facts : undefined)],
  slots: ["jsonb", ({ turn, whole }) => (whole ? turn.slots : undefined)],
  taken: ["jsonb", ({ turn, whole }) => (whole ? turn.takenAs : undefined)],
  before: ["jsonb", ({ turn, whole }) => (whole ? turn.stateBefore : undefined)],
  after: ["jsonb", ({ turn, whole }) => (whole ? turn.stateAfter : undefined)],
  replies: [
    "text",
    ({ turn, replies, whole }) =>
      whole ? listLiteral([...(turn.told ?? []), ...replies.map((reply) => reply.id)]) : undefined,
  ],
  log: ["jsonb", ({ turn, whole }) => (whole ? turn.log : undefined)],
  error: ["jsonb", ({ turn, whole }) => (whole ? turn.error : undefined)],
  degraded: ["jsonb", ({ turn, whole }) => (whole ? turn.degraded : undefined)],
  interview: ["jsonb", ({ turn, whole }) => (whole ? turn.interview : undefined)],
  elsewhere: ["jsonb", ({ turn, whole }) => (whole ? turn.elsewhere : undefined)],
  run: ["integer", ({ turn }) => turn.run],
  started: ["timestamptz", ({ turn }) => turn.startedAt],
})

/** A new outbound message, and its place among those that join its line with it. */
export interface OutboundRow {
  conversation: string
  channel: string
  turn?: string
  out: OutboundMessage
  n: number
}

export const outboundShape = shape<OutboundRow>("o", {
  conversation: ["text", (one) => one.conversation],
  channel: ["text", (one) => one.channel],
  turn: ["text", (one) => one.turn],
  n: ["integer", (one) => one.n],
  id: ["text", ({ out }) => out.id],
  event: ["text", ({ out }) => out.event],
  origin: ["text", ({ out }) => out.origin],
  author: ["text", ({ out }) => out.author],
  body: ["jsonb", ({ out }) => out.body],
  words: ["text", ({ out }) => out.words],
  calls: ["jsonb", ({ out }) => out.calls],
  start: ["boolean", ({ out }) => out.start ?? false],
})

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
  const turns: TurnRow[] = []
  const outs: OutboundRow[] = []
  for (const { conversation, channel, turn, out } of sorted) {
    // What several messages of one turn share is written once, with the last of them.
    const lead = turn.messages.at(-1)!
    for (const message of turn.messages)
      turns.push({ conversation, message, turn, lead, whole: message === lead, replies: out })
    out.forEach((one, n) => outs.push({ conversation, channel, turn: turn.id, out: one, n }))
  }
  const parked = parkedWith(sorted)
  const tokens = tokensWith(sorted)
  const interviews = interviewsWith(
    sorted.flatMap(({ interviews, out }) => (interviews ?? []).map((change) => ({ change, said: out.at(-1)?.id }))),
  )
  const handed = handedWith(sorted)
  const contacts = contactsWith(sorted)
  const waits = waitsWith(
    sorted.flatMap(({ waits }) => (waits === undefined || waits === "still" ? [] : [waits])),
    sorted
      .filter((one) => one.waited && !one.waits && one.heard !== one.heardBefore)
      .map(({ conversation }) => ({ conversation })),
  )
  const relays = relaysWith(sorted.flatMap((one) => one.relays ?? []))
  const guarded = sorted.some((one) => one.out.some((out) => out.guarded))
  const asked = committing(
    guarded,
    parked.sql + tokens.sql + interviews.sql + handed.sql + contacts.sql + waits.sql + relays.sql,
  )
  const values = [
    ...doneShape.values(sorted),
    ...turnsShape.values(turns),
    seconds,
    holder,
    ...outboundShape.values(outs),
    holder,
    ...parked.values,
    ...tokens.values,
    ...interviews.values,
    ...handed.values,
    ...contacts.values,
    ...waits.values,
    ...relays.values,
  ]
  type Row = [conversation: string, id: null, position: null, more: boolean]
  type SentRow = [conversation: null, id: string, position: number, starts: boolean]
  const commit = () => retryingConflicts(() => hotLists<Row | SentRow>(database, asked, values))
  const ids = () => [...turns.map((turn) => turn.message), ...outs.map((out) => out.out.id)]
  const found = await inTheirMonths(database, ids, commit)
  const lines = new Map(outs.map((out) => [out.out.id, out]))
  const done: CommitResult = { committed: new Set(), more: new Set(), started: [], waiting: [] }
  for (const [committed, message, position, flag] of found) {
    if (message === null) {
      done.committed.add(committed)
      if (flag) done.more.add(committed)
      continue
    }
    const { conversation, channel } = lines.get(message)!
    if (flag) done.started.push({ message, conversation, position })
    else done.waiting.push({ message, conversation, channel })
  }
  return done
}

/**
 * The committing statement.
 *
 * @param guarded whether somebody may have opted out: the other kinds do not pay for asking
 * @param more parts that most batches do without
 */
function committing(guarded: boolean, more: string): Statement {
  return statement(
    `commit ${guarded} ${more}`,
    () => `
    WITH i AS (SELECT * FROM ${doneShape.sql}), t AS (SELECT * FROM ${turnsShape.sql}),
    -- Locked in the batch's order, which is sorted: the planner goes from it to work by index, one by one.
    held AS (
      UPDATE work w SET
        heard = CASE WHEN w.next_position = i.seen AND i.heard >= i.seen - 1 THEN w.next_position + i.outs - 1 ELSE i.heard END,
        due_at = CASE
          -- An answer that came before the turn waits for it is taken at once.
          WHEN i.freeze IS NOT NULL AND w.waits = 2 AND i.saw < 2 THEN now()
          WHEN i.again IS NOT NULL THEN now() + i.again * interval '1 millisecond'
          WHEN w.next_position <> i.seen OR i.heard < i.seen - 1 THEN now() + ?::int * interval '1 second' END,
        holder = CASE WHEN i.freeze IS NOT NULL THEN CASE WHEN w.waits < 2 OR i.saw = 2 THEN '${elsewhere}' END WHEN i.again IS NULL AND (w.next_position <> i.seen OR i.heard < i.seen - 1) THEN w.holder END,
        next_position = w.next_position + i.outs,
        said = w.said + i.outs,
        tries = i.tries, deaths = 0, minute_at = i.minute, minute_turns = i.turns, bot_turns = i.bots,
        frozen = coalesce(i.freeze, w.frozen),
        waits = CASE WHEN i.freeze IS NOT NULL THEN CASE WHEN w.waits = 2 AND i.saw < 2 THEN 2 ELSE 1 END WHEN i.heard = i.was THEN w.waits ELSE 0 END,
        last_id = coalesce(i.last, w.last_id)
      FROM i
      WHERE w.conversation = i.conversation AND w.fence = i.fence AND w.heard = i.was AND w.holder = ?
      RETURNING w.conversation, w.next_position - i.outs AS first, w.said - i.outs = i.said AS alone, w.holder IS NOT NULL AS more
    ), kept_state AS (
      INSERT INTO states (conversation, state, offered, taken, running)
      SELECT i.conversation, i.state, i.offered, i.taken, coalesce(i.running, false) FROM i JOIN held USING (conversation) WHERE i.state IS NOT NULL
      ON CONFLICT (conversation) DO UPDATE SET state = excluded.state, offered = excluded.offered,
        taken = coalesce(excluded.taken, states.taken),
        running = coalesce((SELECT i.running FROM i WHERE i.conversation = states.conversation), states.running)
    ), kept_turns AS (
      INSERT INTO turns (message, turn, lead, conversation, outcome, reason, route, handler, release, slots, taken_as, state_before,
        state_after, replies, log, error, degraded, run, started_at, facts, interview, elsewhere)
      SELECT t.message, t.turn, t.lead, t.conversation, t.outcome, t.reason, t.route, t.handler, t.release, t.slots, t.taken, t.before,
        t.after, t.replies::text[], t.log, t.error, t.degraded, t.run, t.started, t.facts, t.interview, t.elsewhere
      FROM t JOIN held USING (conversation)
    ), counted AS (
      INSERT INTO tally (at, bot, route, hits, failures, milliseconds, slowest, last_at)
      SELECT date_trunc('minute', now()), t.bot, coalesce(t.route, ''), count(*) FILTER (WHERE t.outcome IN ('handled', 'unrouted')),
        count(*) FILTER (WHERE t.outcome IN ('failed', 'parked')), sum(t.took), max(t.took), now()
      FROM t JOIN held USING (conversation) WHERE t.bot IS NOT NULL GROUP BY t.bot, coalesce(t.route, '')
    ), o AS (
      -- What this statement sees of the outbox is all there is only if nothing outbound has joined the line since it was loaded.
      SELECT o.*, h.first + o.n AS position, o.start AND o.n = 0 AND h.alone
        AND NOT EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = o.conversation)
        ${guarded ? "AND (SELECT v.opted_out FROM conversations v WHERE v.id = o.conversation) IS NULL" : ""} AS starts
      FROM ${outboundShape.sql} JOIN held h USING (conversation)
    ),
    ${outboundInserts}${more}
    -- Not joined: the planner takes batches for small and would go through all of one for each of the other.
    SELECT conversation, NULL AS id, NULL AS position, more FROM held
    UNION ALL SELECT NULL, id, position, starts FROM o`,
  )
}

/** The part of a commit that parks what is for a person to decide; empty when nothing is, so that most commits are shorter. */
function parkedWith(results: TurnResult[]): Batch {
  const parked = results.flatMap((result) =>
    result.parked
      ? result.turn.messages.map((message) => ({
          id: newId("prk"),
          conversation: result.conversation,
          channel: result.channel,
          message,
          ...result.parked,
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

/** The part of a commit that keeps what turns remember of people: field by field, so that two turns at once both count. */
function contactsWith(results: TurnResult[]): Batch {
  const changes = results.flatMap(({ conversation, contact }) => (contact ? [{ conversation, ...contact }] : []))
  if (changes.length === 0) return { sql: "", values: [] }
  const rows = batch("cf", changes, { conversation: "text", id: "text", fields: "jsonb" })
  return {
    sql: `, kept_fields AS (
      UPDATE contacts c SET fields = jsonb_strip_nulls(c.fields || f.fields), version = c.version + 1
      FROM (SELECT cf.id, jsonb_object_agg(e.key, e.value ORDER BY cf.ord) AS fields
        FROM ${rows.sql} JOIN held USING (conversation), jsonb_each(cf.fields) e GROUP BY cf.id) f
      WHERE c.id = f.id
    )`,
    values: rows.values,
  }
}

/** The part of a commit that hands conversations to a person. */
function handedWith(results: TurnResult[]): Batch {
  const handed = results.filter((one) => one.handed).map(({ conversation }) => ({ conversation }))
  if (handed.length === 0) return { sql: "", values: [] }
  const rows = batch("hd", handed, { conversation: "text" })
  return {
    sql: `, handed AS (
      UPDATE conversations v SET answered_by = 'person', handed_at = now(), taken_by = NULL FROM ${rows.sql} JOIN held USING (conversation) WHERE v.id = hd.conversation
    )`,
    values: rows.values,
  }
}

/** The part of a commit that keeps what short words in buttons stand for; empty when there are none. */
function tokensWith(results: TurnResult[]): Batch {
  const tokens = distinctTokens(
    results.flatMap((result) => result.tokens.map((token) => ({ channel: result.channel, ...token }))),
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

/** What every new outbound message writes, from a relation `o` with `position` and `starts`. Takes the holder. */
export const outboundInserts = `kept_out AS (
      INSERT INTO messages (id, channel, conversation, direction, event, position, origin, author, turn, body, words, search, calls)
      SELECT o.id, o.channel, o.conversation, 'out', o.event, o.position, o.origin, o.author, o.turn, o.body, o.words, ${searchOf("o.words")}, o.calls FROM o
    ), kept_outbox AS (
      INSERT INTO outbox (conversation, position, channel, message, state, due_at, holder, attempt, started_at)
      SELECT o.conversation, o.position, o.channel, o.id, CASE WHEN o.starts THEN 'sending' ELSE 'waiting' END, now(),
        CASE WHEN o.starts THEN ?::text END, CASE WHEN o.starts THEN 1 ELSE 0 END,
        CASE WHEN o.starts THEN clock_timestamp() END FROM o
    )`

function distinctTokens<T extends { channel: string; token: string }>(tokens: T[]): T[] {
  return [...new Map(tokens.map((token) => [`${token.channel} ${token.token}`, token])).values()]
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
