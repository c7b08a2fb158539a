import type { Message } from "../core/message/message.ts"
import type { KeptMedia, RelayWhat, ShownCopy } from "../core/relay/relay.ts"
import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"
import { faultPoint } from "./faults.ts"
import type { Batch } from "./unnest.ts"
import { shape } from "./unnest.ts"

/** A message that is to be shown elsewhere: kept with its turn, and put into the other line in a step of its own. */
export interface RelayChange {
  id: string
  message: string
  conversation: string
  channel: string
  providerId: string | undefined
  what: RelayWhat
  toChannel: string
  toPlace: string
  toConversation?: string | undefined
  names: boolean
  threads: boolean
  /** What it answers over there, by the provider's id. */
  answers?: string | undefined
  words: string
}

const relayShape = shape<RelayChange>("rl", {
  id: ["text", (one) => one.id],
  message: ["text", (one) => one.message],
  conversation: ["text", (one) => one.conversation],
  channel: ["text", (one) => one.channel],
  provider: ["text", (one) => one.providerId],
  what: ["text", (one) => one.what],
  tochannel: ["text", (one) => one.toChannel],
  toplace: ["text", (one) => one.toPlace],
  toconversation: ["text", (one) => one.toConversation],
  names: ["boolean", (one) => one.names],
  threads: ["boolean", (one) => one.threads],
  answers: ["text", (one) => one.answers],
  words: ["text", (one) => one.words],
})

/** The part of a commit that keeps what is to be shown elsewhere; empty where nothing is. */
export function relaysWith(changes: RelayChange[]): Batch {
  if (changes.length === 0) return { sql: "", values: [] }
  return {
    sql: `, kept_relays AS (
      INSERT INTO relays (id, message, conversation, channel, provider_id, what, to_channel, to_place, to_conversation, names, threads, answers, words)
      SELECT rl.id, rl.message, rl.conversation, rl.channel, rl.provider, rl.what, rl.tochannel, rl.toplace, rl.toconversation, rl.names, rl.threads, rl.answers, rl.words
      FROM ${relayShape.sql} JOIN held USING (conversation)
      ON CONFLICT DO NOTHING
    )`,
    values: relayShape.values(changes),
  }
}

/** Something that is to be shown elsewhere now. */
export interface DueRelay {
  id: string
  message: string
  conversation: string
  channel: string
  providerId: string | null
  what: RelayWhat
  toChannel: string
  toPlace: string
  toConversation: string | null
  names: boolean
  threads: boolean
  answers: string | null
  words: string | null
  /** Milliseconds since it came, by the database's clock. */
  age: number
  body: Message
}

/** What becomes of it. */
export type RelayFate =
  | { is: "shown"; copy?: string; conversation: string }
  | { is: "skipped" | "stopped" | "failed"; why: string }
  /** @property milliseconds until it is looked at again */
  | { is: "later"; milliseconds: number; why: string }

/**
 * Takes what is to be shown elsewhere now, of each conversation the first for each place, and shows it, all in one
 * transaction. Gives how many.
 */
export async function showDue(
  database: Database,
  limit: number,
  show: (relay: DueRelay, step: Database) => Promise<RelayFate>,
): Promise<number> {
  return database.transaction(async (step) => {
    const due = await rows<DueRelay>(
      step,
      `SELECT r.id, r.message, r.conversation, r.channel, r.provider_id AS "providerId", r.what, r.to_channel AS "toChannel", r.to_place AS "toPlace",
         r.to_conversation AS "toConversation", r.names, r.threads, r.answers, r.words, (extract(epoch FROM clock_timestamp() - r.at) * 1000)::float8 AS age, m.body
       FROM (
         SELECT * FROM relays r WHERE state = 'waiting' AND due_at <= now() AND NOT EXISTS (
           SELECT 1 FROM relays b WHERE b.conversation = r.conversation AND b.id < r.id AND b.state = 'waiting'
             AND b.to_channel = r.to_channel AND b.to_place = r.to_place)
         ORDER BY due_at, id LIMIT ? FOR UPDATE SKIP LOCKED
       ) r JOIN messages m ON m.id = r.message ORDER BY r.to_channel, r.to_place, r.id`,
      [limit],
    )
    for (const relay of due) {
      const fate = await show(relay, step)
      if (fate.is === "later")
        await rows(
          step,
          "UPDATE relays SET due_at = now() + ?::float8 * interval '1 millisecond', why = ? WHERE id = ?",
          [fate.milliseconds, fate.why, relay.id],
        )
      else
        await rows(step, "UPDATE relays SET state = ?, why = ?, copy = ?, copy_conversation = ? WHERE id = ?", [
          fate.is,
          "why" in fate ? fate.why : null,
          fate.is === "shown" ? (fate.copy ?? null) : null,
          fate.is === "shown" ? fate.conversation : null,
          relay.id,
        ])
    }
    if (FAULTS_BUILT && due.length > 0) await faultPoint("relay: about to be shown")
    return due.length
  })
}

/** What of a message's media is kept; undefined while some of it is still to be fetched. */
export async function mediaKeptOf(database: Database, message: string): Promise<KeptMedia[] | undefined> {
  const found = await rows<KeptMedia & { state: string }>(
    database,
    "SELECT n, hash, why, state FROM message_media WHERE message = ? ORDER BY n",
    [message],
  )
  return found.some(({ state }) => state === "waiting") ? undefined : found
}

/**
 * How often the same words, and any words, went from a conversation to a place within the last minute, and whether they
 * were stopped lately.
 */
export async function sameAgain(
  database: Database,
  { conversation, toChannel, toPlace, words, id }: DueRelay,
): Promise<{ times: number; all: number; stopped: boolean }> {
  const [found] = await rows<{ times: number; all: number; stopped: boolean }>(
    database,
    `SELECT (count(*) FILTER (WHERE words = ? AND state = 'shown' AND what = 'said' AND at > now() - interval '1 minute'))::int AS times,
       (count(*) FILTER (WHERE state = 'shown' AND at > now() - interval '1 minute'))::int AS all,
       coalesce(bool_or(state = 'stopped' AND at > now() - interval '10 minutes'), false) AS stopped
     FROM relays WHERE conversation = ? AND to_channel = ? AND to_place = ? AND id < ? AND at > now() - interval '10 minutes'`,
    [words, conversation, toChannel, toPlace, id],
  )
  return found!
}

/**
 * What was relayed within the last ten minutes from a message's conversation, and to its place: of each the latest hundred. `same` where the message itself is the copy, by its provider's id.
 */
export async function shownLately(
  database: Database,
  { conversation, channel, providerId, id }: DueRelay,
): Promise<(ShownCopy & { same: boolean })[]> {
  return rows(
    database,
    `WITH lately AS (
       (SELECT * FROM relays WHERE conversation = ? AND id < ? ORDER BY id DESC LIMIT 100)
       UNION (SELECT * FROM relays WHERE to_channel = ? AND to_place = (SELECT address FROM conversations WHERE id = ?)
         AND id < ? ORDER BY id DESC LIMIT 100)
     )
     SELECT left(m.words, 500) AS words, left(c.words, 500) AS copied, r.names,
       EXISTS (SELECT 1 FROM attempts a WHERE a.message = r.copy AND a.provider_id = ? AND r.to_channel = ?) AS same
     FROM lately r JOIN messages m ON m.id = r.message JOIN messages c ON c.id = r.copy
     WHERE r.what = 'said' AND r.state = 'shown' AND r.at > now() - interval '10 minutes'`,
    [conversation, id, channel, conversation, id, providerId, channel],
  )
}

/** A message and what it became elsewhere. */
export interface Copy {
  conversation: string
  channel: string
  providerId: string | null
  copy: string
  copyConversation: string
  toChannel: string
  toPlace: string
  names: boolean
  /** Whether what else was said in its conversation is in the same thread or topic. */
  threads: boolean
}

const copyColumns = `r.conversation, r.channel, r.provider_id AS "providerId", r.copy, r.copy_conversation AS "copyConversation",
  r.to_channel AS "toChannel", r.to_place AS "toPlace", r.names, r.threads`

/** What a message in a place is a copy of, by the provider's ids of those it answers or whose thread it is in. */
export async function copyAt(
  database: Database,
  at: { channel: string; place: string },
  ids: string[],
): Promise<Copy | undefined> {
  const [found] = await hotRows<Copy>(
    database,
    `SELECT ${copyColumns} FROM (
       SELECT * FROM relays WHERE to_channel = ? AND to_place = ? AND what = 'said' AND copy IS NOT NULL ORDER BY id DESC LIMIT 2000
     ) r JOIN attempts a ON a.message = r.copy WHERE a.provider_id = ANY(?) ORDER BY r.id DESC LIMIT 1`,
    [at.channel, at.place, ids],
  )
  return found
}

/** Whether people of a place may have seen a copy lately whose id there is not on record yet. */
export async function copyOnItsWay(database: Database, at: { channel: string; place: string }): Promise<boolean> {
  const found = await hotRows(
    database,
    `SELECT 1 FROM (
       SELECT copy, copy_conversation FROM relays WHERE to_channel = ? AND to_place = ? AND what = 'said' AND copy IS NOT NULL
       ORDER BY id DESC LIMIT 200
     ) r JOIN outbox o ON o.conversation = r.copy_conversation AND o.message = r.copy
     WHERE o.state = 'sending' OR o.attempt > 0 LIMIT 1`,
    [at.channel, at.place],
  )
  return found.length > 0
}

/** The copies of a message elsewhere, by its provider's id. */
export async function copiesOf(database: Database, conversation: string, providerId: string): Promise<Copy[]> {
  return rows(
    database,
    `SELECT ${copyColumns} FROM relays r WHERE r.conversation = ? AND r.provider_id = ? AND r.what = 'said' AND r.copy IS NOT NULL
     ORDER BY r.id`,
    [conversation, providerId],
  )
}

/** What is waited for: copies that are not there yet. */
export async function copiesComing(database: Database, conversation: string, providerId: string): Promise<boolean> {
  const found = await rows(
    database,
    "SELECT 1 FROM relays WHERE conversation = ? AND provider_id = ? AND what = 'said' AND state = 'waiting' LIMIT 1",
    [conversation, providerId],
  )
  return found.length > 0
}

/** Where a message was shown, or is about to be, by its provider's ids: of several the first that is known. */
export async function shownElsewhere(
  database: Database,
  conversation: string,
  ids: string[],
): Promise<Pick<RelayChange, "toChannel" | "toPlace" | "names" | "threads">[]> {
  for (const id of ids) {
    const found = await rows<Pick<RelayChange, "toChannel" | "toPlace" | "names" | "threads">>(
      database,
      `SELECT to_channel AS "toChannel", to_place AS "toPlace", names, threads FROM relays
       WHERE conversation = ? AND provider_id = ? AND what = 'said' AND state IN ('waiting', 'shown') ORDER BY id`,
      [conversation, id],
    )
    if (found.length > 0) return found
  }
  return []
}

/** The first copy of a conversation in a place: what its thread there hangs on. */
export async function firstCopy(
  database: Database,
  { conversation, toChannel, toPlace }: Path,
): Promise<string | undefined> {
  const [found] = await rows<{ copy: string }>(
    database,
    `SELECT copy FROM relays WHERE conversation = ? AND to_channel = ? AND to_place = ? AND what = 'said' AND copy IS NOT NULL
     ORDER BY id LIMIT 1`,
    [conversation, toChannel, toPlace],
  )
  return found?.copy
}

/** A topic that is opened for a conversation in a group. */
export interface RelayTopic {
  /** The message that opens it. */
  message: string
  conversation: string
  channel: string
  toChannel: string
  toPlace: string
  names: boolean
  /** The message that was the first to be shown in it. */
  askedBy: string
}

export async function keepTopic(database: Database, topic: RelayTopic): Promise<void> {
  const { message, conversation, channel, toChannel, toPlace, names, askedBy } = topic
  await rows(
    database,
    "INSERT INTO relay_topics (message, conversation, channel, to_channel, to_place, names, asked_by) VALUES (?, ?, ?, ?, ?, ?, ?)",
    [message, conversation, channel, toChannel, toPlace, names, askedBy],
  )
}

type Path = Pick<DueRelay, "conversation" | "toChannel" | "toPlace">

/** The message that opens a conversation's topic in a place: of several the last. */
export async function openedTopic(
  database: Database,
  { conversation, toChannel, toPlace }: Path,
): Promise<string | undefined> {
  const [found] = await rows<{ message: string }>(
    database,
    "SELECT message FROM relay_topics WHERE conversation = ? AND to_channel = ? AND to_place = ? ORDER BY message DESC LIMIT 1",
    [conversation, toChannel, toPlace],
  )
  return found?.message
}

/** Why copies that came after a topic was opened were refused, the last first. */
export async function refusedSince(
  database: Database,
  { conversation, toChannel, toPlace }: Path,
  opened: string,
): Promise<string[]> {
  const found = await rows<{ why: string }>(
    database,
    `SELECT a.why FROM relays r JOIN attempts a ON a.message = r.copy
     WHERE r.conversation = ? AND r.to_channel = ? AND r.to_place = ? AND r.copy > ? AND a.outcome = 'refused' AND a.why IS NOT NULL
     ORDER BY r.copy DESC LIMIT 5`,
    [conversation, toChannel, toPlace, opened],
  )
  return found.map(({ why }) => why)
}

/** Whether a place has refused to open a topic within the last ten minutes. */
export async function topicRefused(database: Database, { toChannel, toPlace }: Path): Promise<boolean> {
  const found = await rows(
    database,
    `SELECT 1 FROM relay_topics t JOIN parked p ON p.message = t.message
     WHERE t.to_channel = ? AND t.to_place = ? AND p.since > now() - interval '10 minutes' LIMIT 1`,
    [toChannel, toPlace],
  )
  return found.length > 0
}

/** What is shown in a topic, by its id at the provider. */
export async function topicAt(
  database: Database,
  at: { channel: string; place: string },
  topic: string,
): Promise<Copy | undefined> {
  const [found] = await hotRows<Copy>(
    database,
    `SELECT t.conversation, t.channel, NULL AS "providerId", t.message AS copy, m.conversation AS "copyConversation",
       t.to_channel AS "toChannel", t.to_place AS "toPlace", t.names, true AS threads
     FROM relay_topics t JOIN attempts a ON a.message = t.message JOIN messages m ON m.id = t.message
     WHERE t.to_channel = ? AND t.to_place = ? AND a.provider_id = ? ORDER BY t.message DESC LIMIT 1`,
    [at.channel, at.place, topic],
  )
  return found
}

/** Where a message went, as people look at it. */
export interface RelayRow {
  message: string
  what: string
  toChannel: string
  toPlace: string
  state: string
  why: string | null
  copy: string | null
}

export async function relaysOfMessages(database: Database, messages: string[]): Promise<RelayRow[]> {
  if (messages.length === 0) return []
  return rows(
    database,
    // A copy that could not be said was not shown, and its reason is what a person looks for.
    `SELECT r.message, r.what, r.to_channel AS "toChannel", r.to_place AS "toPlace",
       CASE WHEN r.state = 'shown' AND p.id IS NOT NULL THEN 'parked' ELSE r.state END AS state,
       coalesce(r.why, p.reason) AS why, r.copy
     FROM relays r
       LEFT JOIN LATERAL (SELECT id, reason FROM parked WHERE message = r.copy AND decided_at IS NULL ORDER BY id DESC LIMIT 1) p
         ON r.copy IS NOT NULL
     WHERE r.message = ANY(?) ORDER BY r.id`,
    [messages],
  )
}
