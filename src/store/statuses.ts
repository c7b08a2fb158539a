import type { ParsedStatus } from "../core/channels/kind.ts"
import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"
import { batch } from "./unnest.ts"

/** A status as it was told, with the intake that told it. */
export interface ToldStatus {
  channel: string
  intake: string
  told: ParsedStatus
  /** Our clock, for a provider that names no time. */
  at: string
}

/** How the provider's id of a call is looked for. */
export function traceOf(channel: string, providerId: string): string {
  return `${channel} ${providerId}`
}

/** The same for the mark our own call carried. */
export function traceOfMark(channel: string, mark: string): string {
  return `${channel} mark ${mark}`
}

/** The parts of a statement that keep statuses; empty when there are none, as nearly always on some kinds. */
export function keepStatuses(statuses: ToldStatus[]): { sql: string; values: unknown[] } {
  if (statuses.length === 0) return { sql: "", values: [] }
  const traced = new Map<string, { [column: string]: string | undefined }>()
  const marks = new Map<string, { channel: string; address: string; status: string; at: string }>()
  for (const { channel, intake, told, at } of statuses) {
    const { about, status, why } = told
    if ("upTo" in about) {
      const key = `${channel} ${about.place} ${status}`
      const before = marks.get(key)
      if (!before || before.at < about.upTo) marks.set(key, { channel, address: about.place, status, at: about.upTo })
      continue
    }
    const names = [
      ...(about.id ? [traceOf(channel, about.id)] : []),
      ...(about.mark ? [traceOfMark(channel, about.mark)] : []),
    ]
    for (const trace of names)
      traced.set(`${trace} ${status}`, { trace, status, why, provider: about.id, at: told.at ?? at, intake })
  }
  const s = batch(
    "s",
    sortedBy([...traced.values()], (one) => `${one.trace} ${one.status}`),
    {
      trace: "text",
      status: "text",
      why: "text",
      provider: "text",
      at: "timestamptz",
      intake: "text",
    },
  )
  const r = batch(
    "r",
    sortedBy([...marks.values()], (one) => `${one.channel} ${one.address} ${one.status}`),
    {
      channel: "text",
      address: "text",
      status: "text",
      at: "timestamptz",
    },
  )
  return {
    sql: `, kept_statuses AS (
      INSERT INTO statuses (trace, status, why, provider_id, at, intake)
      SELECT s.trace, s.status, s.why, s.provider, s.at, s.intake FROM mine, ${s.sql} ON CONFLICT DO NOTHING
    ), kept_marks AS (
      INSERT INTO read_marks AS k (channel, address, status, up_to)
      SELECT r.channel, r.address, r.status, r.at FROM mine, ${r.sql}
      ON CONFLICT (channel, address, status) DO UPDATE SET up_to = greatest(k.up_to, excluded.up_to), xid = excluded.xid
    )`,
    values: [...s.values, ...r.values],
  }
}

function sortedBy<T>(all: T[], key: (one: T) => string): T[] {
  return all.sort((a, b) => (key(a) < key(b) ? -1 : 1))
}

/** Of these traces of marks, those whose calls the provider has told of, and how it names the message. */
export async function proofsOf(database: Database, traces: string[]): Promise<Map<string, { providerId?: string }>> {
  const found = await rows<{ trace: string; provider_id: string | null }>(
    database,
    "SELECT trace, max(provider_id) AS provider_id FROM statuses WHERE trace = ANY(?) AND status <> 'failed' GROUP BY trace",
    [traces],
  )
  return new Map(found.map((row) => [row.trace, row.provider_id ? { providerId: row.provider_id } : {}]))
}

/** Doubts looked through at once; of more, the newest. */
const mostDoubts = 2000

/**
 * Doubts that a person is asked about though their provider has told that they arrived: the process that kept its word
 * ended, or lost the database, before it had settled them.
 */
export async function provenDoubts(
  database: Database,
): Promise<{ channel: string; mark: string; providerId: string | null }[]> {
  return rows(
    database,
    `SELECT d.channel, d.mark, max(s.provider_id) AS "providerId" FROM (
       SELECT p.channel, p.message || '.' || a.call AS mark FROM (
         SELECT channel, message FROM parked WHERE decided_at IS NULL AND what = 'send' AND cause = 'doubt' ORDER BY id DESC LIMIT ${mostDoubts}
       ) p CROSS JOIN LATERAL (SELECT call FROM attempts WHERE message = p.message ORDER BY attempt DESC LIMIT 1) a
     ) d JOIN statuses s ON s.trace = d.channel || ' mark ' || d.mark AND s.status <> 'failed'
     GROUP BY d.channel, d.mark`,
  )
}

/**
 * Doubtful messages that had been parked before the provider told that they arrived: they are settled, and what is left of
 * them goes on at the end of the line. Gives their conversations.
 */
export async function settleParkedDoubts(
  database: Database,
  channel: string,
  proofs: { mark: string; providerId?: string }[],
): Promise<string[]> {
  const conversations: string[] = []
  for (const { mark, providerId } of proofs) {
    const [message, call] = [mark.slice(0, mark.lastIndexOf(".")), Number(mark.slice(mark.lastIndexOf(".") + 1))]
    const done = await database.transaction(async (step) => {
      const [parked] = await rows<{ conversation: string }>(
        step,
        `UPDATE parked SET decision = 'arrived', decided_by = 'the provider', decided_at = clock_timestamp(), decided_xid = pg_current_xact_id()
         WHERE message = ? AND what = 'send' AND cause = 'doubt' AND channel = ? AND decided_at IS NULL RETURNING conversation`,
        [message, channel],
      )
      if (!parked || !Number.isInteger(call)) return undefined
      const [kept] = await rows<{ attempt: number; calls: number; name: string | null }>(
        step,
        `INSERT INTO attempts (message, attempt, call, name, outcome, why, provider_id, trace, started_at)
         SELECT ?, max(a.attempt) + 1, ?, max(a.name) FILTER (WHERE a.call = ?), 'accepted', 'the provider told later that it had arrived', ?, ?, clock_timestamp()
         FROM attempts a WHERE a.message = ?
         RETURNING attempt, name, (SELECT jsonb_array_length(calls) FROM messages WHERE id = ?) AS calls`,
        [message, call, call, providerId ?? null, providerId ? traceOf(channel, providerId) : null, message, message],
      )
      if (kept && call + 1 < kept.calls) {
        const [place] = await rows<{ position: number }>(
          step,
          `UPDATE work SET next_position = next_position + 1, said = said + 1,
             heard = CASE WHEN heard = next_position - 1 AND holder IS NULL AND due_at IS NULL THEN heard + 1 ELSE heard END
           WHERE conversation = ? RETURNING next_position - 1 AS position`,
          [parked.conversation],
        )
        await rows(
          step,
          `INSERT INTO outbox (conversation, position, channel, message, state, due_at, attempt, call)
           VALUES (?, ?, ?, ?, 'waiting', now(), ?, ?)`,
          [parked.conversation, place!.position, channel, message, kept.attempt, call + 1],
        )
      }
      return parked.conversation
    })
    if (done) conversations.push(done)
  }
  return conversations
}

export interface StatusRow {
  message: string
  status: string
  why: string | null
  at: Date
}

/** The outbound messages an intake told of, with what it said of them. */
export async function statusesOfIntake(database: Database, intake: string): Promise<StatusRow[]> {
  return hotRows<StatusRow>(
    database,
    `SELECT a.message, s.status, s.why, s.at FROM statuses s CROSS JOIN LATERAL (SELECT message FROM attempts WHERE trace = s.trace ORDER BY message DESC LIMIT 1) a
     WHERE s.intake = ? ORDER BY s.at`,
    [intake],
  )
}

/** Every status told of these messages, in the order of the provider's clock, which counts in seconds. */
export async function statusesOf(database: Database, messages: string[]): Promise<StatusRow[]> {
  if (messages.length === 0) return []
  return hotRows<StatusRow>(
    database,
    `WITH a AS MATERIALIZED (SELECT a.* FROM unnest(?::text[]) i (id) CROSS JOIN LATERAL (SELECT * FROM attempts WHERE message = i.id) a)
     SELECT * FROM (
     SELECT DISTINCT a.message, s.status, s.why, s.at FROM a JOIN statuses s ON s.trace = a.trace
     UNION ALL
     SELECT a.message, r.status, NULL, r.up_to FROM a
     CROSS JOIN LATERAL (SELECT * FROM messages WHERE id = a.message) m JOIN conversations v ON v.id = m.conversation
     JOIN read_marks r ON r.channel = m.channel AND r.address = v.address AND r.up_to >= a.started_at
     WHERE a.outcome = 'accepted'
     ) told ORDER BY message, at, array_position(ARRAY['sent', 'delivered', 'read', 'failed'], status)`,
    [messages],
  )
}

/** What a message of ours said, by the provider's id. */
export async function saidAs(database: Database, channel: string, providerId: string): Promise<object | undefined> {
  const found = await rows<{ body: object }>(
    database,
    `SELECT m.body FROM (SELECT message FROM attempts WHERE trace = ? ORDER BY message DESC LIMIT 1) a
     CROSS JOIN LATERAL (SELECT body FROM messages WHERE id = a.message) m`,
    [traceOf(channel, providerId)],
  )
  return found[0]?.body
}
