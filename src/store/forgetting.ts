import type { Database } from "./database.ts"
import { retryingConflicts, rows } from "./database.ts"
import type { MarkOf } from "./directory.ts"
import { idAt, newId, timeOf } from "./ids.ts"
import { formsOfAddress, namesAddress } from "../core/message/addressInText.ts"

/** How many of what has been removed. */
export interface Removed {
  /** Messages they said, and ours to them. */
  said: number
  answered: number
  /** Pictures and files nobody else has sent. */
  media: number
  /** Received calls that lost their body. */
  calls: number
  interviews: number
  conversations: number
}

/** One address of somebody, and a keyed hash of it. */
export interface MarkedAddress {
  channel: string
  mark: string
}

interface Address {
  channel: string
  address: string
}

/** What is looked through, one after the other, and from where on. */
interface Looked {
  step: "conversations" | "groups" | "calls"
  /** In which of the conversations, or of the channels. */
  at: number
  /** The message or call after which it goes on. */
  after: string
}

export interface ForgettingRow {
  id: string
  contact: string
  askedBy: string
  askedAt: Date
  addresses: Address[] | null
  conversations: string[]
  looked: Looked
  removed: Partial<Removed>
  endedAt: Date | null
}

const columns = `id, contact, asked_by AS "askedBy", asked_at AS "askedAt", addresses, conversations, looked, removed, ended_at AS "endedAt"`

/** Everything a person is known by: addresses, and places in which only they talk. */
export async function tracesOf(
  database: Database,
  contact: string,
): Promise<{ addresses: Address[]; conversations: string[] } | undefined> {
  const [there] = await rows(database, "SELECT 1 FROM contacts WHERE id = ?", [contact])
  if (!there) return undefined
  const own = await rows<Address>(database, "SELECT channel, address FROM addresses WHERE contact = ?", [contact])
  // Both ways by an index: conversations know their person, and a direct one often lies at the person's own address.
  const places = await rows<Address & { conversation: string }>(
    database,
    `SELECT p.channel, p.address, p.conversation FROM (
       SELECT id FROM conversations WHERE contact = ?
       UNION SELECT l.conversation FROM addresses a JOIN places l ON l.channel = a.channel AND l.address = a.address WHERE a.contact = ?
     ) own JOIN conversations v ON v.id = own.id AND v.kind = 'direct' JOIN places p ON p.conversation = v.id`,
    [contact, contact],
  )
  const addresses = new Map(
    [...own, ...places].map(({ channel, address }) => [`${channel} ${address}`, { channel, address }]),
  )
  return {
    addresses: [...addresses.values()],
    conversations: [...new Set(places.map((one) => one.conversation))].sort(),
  }
}

/**
 * Takes a person out at once: their addresses, what is remembered of them, and everything of theirs that waits. What was
 * said is then removed by {@link lookOn}, piece by piece.
 *
 * @param id the forgetting's; the same one twice begins once
 * @param at everything said before is forgotten
 * @returns undefined where there is no such person
 */
export async function beginForgetting(
  database: Database,
  given: { id: string; contact: string; by: string; at: Date; markOf: MarkOf },
): Promise<ForgettingRow | undefined> {
  const { id, contact, by, at, markOf } = given
  return retryingConflicts(() =>
    database.transaction(async (step) => {
      const traces = await tracesOf(step, contact)
      if (!traces) return undefined
      const { addresses, conversations } = traces
      await freeLines(step, contact, conversations)
      // Again under the locks: a conversation may have begun meanwhile.
      const opted = await rows<Address & { optedOut: Date | null; noNotices: Date | null }>(
        step,
        `SELECT p.channel, p.address, v.opted_out AS "optedOut", v.no_notices AS "noNotices" FROM conversations v
         JOIN places p ON p.conversation = v.id WHERE v.id = ANY(?) AND (v.opted_out IS NOT NULL OR v.no_notices IS NOT NULL)`,
        [conversations],
      )
      for (const { channel, address, optedOut, noNotices } of opted)
        await rows(
          step,
          `INSERT INTO opt_outs (channel, mark, opted_out, no_notices) VALUES (?, ?, ?, ?)
           ON CONFLICT (channel, mark) DO UPDATE SET opted_out = excluded.opted_out, no_notices = excluded.no_notices`,
          [channel, markOf(channel, address), optedOut, noNotices],
        )
      const interviews = await dropMemory(step, contact, conversations)
      await rows(
        step,
        `UPDATE conversations SET address = 'forgotten', title = NULL, contact = NULL, tags = '{}', answered_by = 'bot',
           handed_at = NULL, taken_by = NULL, forgotten_at = now() WHERE id = ANY(?)`,
        [conversations],
      )
      await rows(step, "DELETE FROM places WHERE conversation = ANY(?)", [conversations])
      for (const { channel, address } of addresses)
        await rows(step, "DELETE FROM read_marks WHERE channel = ? AND address = ?", [channel, address])
      await rows(step, "DELETE FROM addresses WHERE contact = ?", [contact])
      await rows(step, "DELETE FROM contacts WHERE id = ?", [contact])
      const marks = addresses.map(({ channel, address }) => ({ channel, mark: markOf(channel, address) }))
      const [begun] = await rows<ForgettingRow>(
        step,
        `INSERT INTO forgettings (id, contact, asked_by, asked_at, marks, addresses, conversations, looked, removed)
         VALUES (?, ?, ?, ?, ?::jsonb, ?::jsonb, ?, ?::jsonb, ?::jsonb) RETURNING ${columns}`,
        [
          id,
          contact,
          by,
          at,
          JSON.stringify(marks),
          JSON.stringify(addresses),
          conversations,
          JSON.stringify({ step: "conversations", at: 0, after: "" } satisfies Looked),
          JSON.stringify({ interviews, conversations: conversations.length }),
        ],
      )
      return begun
    }),
  )
}

/** Nothing of theirs is handled or sent from here on; a turn that runs for them is not committed. */
async function freeLines(database: Database, contact: string, conversations: string[]): Promise<void> {
  await rows(database, "SELECT 1 FROM work WHERE conversation = ANY(?) ORDER BY conversation FOR UPDATE", [
    conversations,
  ])
  await rows(
    database,
    `UPDATE work SET fence = fence + 1, holder = NULL, due_at = NULL, heard = next_position - 1, tries = 0, frozen = NULL, waits = 0
     WHERE conversation = ANY(?)`,
    [conversations],
  )
  await rows(database, "DELETE FROM recipients WHERE contact = ? OR conversation = ANY(?)", [contact, conversations])
  await rows(database, "DELETE FROM spending WHERE who = ? OR who = ANY(?)", [contact, conversations])
  // In groups a turn of theirs that waits elsewhere is taken again, without what was asked.
  await rows(
    database,
    `WITH gone AS (DELETE FROM waits WHERE asked->'contact'->>'id' = ? AND conversation <> ALL(?) RETURNING conversation)
     UPDATE work SET fence = fence + 1, holder = NULL, due_at = now(), waits = 0 WHERE conversation IN (SELECT conversation FROM gone)`,
    [contact, conversations],
  )
  // In groups only the turn of an interview of theirs is taken again, without the interview.
  await rows(
    database,
    `UPDATE work SET fence = fence + 1, holder = NULL, due_at = now() WHERE holder IS NOT NULL AND due_at < 'infinity' AND conversation IN (
       SELECT conversation FROM interviews WHERE who = ? AND ended_at IS NULL) AND conversation <> ALL(?)`,
    [contact, conversations],
  )
}

/** State, interviews, side effects on record, and what waits in the line. Gives how many interviews there were. */
async function dropMemory(database: Database, contact: string, conversations: string[]): Promise<number> {
  const gone = await rows<{ id: string }>(
    database,
    `DELETE FROM interviews WHERE id IN (
       SELECT id FROM interviews WHERE who = ? UNION SELECT id FROM interviews WHERE conversation = ANY(?)) RETURNING id`,
    [contact, conversations],
  )
  const interviews = gone.map(({ id }) => id)
  await rows(database, "DELETE FROM journal WHERE interview = ANY(?)", [interviews])
  await rows(database, "DELETE FROM timers WHERE interview = ANY(?)", [interviews])
  // The options of their questions: one look through all, however many interviews there were.
  if (interviews.length > 0)
    await rows(database, "DELETE FROM choice_tokens WHERE split_part(choice, ':', 1) = ANY(?)", [interviews])
  await rows(database, "DELETE FROM rejoined WHERE conversation = ANY(?)", [conversations])
  await rows(database, "DELETE FROM under_way WHERE conversation = ANY(?)", [conversations])
  await rows(database, "DELETE FROM waits WHERE conversation = ANY(?)", [conversations])
  await rows(
    database,
    "UPDATE states SET state = '{}', offered = NULL, taken = NULL, running = false WHERE conversation = ANY(?)",
    [conversations],
  )
  await dropUnsent(database, "conversation = ANY(?)", conversations)
  return interviews.length
}

/** What waits to be sent is not sent; that is on record as a decision. */
async function dropUnsent(database: Database, which: string, ...ids: string[][]): Promise<void> {
  const unsent = await rows<{ channel: string; conversation: string; message: string }>(
    database,
    `DELETE FROM outbox WHERE ${which} RETURNING channel, conversation, message`,
    ids,
  )
  for (const { channel, conversation, message } of unsent)
    await rows(
      database,
      `INSERT INTO parked (id, what, cause, reason, channel, conversation, message, decision, decided_by, decided_at)
       VALUES (?, 'send', 'forgotten', ?, ?, ?, ?, 'drop', 'the forgetting', clock_timestamp())`,
      [newId("prk"), gone, channel, conversation, message],
    )
}

/** What stands where something was said. */
const gone = "the person was forgotten on request"

/**
 * What is to be forgotten and nobody else is at. After some seconds only: processes that had these people at hand have
 * heard of it by then.
 */
export const takeable = (holder: string) =>
  `ended_at IS NULL AND asked_at < now() - interval '3 seconds' AND (until IS NULL OR until < now() OR holder = ${holder})`

/** Takes a forgetting that nobody is at, for so many seconds. */
export async function takeForgetting(
  database: Database,
  holder: string,
  seconds: number,
): Promise<ForgettingRow | undefined> {
  const [taken] = await rows<ForgettingRow>(
    database,
    `UPDATE forgettings SET holder = ?, until = now() + ?::int * interval '1 second' WHERE id = (
       SELECT id FROM forgettings WHERE ${takeable("?")} ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
     RETURNING ${columns}`,
    [holder, seconds, holder],
  )
  return taken
}

export async function forgettingById(database: Database, id: string): Promise<ForgettingRow | undefined> {
  return (await rows<ForgettingRow>(database, `SELECT ${columns} FROM forgettings WHERE id = ?`, [id]))[0]
}

/** Messages looked at in one piece, and calls, which are larger. */
const pieces = { messages: 500, groups: 5000, calls: 500 }

/** Looks through the next piece of the record, and removes what is theirs. Gives how it stands then. */
export async function lookOn(database: Database, row: ForgettingRow): Promise<ForgettingRow> {
  const { step } = row.looked
  if (step === "conversations") return inConversations(database, row)
  if (step === "groups") return inGroups(database, row)
  return inCalls(database, row)
}

async function inConversations(database: Database, row: ForgettingRow): Promise<ForgettingRow> {
  const { at, after } = row.looked
  const conversation = row.conversations[at]
  if (conversation === undefined) return lookedTo(database, row, { step: "groups", at: 0, after: "" }, {})
  // Once more: what a turn or a call under way has left since.
  if (after === "") {
    await database.transaction(async (step) => {
      await freeLines(step, row.contact, [conversation])
      await dropMemory(step, row.contact, [conversation])
    })
  }
  const found = await rows<{ id: string; position: number }>(
    database,
    "SELECT id, position FROM messages WHERE conversation = ? AND position > ? ORDER BY position LIMIT ?",
    [conversation, Number(after || 0), pieces.messages],
  )
  const removed = await clear(
    database,
    found.map(({ id }) => id),
  )
  const next: Looked =
    found.length < pieces.messages
      ? { step: "conversations", at: at + 1, after: "" }
      : { step: "conversations", at, after: String(found.at(-1)!.position) }
  return lookedTo(database, row, next, removed)
}

/** What they said among others, and what was answered to that. */
async function inGroups(database: Database, row: ForgettingRow): Promise<ForgettingRow> {
  const channels = channelsOf(row)
  const { at, after } = row.looked
  const channel = channels[at]
  if (channel === undefined) return lookedTo(database, row, { step: "calls", at: 0, after: "" }, {})
  const own = (row.addresses ?? []).flatMap((one) => (one.channel === channel ? [one.address] : []))
  const found = await rows<{ id: string; theirs: boolean }>(
    database,
    `WITH looked AS MATERIALIZED (
       SELECT id, direction, body->'from'->>'address' AS who, body->'people' AS people FROM messages WHERE channel = ? AND id > ? AND id < ? ORDER BY id LIMIT ?
     ), last AS (SELECT max(id COLLATE "C") AS id, count(*) AS n FROM looked)
     SELECT id, true AS theirs FROM looked WHERE direction = 'in' AND (who = ANY(?) OR (
       -- Somebody else let them in, or took them out.
       people IS NOT NULL AND EXISTS (SELECT 1 FROM jsonb_array_elements(people) p WHERE p->>'address' = ANY(?))))
     UNION ALL SELECT id, false FROM last WHERE n = ?`,
    [channel, after, idAt("msg", row.askedAt), pieces.groups, own, own, pieces.groups],
  )
  const theirs = found.flatMap(({ id, theirs }) => (theirs ? [id] : []))
  const removed: Partial<Removed> = {}
  for (let from = 0; from < theirs.length; from += pieces.messages)
    addTo(removed, await clear(database, theirs.slice(from, from + pieces.messages)))
  const last = found.find((one) => !one.theirs)
  const next: Looked = last ? { step: "groups", at, after: last.id } : { step: "groups", at: at + 1, after: "" }
  return lookedTo(database, row, next, removed)
}

/** Calls that name them and told of no message of theirs: refused ones, statuses, answers of others to what they said. */
async function inCalls(database: Database, row: ForgettingRow): Promise<ForgettingRow> {
  const channels = channelsOf(row)
  const { at, after } = row.looked
  const channel = channels[at]
  if (channel === undefined) return end(database, row)
  const own = (row.addresses ?? []).flatMap((one) => (one.channel === channel ? [one.address] : []))
  const forms = [...new Set(own.flatMap(formsOfAddress))]
  const found = await rows<{ id: string; last: boolean }>(
    database,
    `WITH looked AS MATERIALIZED (SELECT id FROM intakes WHERE channel = ? AND id > ? AND id < ? ORDER BY id LIMIT ?),
     last AS (SELECT max(id COLLATE "C") AS id, count(*) AS n FROM looked)
     SELECT i.id, false AS last FROM looked
     CROSS JOIN LATERAL (SELECT * FROM intakes WHERE id = looked.id) i WHERE EXISTS (
       SELECT 1 FROM unnest(?::text[]) f WHERE position(convert_to(f, 'UTF8') IN i.body) > 0 OR position(f IN i.address) > 0)
     UNION ALL SELECT id, true FROM last WHERE n = ?`,
    [channel, after, idAt("itk", row.askedAt), pieces.calls, forms, pieces.calls],
  )
  const naming = await namingCalls(
    database,
    found.flatMap((one) => (one.last ? [] : [one.id])),
    own,
  )
  const calls = await clearCalls(database, naming)
  const last = found.find((one) => one.last)
  const next: Looked = last ? { step: "calls", at, after: last.id } : { step: "calls", at: at + 1, after: "" }
  return lookedTo(database, row, next, { calls })
}

/** Of calls in which the signs of an address stand, those that name it. Few are held at a time: a body may have megabytes. */
async function namingCalls(database: Database, intakes: string[], addresses: string[]): Promise<string[]> {
  const naming: string[] = []
  for (let from = 0; from < intakes.length; from += 10) {
    const found = await rows<{ id: string; body: Buffer; address: string }>(
      database,
      "SELECT id, body, address FROM intakes WHERE id = ANY(?)",
      [intakes.slice(from, from + 10)],
    )
    for (const { id, body, address } of found) {
      const text = `${body.toString("utf8")} ${address}`
      if (addresses.some((one) => namesAddress(text, one))) naming.push(id)
    }
  }
  return naming
}

function channelsOf(row: ForgettingRow): string[] {
  return [...new Set((row.addresses ?? []).map(({ channel }) => channel))].sort()
}

/**
 * Removes what these messages said, whatever answered them, and all that is on record of both. Rows stay, so that counts
 * and orders stay what they were.
 */
async function clear(database: Database, messages: string[]): Promise<Partial<Removed>> {
  if (messages.length === 0) return {}
  return retryingConflicts(() =>
    database.transaction(async (step) => {
      const turns = await rows<{ replies: string[] | null }>(
        step,
        "SELECT replies FROM turns WHERE message = ANY(?) AND replies IS NOT NULL",
        [messages],
      )
      // What was shown elsewhere is the same words once more, in a topic that has the person's name.
      const copies = await rows<{ copy: string }>(
        step,
        `SELECT copy FROM relays WHERE message = ANY(?) AND copy IS NOT NULL
         UNION ALL SELECT message FROM relay_topics WHERE asked_by = ANY(?)`,
        [messages, messages],
      )
      const answers = turns.flatMap(({ replies }) => replies ?? [])
      const all = [...new Set([...messages, ...answers, ...copies.map(({ copy }) => copy)])].sort()
      const media = await clearMedia(step, all)
      const calls = await clearStatuses(step, all)
      await rows(
        step,
        "UPDATE attempts SET answer = NULL, why = NULL, provider_id = NULL, trace = NULL WHERE message = ANY(?)",
        [all],
      )
      await rows(
        step,
        `UPDATE turns SET reason = CASE WHEN reason IS NOT NULL THEN ? END, slots = NULL, facts = NULL, taken_as = NULL, interview = NULL, state_before = NULL,
           state_after = NULL, log = NULL, error = NULL, degraded = NULL, elsewhere = NULL WHERE message = ANY(?)`,
        [gone, all],
      )
      await rows(step, "DELETE FROM onces WHERE message = ANY(?)", [all])
      await rows(
        step,
        "UPDATE relays SET state = 'skipped', why = NULL, provider_id = NULL, words = NULL WHERE message = ANY(?)",
        [messages],
      )
      await rows(step, "DELETE FROM rejoined WHERE message = ANY(?)", [all])
      await dropUnsent(
        step,
        "conversation IN (SELECT conversation FROM messages WHERE id = ANY(?)) AND message = ANY(?)",
        all,
        all,
      )
      await rows(
        step,
        `UPDATE parked SET reason = ?, remedy = NULL, decision = coalesce(decision, 'drop'), decided_by = coalesce(decided_by, 'the forgetting'),
           decided_at = coalesce(decided_at, clock_timestamp()) WHERE message = ANY(?)`,
        [gone, all],
      )
      const cleared = await rows<{ direction: "in" | "out"; intake: string | null; fresh: boolean }>(
        step,
        `WITH before AS MATERIALIZED (SELECT id, event <> 'forgotten' AS fresh FROM messages WHERE id = ANY(?))
         UPDATE messages m SET words = '', search = ''::tsvector, provider_id = NULL, courtesies = NULL, calls = NULL,
           event = 'forgotten', author = CASE WHEN m.direction = 'out' THEN m.author END,
           body = CASE m.direction WHEN 'in' THEN jsonb_build_object('event', 'forgotten', 'place',
             jsonb_build_object('address', 'forgotten', 'kind', coalesce(m.body->'place'->>'kind', 'direct'))) ELSE '{}' END
         FROM before b WHERE b.id = m.id RETURNING m.direction, m.intake, b.fresh`,
        [all],
      )
      const intakes = cleared.flatMap(({ intake }) => intake ?? [])
      const fresh = cleared.filter((one) => one.fresh)
      return {
        said: fresh.filter(({ direction }) => direction === "in").length,
        answered: fresh.filter(({ direction }) => direction === "out").length,
        media,
        calls: (await clearCalls(step, intakes)) + calls,
      }
    }),
  )
}

async function clearMedia(database: Database, messages: string[]): Promise<number> {
  const links = await rows<{ hash: string | null }>(
    database,
    "DELETE FROM message_media WHERE message = ANY(?) RETURNING hash",
    [messages],
  )
  const hashes = [...new Set(links.flatMap(({ hash }) => hash ?? []))]
  if (hashes.length === 0) return 0
  const alone = await rows<{ hash: string }>(
    database,
    `DELETE FROM media m WHERE hash = ANY(?) AND NOT EXISTS (SELECT 1 FROM message_media x WHERE x.hash = m.hash) RETURNING hash`,
    [hashes],
  )
  await rows(database, "DELETE FROM uploads WHERE hash = ANY(?)", [alone.map(({ hash }) => hash)])
  return alone.length
}

/** What providers told of these messages; gives how many calls lost their body by that. */
async function clearStatuses(database: Database, messages: string[]): Promise<number> {
  const told = await rows<{ intake: string | null }>(
    database,
    `DELETE FROM statuses WHERE trace IN (
       SELECT trace FROM attempts WHERE message = ANY(?) AND trace IS NOT NULL
       UNION SELECT m.channel || ' mark ' || m.id || '.' || a.call FROM attempts a JOIN messages m ON m.id = a.message WHERE a.message = ANY(?)
       UNION SELECT channel || ' ' || provider_id FROM messages WHERE id = ANY(?) AND origin = 'elsewhere' AND provider_id IS NOT NULL)
     RETURNING intake`,
    [messages, messages, messages],
  )
  return clearCalls(
    database,
    told.flatMap(({ intake }) => intake ?? []),
  )
}

const callGone = JSON.stringify(["forgotten on request: somebody of whom it told"])

/** Calls lose body, headers and what was asked for in their address. How many keys they had stays, to find the messages. */
async function clearCalls(database: Database, intakes: string[]): Promise<number> {
  if (intakes.length === 0) return 0
  const cleared = await rows(
    database,
    `UPDATE intakes SET body = '', headers = '{}', address = split_part(address, chr(63), 1), unreadable = NULL, notes = ?::jsonb,
       verdict = CASE WHEN genuine THEN verdict ELSE jsonb_build_object('genuine', false, 'why', 'forgotten on request') END,
       event_keys = array_fill(''::text, ARRAY[cardinality(event_keys)])
     WHERE id = ANY(?) AND notes IS DISTINCT FROM ?::jsonb RETURNING 1`,
    [callGone, [...new Set(intakes)].sort(), callGone],
  )
  return cleared.length
}

async function lookedTo(
  database: Database,
  row: ForgettingRow,
  looked: Looked,
  removed: Partial<Removed>,
): Promise<ForgettingRow> {
  const sum = addTo({ ...row.removed }, removed)
  const [kept] = await rows<ForgettingRow>(
    database,
    `UPDATE forgettings SET looked = ?::jsonb, removed = ?::jsonb WHERE id = ? RETURNING ${columns}`,
    [JSON.stringify(looked), JSON.stringify(sum), row.id],
  )
  return kept!
}

/** Everything is looked through: what the audit told of them goes, and the addresses that were looked for. */
async function end(database: Database, row: ForgettingRow): Promise<ForgettingRow> {
  return database.transaction(async (step) => {
    await rows(step, "SET LOCAL wobbet.forgetting = 'on'")
    await rows(
      step,
      `UPDATE audit SET detail = NULL WHERE detail IS NOT NULL AND did <> 'person forgotten' AND EXISTS (
         SELECT 1 FROM unnest(?::text[]) f WHERE position(f IN detail::text) > 0)`,
      [[row.contact, ...row.conversations]],
    )
    await rows(step, "DELETE FROM samples WHERE channel = ANY(?)", [channelsOf(row)])
    // A repeated request by its key is told that the key was used: it is not sent to them again.
    await rows(step, "UPDATE sends SET fingerprint = '' WHERE answer->>'conversation' = ANY(?)", [row.conversations])
    // Options that were offered to them in groups.
    const addresses = (row.addresses ?? []).map(({ address }) => address)
    await rows(
      step,
      `UPDATE states s SET offered = NULL FROM conversations v
       WHERE v.id = s.conversation AND v.channel = ANY(?) AND v.kind <> 'direct' AND jsonb_typeof(s.offered) = 'array' AND EXISTS (
         SELECT 1 FROM jsonb_array_elements(s.offered) o WHERE o->>'to' = ANY(?))`,
      [channelsOf(row), addresses],
    )
    const [ended] = await rows<ForgettingRow>(
      step,
      `UPDATE forgettings SET addresses = NULL, holder = NULL, until = NULL, ended_at = clock_timestamp() WHERE id = ? RETURNING ${columns}`,
      [row.id],
    )
    return ended!
  })
}

function addTo(sum: Partial<Removed>, more: Partial<Removed>): Partial<Removed> {
  for (const [what, n] of Object.entries(more) as [keyof Removed, number][]) sum[what] = (sum[what] ?? 0) + n
  return sum
}

/**
 * How much of the record has been looked through, from 0 to 1: a fifth for their own conversations, the rest by time.
 *
 * @param first the id of the oldest call
 */
export function progressOf(row: ForgettingRow, first: Date): number {
  if (row.endedAt) return 1
  const { step, at, after } = row.looked
  const all = step === "conversations" ? row.conversations.length : channelsOf(row).length
  const whole = row.askedAt.getTime() - first.getTime()
  const time = after === "" || step === "conversations" ? first : (timeOf(after) ?? first)
  const within =
    (at + Math.min(1, Math.max(0, (time.getTime() - first.getTime()) / Math.max(1, whole)))) / Math.max(1, all)
  const [from, share] = { conversations: [0, 0.2], groups: [0.2, 0.4], calls: [0.6, 0.4] }[step] as [number, number]
  return Math.round(Math.min(0.99, from + share * within) * 1e4) / 1e4
}

/** When the oldest call on record was received. */
export async function firstCall(database: Database): Promise<Date | undefined> {
  const [found] = await rows<{ id: string | null }>(database, "SELECT min(id) AS id FROM intakes")
  return found?.id ? timeOf(found.id) : undefined
}

/** A forgetting as the list beside the database has it. */
export interface Remembered {
  id: string
  contact: string
  at: string
  marks: MarkedAddress[]
}

/** Forgettings on record, for a backup that is restored over them. */
export async function forgettingsOnRecord(database: Database): Promise<Remembered[]> {
  const [table] = await rows<{ there: boolean }>(
    database,
    "SELECT to_regclass('public.forgettings') IS NOT NULL AS there",
  )
  if (!table!.there) return []
  const found = await rows<{ id: string; contact: string; at: Date; marks: MarkedAddress[] }>(
    database,
    "SELECT id, contact, asked_at AS at, marks FROM forgettings ORDER BY id",
  )
  return found.map((row) => ({ ...row, at: row.at.toISOString() }))
}

/** Of a restored database, the people that were forgotten after it was backed up: by contact, or by an address of theirs. */
export async function peopleToForget(database: Database, remembered: Remembered[], markOf: MarkOf): Promise<string[]> {
  const contacts = new Set(remembered.map(({ contact }) => contact))
  const marks = new Set(remembered.flatMap((one) => one.marks.map(({ channel, mark }) => `${channel} ${mark}`)))
  const known = await rows<Address & { contact: string }>(database, "SELECT channel, address, contact FROM addresses")
  const found = new Set(
    known.flatMap(({ channel, address, contact }) =>
      contacts.has(contact) || marks.has(`${channel} ${markOf(channel, address)}`) ? [contact] : [],
    ),
  )
  return [...found]
}
