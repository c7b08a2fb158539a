import type { OutgoingCall } from "../core/channels/call.ts"
import type { Message, Place } from "../core/message/message.ts"
import type { Database } from "./database.ts"
import { hotRows } from "./database.ts"
import { batch } from "./unnest.ts"

/** A conversation whose turn is a process's to take, as long as its fencing number stands. */
export interface Claimed {
  conversation: string
  channel: string
  fence: number
  /** Everything its turn needs, where the accepting statement could tell; otherwise it is loaded. */
  line?: Line
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
  /** How many processes ended while they held it. */
  deaths: number
  minuteAt: Date | null
  minuteTurns: number
  botTurns: number
  channelOn: boolean
  state: { [field: string]: unknown }
  /** The options that were offered last, while nothing else has been said since. */
  offered: Offered[]
  /** Whether interviews run in it. */
  running: boolean
  /** Messages up to this position are one turn, since a side effect of theirs has begun; 0 where there is none such. */
  frozen: number
  /** 0 where the turn in front waits for nothing; 1, for an answer from elsewhere; 2, the answer is there. */
  waits: number
  /** Set when the person asked to be sent nothing more. */
  optedOut: boolean
  release: string | null
  place: Place
  answeredBy: string
  pending: PendingMessage[]
  /** When it was read: by the database's clock, and by this process's steady one, in milliseconds. */
  read: { at: Date; steady: number }
}

/** Now, by the database's clock: messages and minutes of a line have its times, and this machine's may be hours away. */
export function nowOf({ read }: Line): Date {
  return new Date(read.at.getTime() + performance.now() - read.steady)
}

export interface Offered {
  id: string
  label: string
  /** In a group, to whom. */
  to?: string
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
    deaths: number
    channel_state: string
    read_at: Date
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
    `SELECT w.conversation, w.fence, w.channel, w.heard, w.next_position, w.said, w.tries, w.deaths, w.minute_at, w.minute_turns, w.bot_turns,
       w.frozen, w.waits, c.state AS channel_state, s.state, s.offered, s.running, v.address, v.kind, v.title, v.topic, v.answered_by, v.opted_out,
       (${releaseOfLane}) AS release, clock_timestamp() AS read_at,
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
  return found.map((row) => ({
    ...lineOf(
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
      row.read_at,
    ),
    deaths: row.deaths,
  }))
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
  running: boolean | null
  frozen: number | null
  waits: number
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

export function lineOf(row: LineColumns, channelOn: boolean, pending: PendingMessage[], readAt: Date): Line {
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
    // A line that comes with its message was at rest: no process ended with it.
    deaths: 0,
    minuteAt: row.minute_at,
    minuteTurns: row.minute_turns,
    botTurns: row.bot_turns,
    state: row.state ?? {},
    offered: row.offered ?? [],
    running: row.running ?? false,
    frozen: row.frozen ?? 0,
    waits: row.waits,
    optedOut: row.opted_out !== null,
    release: row.release,
    answeredBy: row.answered_by,
    place,
    channelOn,
    pending,
    read: { at: readAt, steady: performance.now() },
  }
}
