import type { OutgoingCall } from "../core/channels/call.ts"
import type { Place } from "../core/message/message.ts"
import type { Database, Statement } from "./database.ts"
import { hotRows, retryingConflicts, rows, statement } from "./database.ts"
import { newId } from "./ids.ts"
import { batch, shape } from "./unnest.ts"
import { inTheirMonths } from "./partitions.ts"
import type { OutboundMessage } from "./turns.ts"
import type { Offered } from "./lines.ts"
import { outboundInserts, outboundShape } from "./turns.ts"

/** A message at the head of its conversation's line, with the call that is due. */
export interface Head {
  conversation: string
  position: number
  channel: string
  message: string
  call: number
  tries: number
  attempt: number
  doubted: boolean
  calls: OutgoingCall[]
  place: Place
}

const headColumns = `o.conversation, o.position, o.channel, o.message, o.call, o.tries, o.attempt, o.doubted, k.calls,
  jsonb_strip_nulls(jsonb_build_object('address', v.address, 'kind', v.kind, 'title', v.title, 'topic', v.topic)) AS place`

/**
 * Messages of these channels that are due and stand first in their line. With 100,000 messages of a paused channel
 * waiting, this reads none of them: the index is by channel.
 */
export async function dueHeads(database: Database, channels: string[], limit: number): Promise<Head[]> {
  return rows<Head>(
    database,
    `SELECT ${headColumns}
     FROM (
       SELECT o.* FROM unnest(?::text[]) AS c (key)
       CROSS JOIN LATERAL (
         SELECT * FROM outbox o WHERE o.channel = c.key AND o.state = 'waiting' AND o.due_at <= now()
           AND NOT EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = o.conversation AND e.position < o.position)
         ORDER BY o.due_at LIMIT ?
       ) o
     ) o
     JOIN messages k ON k.id = o.message JOIN conversations v ON v.id = o.conversation`,
    [channels, limit],
  )
}

/** The next of each line that just went on. */
export async function headsOf(database: Database, conversations: string[]): Promise<Head[]> {
  return hotRows<Head>(
    database,
    `SELECT ${headColumns}
     FROM unnest(?::text[]) AS c (id)
     CROSS JOIN LATERAL (SELECT * FROM outbox o WHERE o.conversation = c.id ORDER BY position LIMIT 1) o
     JOIN messages k ON k.id = o.message JOIN conversations v ON v.id = o.conversation
     WHERE o.state = 'waiting' AND o.due_at <= now()`,
    [conversations],
  )
}

/** How long until the next message of these channels is due, in milliseconds; nothing when none waits for a time. */
export async function nextDue(database: Database, channels: string[]): Promise<number | undefined> {
  const found = await rows<{ ms: number | null }>(
    database,
    `SELECT extract(epoch FROM min(n.due_at) - clock_timestamp())::float8 * 1000 AS ms
     FROM unnest(?::text[]) AS c (key) CROSS JOIN LATERAL (
       SELECT due_at FROM outbox o WHERE o.channel = c.key AND o.state = 'waiting' AND o.due_at > now() AND o.due_at < 'infinity'
       ORDER BY due_at LIMIT 1) n`,
    [channels],
  )
  return found[0]?.ms ?? undefined
}

/** What heads of lines wait for, and for how many milliseconds from now. */
export async function noteWaits(
  database: Database,
  waits: { conversation: string; position: number; why: string; wait: number }[],
): Promise<void> {
  const due = batch(
    "i",
    [...waits].sort((a, b) => (a.conversation < b.conversation ? -1 : 1)),
    { conversation: "text", position: "bigint", why: "text", wait: "double precision" },
  )
  await rows(
    database,
    `UPDATE outbox o SET why = i.why, due_at = now() + i.wait * interval '1 millisecond' FROM ${due.sql}
     WHERE o.conversation = i.conversation AND o.position = i.position AND o.state = 'waiting'`,
    due.values,
  )
}

/** Lets go what waits for a reason that begins so; gives the conversations. */
export async function endWaits(database: Database, channel: string, reason: string): Promise<string[]> {
  const free = await rows<{ conversation: string }>(
    database,
    `UPDATE outbox SET due_at = now(), why = NULL WHERE channel = ? AND state = 'waiting' AND starts_with(why, ?)
     RETURNING conversation`,
    [channel, reason],
  )
  return free.map((row) => row.conversation)
}

/** Records that calls are about to be made, before their first byte leaves. Gives those that are still to be made. */
export async function startAttempts(
  database: Database,
  holder: string,
  heads: Head[],
  /** Whether people on some of these channels may have asked for nothing more. */
  guarded: boolean,
): Promise<Set<string>> {
  const due = batch(
    "i",
    heads.map(({ conversation, position, attempt }) => ({ conversation, position, attempt })),
    { conversation: "text", position: "bigint", attempt: "integer" },
  )
  const found = await hotRows<{ message: string }>(
    database,
    `UPDATE outbox o SET state = 'sending', holder = ?, attempt = o.attempt + 1, started_at = clock_timestamp(), why = NULL
     FROM ${due.sql}
     WHERE o.conversation = i.conversation AND o.position = i.position AND o.attempt = i.attempt AND o.state = 'waiting'
       AND NOT EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = o.conversation AND e.position < o.position)
       ${guarded ? "AND (SELECT v.opted_out FROM conversations v WHERE v.id = o.conversation) IS NULL" : ""}
     RETURNING o.message`,
    [holder, ...due.values],
  )
  return new Set(found.map((row) => row.message))
}

/** What waits for a person who has asked to be sent nothing more is parked. */
export async function parkOptedOut(database: Database, conversation: string): Promise<void> {
  await database.transaction(async (step) => {
    const gone = await rows<{ channel: string; message: string }>(
      step,
      `DELETE FROM outbox o USING conversations v
       WHERE v.id = o.conversation AND v.opted_out IS NOT NULL AND o.conversation = ? AND o.state = 'waiting'
       RETURNING o.channel, o.message`,
      [conversation],
    )
    for (const { channel, message } of gone) {
      await rows(
        step,
        `INSERT INTO parked (id, what, cause, reason, remedy, channel, conversation, message)
         VALUES (?, 'send', 'opted out', 'the person has asked to be sent nothing more',
           'Drop it. It may be sent only once they have said START.', ?, ?, ?)`,
        [newId("prk"), channel, conversation, message],
      )
    }
  })
}

/** What came of an attempt, and what follows for the message. */
/** The provider's id of a message of ours; "on its way" while it is still to be sent; undefined where it has none. */
export async function sentAs(database: Database, message: string): Promise<string | undefined> {
  const [found] = await hotRows<{ id: string | null; waits: boolean }>(
    database,
    `SELECT (SELECT provider_id FROM attempts WHERE message = ? AND provider_id IS NOT NULL ORDER BY attempt LIMIT 1) AS id,
       EXISTS (SELECT 1 FROM outbox WHERE message = ?) AS waits`,
    [message, message],
  )
  return found?.id ?? (found?.waits ? "on its way" : undefined)
}

export interface Settlement {
  conversation: string
  position: number
  message: string
  channel: string
  attempt: number
  call: number
  /** The call's, as it is shown. */
  name: string
  outcome: string
  why?: string | undefined
  status?: number | undefined
  answer?: string | undefined
  providerId?: string | undefined
  /** What statuses of this call will come under; undefined where its provider tells none. */
  trace?: string | undefined
  /** Milliseconds until the message is tried again, or its next call is due; undefined when it leaves the line. */
  again?: number | undefined
  nextCall?: number | undefined
  tries?: number | undefined
  doubted?: boolean | undefined
  /** The line waits until the channel is on again. */
  held?: boolean | undefined
  parked?: { cause: string; reason: string; remedy?: string } | undefined
}

const linesGoingOn = `, back AS (
         UPDATE outbox o SET state = 'waiting', holder = NULL, why = i.why,
           due_at = CASE WHEN i.held THEN 'infinity' ELSE now() + i.again * interval '1 millisecond' END,
           call = coalesce(i.next, o.call), tries = coalesce(i.tries, o.tries), doubted = o.doubted OR i.doubted
         FROM i WHERE o.conversation = i.conversation AND o.position = i.position
           AND o.holder = ? AND o.attempt = i.attempt AND o.state = 'sending' AND (i.again IS NOT NULL OR i.held)
         RETURNING i.*, o.started_at, o.due_at
       )`

const parkedSends = `, kept_parked AS (
         INSERT INTO parked (id, what, cause, reason, remedy, channel, conversation, message)
         SELECT parked, 'send', cause, reason, remedy, channel, conversation, message FROM gone WHERE parked IS NOT NULL
       )`

const endedShape = shape<Settlement>("i", {
  conversation: ["text", (one) => one.conversation],
  position: ["bigint", (one) => one.position],
  message: ["text", (one) => one.message],
  channel: ["text", (one) => one.channel],
  attempt: ["integer", (one) => one.attempt],
  call: ["integer", (one) => one.call],
  name: ["text", (one) => one.name],
  outcome: ["text", (one) => one.outcome],
  why: ["text", (one) => one.why],
  status: ["integer", (one) => one.status],
  answer: ["text", (one) => one.answer],
  provider: ["text", (one) => one.providerId],
  trace: ["text", (one) => one.trace],
  again: ["double precision", (one) => one.again],
  next: ["integer", (one) => one.nextCall],
  tries: ["integer", (one) => one.tries],
  doubted: ["boolean", (one) => one.doubted ?? false],
  held: ["boolean", (one) => one.held ?? false],
  parked: ["text", (one) => (one.parked ? newId("prk") : undefined)],
  cause: ["text", (one) => one.parked?.cause],
  reason: ["text", (one) => one.parked?.reason],
  remedy: ["text", (one) => one.parked?.remedy],
})

const attemptColumns = "message, attempt, call, name, outcome, why, status, answer, provider, trace"

/** The statement that records ended attempts, with the parts for what stays in its line and for what is parked. */
function settling(staying: boolean, parking: boolean): Statement {
  return statement(
    `settle ${staying} ${parking}`,
    () => `WITH i AS (SELECT * FROM ${endedShape.sql}),
       gone AS (
         DELETE FROM outbox o USING i WHERE o.conversation = i.conversation AND o.position = i.position
           AND o.holder = ? AND o.attempt = i.attempt AND o.state = 'sending' AND i.again IS NULL AND NOT i.held
         RETURNING i.*, o.started_at
       )${staying ? linesGoingOn : ""}, kept AS (
         INSERT INTO attempts (message, attempt, call, name, outcome, why, status, answer, provider_id, trace, holder, started_at)
         SELECT ${attemptColumns}, ?, started_at FROM gone
         ${staying ? `UNION ALL SELECT ${attemptColumns}, ?, started_at FROM back` : ""}
         ON CONFLICT DO NOTHING
       )${parking ? parkedSends : ""}
       -- Who joins the line after this statement began is announced by whoever adds them.
       SELECT conversation FROM gone
       WHERE EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = gone.conversation AND e.position > gone.position)
       ${staying ? "UNION ALL SELECT conversation FROM back WHERE due_at <= now()" : ""}`,
  )
}

/** Records ended attempts in one statement; gives the conversations in whose line somebody stands now. */
export async function settleAttempts(
  database: Database,
  holder: string,
  settlements: Settlement[],
): Promise<Set<string>> {
  const sorted = [...settlements].sort((a, b) => (a.conversation < b.conversation ? -1 : 1))
  // Most leave the line for good: what is tried again or parked has its part of the statement only where there is any.
  const staying = sorted.some((one) => one.again !== undefined || one.held)
  const parking = sorted.some((one) => one.parked)
  const values = [...endedShape.values(sorted), ...new Array<string>(staying ? 4 : 2).fill(holder)]
  const found = await retryingConflicts(() =>
    hotRows<{ conversation: string }>(database, settling(staying, parking), values),
  )
  return new Set(found.map((row) => row.conversation))
}

/**
 * Messages whose call was under way when their process ended: whether the provider took them is not known. With how many
 * milliseconds ago each call began.
 */
export async function abandonedSends(
  database: Database,
  channel: string,
  holder: string,
): Promise<(Head & { age: number })[]> {
  return rows<Head & { age: number }>(
    database,
    `WITH taken AS (
       UPDATE outbox SET holder = ? WHERE channel = ? AND state = 'sending' AND holder IS DISTINCT FROM ? RETURNING *
     )
     SELECT ${headColumns}, coalesce(extract(epoch FROM clock_timestamp() - o.started_at)::float8 * 1000, 1e9) AS age
     FROM taken o JOIN messages k ON k.id = o.message JOIN conversations v ON v.id = o.conversation`,
    [holder, channel, holder],
  )
}

/** Attempts that a process has had under way for longer than any call may take to begin. */
export async function startedBy(database: Database, holder: string, channels: string[]): Promise<Head[]> {
  return rows<Head>(
    database,
    `SELECT ${headColumns} FROM outbox o JOIN messages k ON k.id = o.message JOIN conversations v ON v.id = o.conversation
     WHERE o.channel = ANY(?) AND o.state = 'sending' AND o.holder = ? AND o.started_at < now() - interval '5 seconds'`,
    [channels, holder],
  )
}

/**
 * Adds messages that no turn made: by the API, a person, an alert. They take their places at the end of the
 * conversation's line. Gives the positions.
 */
export async function addToLine(
  database: Database,
  line: { conversation: string; channel: string },
  messages: OutboundMessage[],
  once?: { key: string; author: string; fingerprint: string; answer: object },
  offered?: Offered[],
): Promise<{ added: boolean; answer?: unknown; clash?: boolean }> {
  const add = () =>
    database.transaction(async (step) => {
      if (once) {
        const kept = await rows(
          step,
          "INSERT INTO sends (key, author, fingerprint, answer) VALUES (?, ?, ?, ?::jsonb) ON CONFLICT DO NOTHING RETURNING 1",
          [once.key, once.author, once.fingerprint, JSON.stringify(once.answer)],
        )
        if (kept.length === 0) {
          const [before] = await rows<{ fingerprint: string; answer: unknown }>(
            step,
            "SELECT fingerprint, answer FROM sends WHERE key = ? AND author = ?",
            [once.key, once.author],
          )
          return { added: false, answer: before?.answer, clash: before?.fingerprint !== once.fingerprint }
        }
      }
      const n = messages.length
      const [place] = await rows<{ first: number }>(
        step,
        `INSERT INTO work AS w (conversation, channel, next_position, heard, said, last_id) VALUES (?, ?, ?, ?, ?, ?)
       ON CONFLICT (conversation) DO UPDATE SET next_position = w.next_position + ?, said = w.said + ?,
         heard = CASE WHEN w.heard = w.next_position - 1 AND w.holder IS NULL AND w.due_at IS NULL THEN w.heard + ? ELSE w.heard END,
         last_id = excluded.last_id
       RETURNING w.next_position - ? AS first`,
        [line.conversation, line.channel, n + 1, n, n, messages.at(-1)!.id, n, n, n, n],
      )
      await rows(
        step,
        `WITH o AS (SELECT o.*, ?::bigint + o.n AS position, false AS starts FROM ${outboundShape.sql}), ${outboundInserts} SELECT 1`,
        [place!.first, ...outboundShape.values(messages.map((out, at) => ({ ...line, out, n: at }))), null],
      )
      if (offered) {
        await rows(
          step,
          `INSERT INTO states (conversation, state, offered) VALUES (?, '{}', ?::jsonb)
         ON CONFLICT (conversation) DO UPDATE SET offered = excluded.offered`,
          [line.conversation, offered.length > 0 ? JSON.stringify(offered) : null],
        )
      }
      return { added: true }
    })
  return inTheirMonths(database, () => messages.map((message) => message.id), add)
}

/** What the provider last answered where it took a message of a channel, the newest first; answers are kept in part. */
export async function lastAnswers(database: Database, channel: string): Promise<string[]> {
  const found = await rows<{ answer: string | null }>(
    database,
    `SELECT a.answer FROM (
       SELECT id FROM messages WHERE channel = ? AND direction = 'out' ORDER BY id DESC LIMIT 20
     ) m JOIN attempts a ON a.message = m.id
     WHERE a.outcome = 'accepted' ORDER BY m.id DESC, a.attempt DESC LIMIT 20`,
    [channel],
  )
  return found.flatMap(({ answer }) => (answer === null ? [] : [answer]))
}
