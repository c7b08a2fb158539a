import type { Message } from "../core/message/message.ts"
import type { Verdict } from "../core/channels/kind.ts"
import type { OutgoingCall } from "../core/channels/call.ts"
import type { Database, Statement } from "./database.ts"
import { hotLists, retryingConflicts, statement } from "./database.ts"
import type { Claimed, LineColumns, PendingMessage } from "./lines.ts"
import { lineOf, releaseOfLane } from "./lines.ts"
import { searchOf } from "./messages.ts"
import { keepMedia } from "./media.ts"
import { inTheirMonths } from "./partitions.ts"
import type { ToldStatus } from "./statuses.ts"
import { keepStatuses } from "./statuses.ts"
import type { ToldList } from "./told.ts"
import { tells } from "./told.ts"
import { listLiteral, shape } from "./unnest.ts"
import { endWaiting } from "./waits.ts"

/** One received call as it came, and the messages read from it. */
export interface Intake {
  id: string
  channel: string
  /** How it came; `history` was fetched when the channel was connected, `say` was made here to try the bot. */
  via: "webhook" | "polling" | "bring" | "history" | "say"
  method: string
  address: string
  headers: { [name: string]: string }
  body: Buffer
  verdict: Verdict
  unreadable?: string | undefined
  notes: string[]
  answered?: number
  /** ISO 8601; without it the call was received just now. */
  receivedAt?: string
  messages: IncomingMessage[]
  /** What became of messages sent earlier. */
  statuses?: ToldStatus[]
}

export interface IncomingMessage {
  id: string
  eventKey: string
  conversation: string
  message: Message
  words: string
  courtesies: OutgoingCall[]
  own: boolean | string
  /** Set when it was said in the channel's own name, but not by the bot: by whom. */
  by?: string | undefined
  contact: string | null
}

export interface Acceptance {
  /** Messages that were new, in no order. */
  fresh: { id: string; conversation: string; position: number }[]
  /** Conversations whose turns are now this process's to take. */
  claimed: Claimed[]
}

/** Wishes that stand with the conversation. */
const kept: ReadonlySet<string> = new Set(["stop", "start", "no notices", "notices again"])

/** A message on its way in, with what it is sorted by. */
interface Incoming {
  one: IncomingMessage
  intake: Intake
  sorted: string
}

const callsShape = shape<Intake>("c", {
  id: ["text", (one) => one.id],
  channel: ["text", (one) => one.channel],
  via: ["text", (one) => one.via],
  method: ["text", (one) => one.method],
  address: ["text", (one) => one.address],
  headers: ["jsonb", (one) => one.headers],
  body: ["bytea", (one) => one.body],
  genuine: ["boolean", (one) => one.verdict.genuine],
  verdict: ["jsonb", (one) => one.verdict],
  unreadable: ["text", (one) => one.unreadable],
  notes: ["jsonb", (one) => (one.notes.length > 0 ? one.notes : undefined)],
  keys: ["text", (one) => listLiteral(one.messages.map((message) => message.eventKey))],
  answered: ["integer", (one) => one.answered],
  at: ["timestamptz", (one) => one.receivedAt],
})

const saidShape = shape<Incoming>("m", {
  id: ["text", ({ one }) => one.id],
  channel: ["text", ({ intake }) => intake.channel],
  key: ["text", ({ one }) => one.eventKey],
  conversation: ["text", ({ one }) => one.conversation],
  event: ["text", ({ one }) => one.message.event],
  intake: ["text", ({ intake }) => intake.id],
  provider: ["text", ({ one }) => one.message.providerId],
  body: ["jsonb", ({ one }) => (one.own ? { ...one.message, own: one.own } : one.message)],
  courtesies: ["jsonb", ({ one }) => (one.courtesies.length > 0 ? one.courtesies : undefined)],
  words: ["text", ({ one }) => one.words],
  by: ["text", ({ one }) => one.by],
  sent: ["timestamptz", ({ one }) => one.message.sentAt],
})

/**
 * Makes a batch of intakes and their messages durable in one statement: what was seen before falls out, the rest gets
 * its positions under the lock of its conversation's `work` row, and idle conversations are claimed on the way.
 *
 * @param claim who takes the turns and for how many seconds; without it the conversations are only marked as due.
 * @param offset a poll's next offset, which must become durable with the messages it brought. Nothing is accepted when
 *   the poller's lease is another's by then.
 */
export async function acceptIntakes(
  database: Database,
  intakes: Intake[],
  claim: { holder: string; seconds: number } | undefined,
  offset?: { channel: string; holder: string; next: string },
): Promise<Acceptance> {
  const messages: Incoming[] = []
  for (const intake of intakes) {
    for (const one of intake.messages) messages.push({ one, intake, sorted: intake.channel + one.eventKey })
  }
  messages.sort((a, b) => (a.sorted < b.sorted ? -1 : 1))
  // Who asks to be sent nothing more is obeyed before anything else, also while a turn of theirs is under way.
  const wishes = messages.some(({ one }) => one.message.wish !== undefined && kept.has(one.message.wish))
    ? `, wishes AS (
      UPDATE conversations v SET
        opted_out = CASE w.wish WHEN 'stop' THEN now() WHEN 'start' THEN NULL ELSE v.opted_out END,
        no_notices = CASE w.wish WHEN 'no notices' THEN now() WHEN 'notices again' THEN NULL ELSE v.no_notices END
      FROM (SELECT DISTINCT ON (conversation) conversation, body->>'wish' AS wish FROM numbered
        WHERE body->>'wish' IN ('stop', 'start', 'no notices', 'notices again') ORDER BY conversation, id COLLATE "C" DESC) w
      WHERE v.id = w.conversation AND NOT (w.wish = 'notices again' AND v.no_notices IS NULL)
    )`
    : ""
  const media = keepMedia(
    messages.map(({ one, intake }) => ({ id: one.id, channel: intake.channel, media: one.message.media ?? [] })),
  )
  const statuses = keepStatuses(intakes.flatMap((intake) => intake.statuses ?? []))
  const asked = accepting(offset !== undefined, wishes, statuses.sql, media.sql)
  const values = [
    ...(offset ? [offset.next, offset.channel, offset.holder] : []),
    ...saidShape.values(messages),
    claim?.holder ?? null,
    claim?.seconds ?? 0,
    claim?.holder ?? null,
    ...callsShape.values(intakes),
    ...statuses.values,
    ...media.values,
  ]
  const accept = () => retryingConflicts(() => hotLists<ToldList>(database, asked, values))
  const ids = () => [...intakes.map((intake) => intake.id), ...messages.map(({ one }) => one.id)]
  const found = await inTheirMonths(database, ids, accept)
  if (found[0] && (found[0][at.allowed] as number) === 0) throw new LeaseLost()
  const fresh = found
    .filter((row) => (row[at.id] as string | null) !== null)
    .sort((a, b) => (a[at.position] as number) - (b[at.position] as number))
  // Whoever wants nothing more waits for nothing. Where this is lost, the turn ends so when its time is over.
  const stops = messages.filter(({ one }) => one.message.wish === "stop").map(({ one }) => one.conversation)
  if (stops.length > 0) await endWaiting(database, stops)
  return {
    fresh: fresh.map((row) => ({
      id: row[at.id] as string,
      conversation: row[at.conversation] as string,
      position: row[at.position] as number,
    })),
    claimed: claim ? claimedIn(fresh, new Map(messages.map(({ one }) => [one.id, one])), claim.holder) : [],
  }
}

/** The conversations that are the holder's now, with their lines where the statement could tell them whole. */
function claimedIn(fresh: ToldList[], incoming: Map<string, IncomingMessage>, holder: string): Claimed[] {
  const arrived = new Map<string, number>()
  for (const row of fresh) {
    const conversation = row[at.conversation] as string
    arrived.set(conversation, (arrived.get(conversation) ?? 0) + 1)
  }
  const claimed = new Map<string, Claimed>()
  for (const row of fresh) {
    if ((row[at.holder] as string | null) !== holder) continue
    const conversation = row[at.conversation] as string
    let claim = claimed.get(conversation)
    if (!claim) {
      claim = { conversation, channel: row[at.channel] as string, fence: row[at.fence] as number }
      const [heard, next] = [row[at.heard] as number, row[at.next_position] as number]
      // Nothing but these messages may wait in the line.
      if ((row[at.undisturbed] as boolean) && heard === next - 1 - arrived.get(conversation)!)
        claim.line = lineOf(columnsOf(row), true, [], row[at.received_at] as Date)
      claimed.set(conversation, claim)
    }
    const one = incoming.get(row[at.id] as string)!
    // What was said in our own name gets no turn.
    if (one.by === undefined) claim.line?.pending.push(pendingOf(row, one))
  }
  for (const claim of claimed.values()) if (claim.line?.pending.length === 0) delete claim.line
  return [...claimed.values()]
}

function pendingOf(row: ToldList, { id, message, own, courtesies, contact }: IncomingMessage): PendingMessage {
  return {
    id,
    position: row[at.position] as number,
    message: own ? { ...message, own } : message,
    courtesies,
    receivedAt: row[at.received_at] as Date,
    rejoined: false,
    contact,
  }
}

function columnsOf(row: ToldList): LineColumns {
  return {
    conversation: row[at.conversation] as string,
    channel: row[at.channel] as string,
    fence: row[at.fence] as number,
    heard: row[at.heard] as number,
    next_position: row[at.next_position] as number,
    said: row[at.said] as number,
    tries: row[at.tries] as number,
    minute_at: row[at.minute_at] as Date | null,
    minute_turns: row[at.minute_turns] as number,
    bot_turns: row[at.bot_turns] as number,
    state: row[at.state] as LineColumns["state"],
    offered: row[at.offered] as LineColumns["offered"],
    running: row[at.running] as boolean | null,
    frozen: row[at.frozen] as number | null,
    waits: row[at.waits] as number,
    address: row[at.address] as string,
    kind: row[at.kind] as LineColumns["kind"],
    title: row[at.title] as string | null,
    topic: row[at.topic] as string | null,
    answered_by: row[at.answered_by] as string,
    opted_out: row[at.opted_out] as Date | null,
    release: row[at.release] as string | null,
  }
}

/** What the accepting statement tells of a new message, and of its line. */
interface ToldRow extends LineColumns {
  id: string | null
  position: number
  received_at: Date
  holder: string | null
  undisturbed: boolean
  allowed: number
  current: number
}

const told = tells<ToldRow>({
  id: "said.id",
  conversation: "said.conversation",
  position: "said.position",
  received_at: "said.received_at",
  holder: "l.holder",
  channel: "l.channel",
  fence: "l.fence",
  heard: "l.heard",
  next_position: "l.next_position",
  said: "l.said",
  tries: "l.tries",
  minute_at: "l.minute_at",
  minute_turns: "l.minute_turns",
  bot_turns: "l.bot_turns",
  state: "s.state",
  offered: "s.offered",
  running: "s.running",
  frozen: "l.frozen",
  waits: "l.waits",
  address: "v.address",
  kind: "v.kind",
  title: "v.title",
  topic: "v.topic",
  answered_by: "v.answered_by",
  opted_out: "v.opted_out",
  release: "b.release",
  // The state read here is of the statement's beginning, the claim of its end. They belong together when nobody took a
  // turn in between, also where the line is new.
  undisturbed: "coalesce(w.fence + 1 = l.fence AND w.heard = l.heard, l.heard = 0)",
  allowed: "(SELECT count(*) FROM mine)",
  // Fails, and nothing is kept, where the conversation's person was forgotten since it was looked up.
  current: "not_forgotten(v.forgotten_at)",
})

const { at } = told

/** The accepting statement; the last three are parts of it that most batches do without. */
function accepting(offset: boolean, wishes: string, statuses: string, media: string): Statement {
  return statement(
    `accept ${offset} ${wishes} ${statuses} ${media}`,
    () => `
    WITH mine AS (
      ${
        offset
          ? "UPDATE leases SET poll_offset = ? WHERE channel = ? AND duty = 'poll' AND holder = ? AND until > now() RETURNING 1 AS ok"
          : "SELECT 1 AS ok"
      }
    ), m AS (
      SELECT m.* FROM mine, ${saidShape.sql}
    ), bots AS MATERIALIZED (
      SELECT c.key, c.state, (${releaseOfLane}) AS release FROM channels c WHERE c.key IN (SELECT channel FROM m)
    ), fresh AS (
      -- The batch comes sorted by key, against deadlocks.
      INSERT INTO seen (channel, event_key, message)
      SELECT channel, key, id FROM m
      ON CONFLICT DO NOTHING
      RETURNING message
    ), numbered AS (
      -- Ids sort by the order of receipt. Counted from the end, since the end is what its line will tell.
      SELECT m.*, row_number() OVER (PARTITION BY conversation ORDER BY m.id COLLATE "C" DESC) AS back
      FROM m JOIN fresh ON fresh.message = m.id
    ), lines AS (
      INSERT INTO work AS w (conversation, channel, next_position, due_at, holder, fence, last_id)
      SELECT n.conversation, n.channel, 1 + count(*),
        CASE WHEN c.state <> 'on' THEN 'infinity' WHEN ?::text IS NULL THEN now() ELSE now() + ?::int * interval '1 second' END,
        CASE WHEN c.state = 'on' THEN ?::text END,
        1, max(n.id COLLATE "C")
      FROM numbered n JOIN bots c ON c.key = n.channel
      GROUP BY n.conversation, n.channel, c.state
      ORDER BY n.conversation
      ON CONFLICT (conversation) DO UPDATE SET
        next_position = w.next_position + excluded.next_position - 1,
        due_at = CASE WHEN w.due_at > now() AND w.due_at < 'infinity' THEN w.due_at ELSE excluded.due_at END,
        holder = CASE WHEN w.due_at > now() AND w.due_at < 'infinity' THEN w.holder ELSE excluded.holder END,
        fence = w.fence + CASE WHEN w.due_at > now() AND w.due_at < 'infinity' THEN 0 ELSE 1 END,
        last_id = excluded.last_id
      RETURNING w.conversation, w.channel, w.next_position, w.holder, w.fence, w.heard, w.said, w.tries, w.minute_at, w.minute_turns, w.bot_turns, w.frozen, w.waits
    ), said AS (
      INSERT INTO messages (id, channel, conversation, direction, event, position, origin, author, intake, provider_id, body, courtesies, words, search, sent_at)
      SELECT n.id, n.channel, n.conversation, CASE WHEN n.by IS NULL THEN 'in' ELSE 'out' END, n.event, l.next_position - n.back,
        CASE WHEN n.by IS NULL THEN 'provider' ELSE 'elsewhere' END, n.by, n.intake,
        n.provider, n.body, n.courtesies, n.words, ${searchOf("n.words")}, n.sent
      FROM numbered n JOIN lines l USING (conversation)
      RETURNING id, conversation, position, received_at
    ), kept AS (
      INSERT INTO intakes (id, channel, via, method, address, headers, body, genuine, verdict, unreadable, notes, event_keys, answered, received_at)
      SELECT c.id, c.channel, c.via, c.method, c.address, c.headers, c.body, c.genuine, c.verdict, c.unreadable, c.notes,
        c.keys::text[], c.answered, coalesce(c.at, clock_timestamp())
      FROM mine, ${callsShape.sql}
      -- A call from the local journal may be there already, if what was said of that was lost.
      ON CONFLICT DO NOTHING
    )${statuses}${wishes}${media}
    SELECT ${told.sql}
    FROM (SELECT 1) always
    LEFT JOIN said ON true
    LEFT JOIN lines l ON l.conversation = said.conversation
    LEFT JOIN LATERAL (SELECT * FROM work w WHERE w.conversation = said.conversation LIMIT 1) w ON true
    LEFT JOIN LATERAL (SELECT * FROM states s WHERE s.conversation = said.conversation LIMIT 1) s ON true
    LEFT JOIN LATERAL (SELECT * FROM conversations v WHERE v.id = said.conversation LIMIT 1) v ON true
    LEFT JOIN bots b ON b.key = l.channel`,
  )
}

/** Whether a batch was refused because it was meant for a conversation whose person was forgotten meanwhile. */
export function isForgotten(error: unknown): boolean {
  return (error as { code?: string }).code === "WB001"
}

/** Another process polls this channel by now; what was fetched is left for it. */
export class LeaseLost extends Error {}
