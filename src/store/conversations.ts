import type { Database } from "./database.ts"
import { hotRows, plannedRows, rows } from "./database.ts"
import { releaseOfLane } from "./lines.ts"
import type { Looked, PageAsked, Way } from "./lookThrough.ts"
import { lookThrough } from "./lookThrough.ts"
import { endWaiting } from "./waits.ts"

export interface ConversationRow {
  id: string
  channel: string
  address: string
  kind: string
  title: string | null
  topic: string | null
  contact: string | null
  answeredBy: string
  /** Since when a person answers, and who. */
  handedAt: Date | null
  takenBy: string | null
  tags: string[]
  createdAt: Date
  /** Since when the person wants to be sent nothing more. */
  optedOut: Date | null
  /** Since when they want nothing that starts here; an answer to what they have just said is no such thing. */
  noNotices: Date | null
  /** When the person was forgotten on request. */
  forgottenAt: Date | null
  lastAt: Date | null
  lastText: string | null
  lastDirection: string | null
  lastMessage: string | null
  lastIntake: string | null
  messages: number
  unsent: number
  parked: number
}

const view = `
  SELECT v.id, v.channel, v.address, v.kind, v.title, v.topic, v.contact, v.answered_by AS "answeredBy", v.handed_at AS "handedAt", v.taken_by AS "takenBy", v.tags, v.created_at AS "createdAt", v.opted_out AS "optedOut", v.no_notices AS "noNotices", v.forgotten_at AS "forgottenAt",
    w.last_id AS "lastMessage", coalesce(w.next_position - 1, 0) AS messages, 
    (SELECT count(*) FROM outbox o WHERE o.conversation = v.id) AS unsent,
    m.received_at AS "lastAt", left(m.words, 300) AS "lastText", m.direction AS "lastDirection", m.intake AS "lastIntake",
    (SELECT count(*) FROM parked p WHERE p.conversation = v.id AND p.decided_at IS NULL) AS parked
  FROM unnest(?::text[]) i (id) JOIN conversations v ON v.id = i.id LEFT JOIN work w ON w.conversation = v.id
  LEFT JOIN LATERAL (SELECT * FROM messages WHERE id = w.last_id) m ON true`

async function conversationsById(database: Database, ids: string[]): Promise<ConversationRow[]> {
  if (ids.length === 0) return []
  return hotRows<ConversationRow>(database, `${view} ORDER BY w.last_id DESC NULLS LAST`, [ids])
}

interface ConversationFilter extends PageAsked {
  channel?: string
  text?: string
  kind?: string
  below?: string
}

/** Conversations in the order in which they began: none changes its place while the pages are read. */
export async function conversationsAsBegun(
  database: Database,
  filter: ConversationFilter,
): Promise<Looked<ConversationRow>> {
  const order = { after: filter.below, cursor: (row: { id: string }) => row.id, descending: false }
  const found = await lookThrough([byBeginning(database, filter)], { ...filter, ...order })
  const places = new Map(found.rows.map((row, place) => [row.id, place]))
  const rows = await conversationsById(database, [...places.keys()])
  return { ...found, rows: rows.sort((a, b) => places.get(a.id)! - places.get(b.id)!) }
}

/** Only those in which something was said: nothing else is in a list. */
function byBeginning(database: Database, filter: ConversationFilter): Way<{ id: string }> {
  const fits = fitting(filter)
  const channel = filter.channel === undefined ? "" : "AND v.channel = ?"
  const sql = `WITH s AS MATERIALIZED (SELECT * FROM conversations WHERE id > ? ORDER BY id LIMIT ?)
    SELECT v.id, NULL AS seen FROM s v JOIN work w ON w.conversation = v.id AND w.last_id IS NOT NULL
      WHERE ${fits.sql} ${channel}
    UNION ALL SELECT (SELECT max(id COLLATE "C") FROM s), (SELECT count(*) FROM s)`
  return async (after, many) => {
    const values = [after ?? "", many, ...fits.values, ...(filter.channel === undefined ? [] : [filter.channel])]
    const found = await hotRows<{ id: string; seen: number | null }>(database, sql, values)
    const end = found.find((row) => row.seen !== null)!
    const rows = found.filter((row) => row.seen === null).sort((a, b) => (a.id < b.id ? -1 : 1))
    return { rows, reached: end.seen! < many ? undefined : end.id }
  }
}

/** The one that last had something said first. */
export async function listConversations(
  database: Database,
  filter: ConversationFilter,
): Promise<Looked<ConversationRow>> {
  const ways = [bySpoken(database, filter), ...(filter.text === undefined ? [] : [byTitle(database, filter)])]
  const order = { after: filter.below, cursor: (row: Spoken) => row.last, descending: true }
  const found = await lookThrough(ways, { ...filter, ...order })
  return {
    ...found,
    rows: await conversationsById(
      database,
      found.rows.map((row) => row.id),
    ),
  }
}

/** A conversation, and the id of what was said last in it: its place in the list. */
interface Spoken {
  id: string
  last: string
}

/** Above every message's id. */
const above = "msg_~"

/** What somebody may mean who looks for an address: as it is written, or a number with a plus sign and without. */
function addressForms(text: string): [string, string, string] {
  const digits = /^\+?[\d\s().-]{6,}$/.test(text) ? text.replace(/\D/g, "") : text
  return [text, digits, `+${digits}`]
}

const containing = (text: string) => `%${text.replaceAll("\0", "").replace(/[\\%_]/g, "\\$&")}%`

/** Conditions on a conversation `v`; the channel's stand with `work`, which is ordered within it. */
function fitting({ kind, text }: ConversationFilter): { sql: string; values: string[] } {
  const wheres = ["true"]
  const values: string[] = []
  if (kind !== undefined) (wheres.push("v.kind = ?"), values.push(kind))
  if (text !== undefined) {
    wheres.push("(v.title ILIKE ? OR v.address IN (?, ?, ?) OR v.id = ?)")
    values.push(containing(text), ...addressForms(text), text)
  }
  return { sql: wheres.join(" AND "), values }
}

/** By what was said last, channel by channel (the index is theirs), and then together: 175 ms became 0.8. */
function bySpoken(database: Database, filter: ConversationFilter): Way<Spoken> {
  const fits = fitting(filter)
  const channels = filter.channel === undefined ? "channels" : "(SELECT ?::text AS key)"
  const sql = `WITH s AS MATERIALIZED (
      SELECT w.conversation, w.last_id FROM ${channels} c CROSS JOIN LATERAL (
        SELECT conversation, last_id FROM work WHERE channel = c.key AND last_id < ? ORDER BY last_id DESC LIMIT ?
      ) w ORDER BY w.last_id DESC LIMIT ?
    ), f AS (
      SELECT v.id, s.last_id FROM s JOIN conversations v ON v.id = s.conversation WHERE ${fits.sql} ORDER BY s.last_id DESC LIMIT ?
    )
    SELECT id, last_id AS last, NULL AS seen FROM f
    UNION ALL SELECT NULL, (SELECT min(last_id COLLATE "C") FROM s), (SELECT count(*) FROM s)`
  return async (after, many) => {
    const channel = filter.channel === undefined ? [] : [filter.channel]
    const values = [...channel, after ?? above, many, many, ...fits.values, filter.limit + 1]
    const found = await hotRows<Spoken & { seen: number | null }>(database, sql, values)
    const end = found.find((row) => row.seen !== null)!
    const rows = found.filter((row) => row.seen === null).sort(lastFirst)
    if (rows.length > filter.limit) return { rows, reached: rows.at(-1)!.last }
    return { rows, reached: end.seen! < many ? undefined : end.last }
  }
}

/** Of more conversations than this, those that were spoken in last are found sooner by looking at the newest. */
const mostByTitle = 1000

/** By any part of their titles, or the one with this id or address. */
function byTitle(database: Database, filter: ConversationFilter): Way<Spoken> {
  const { text, channel, kind } = filter
  return async (after) => {
    // Two characters hold no three in a row, by which the index goes.
    if ([...text!].length < 3) return undefined
    const found = await plannedRows<Spoken & { many: number }>(
      database,
      `WITH v AS MATERIALIZED (
         SELECT id FROM conversations WHERE title ILIKE ? UNION SELECT id FROM conversations WHERE id = ?
         UNION SELECT p.conversation FROM places p WHERE p.address IN (?, ?, ?) LIMIT ${mostByTitle + 1}
       )
       SELECT v.id, w.last_id AS last, (SELECT count(*) FROM v) AS many FROM v JOIN work w ON w.conversation = v.id JOIN conversations c ON c.id = v.id
       WHERE w.last_id < ? ${channel === undefined ? "" : "AND c.channel = ?"} ${kind === undefined ? "" : "AND c.kind = ?"}
       ORDER BY w.last_id DESC LIMIT ${filter.limit + 1}`,
      [
        containing(text!),
        text!,
        ...addressForms(text!),
        after ?? above,
        ...[channel, kind].filter((value) => value !== undefined),
      ],
    )
    if (found.length > 0 && found[0]!.many > mostByTitle) return undefined
    return { rows: found, reached: found.length <= filter.limit ? undefined : found.at(-1)!.last }
  }
}

function lastFirst(a: Spoken, b: Spoken): number {
  return a.last > b.last ? -1 : 1
}

export async function conversationById(database: Database, id: string): Promise<ConversationRow | undefined> {
  return (await conversationsById(database, [id]))[0]
}

/** The conversation a provider's address stands for, on one channel or on any. */
export async function conversationAt(
  database: Database,
  address: string,
  channel?: string,
): Promise<ConversationRow[]> {
  const found = await rows<{ id: string }>(
    database,
    `SELECT DISTINCT conversation AS id FROM places WHERE address = ? AND topic = '' ${channel === undefined ? "" : "AND channel = ?"}`,
    channel === undefined ? [address] : [address, channel],
  )
  return conversationsById(
    database,
    found.map((row) => row.id),
  )
}

/** Somebody who ever spoke on a channel, in a conversation of their own or in a group. */
export interface PersonRow {
  channel: string
  address: string
  name: string | null
  handle: string | null
  contact: string
  tags: string[]
  fields: { [field: string]: unknown }
  /** The conversation with them alone, where there is one. */
  conversation: string | null
}

interface PeopleFilter extends PageAsked {
  channel?: string
  tag?: string
  text?: string
  after?: string
}

/** By channel and address. */
export async function listPeople(database: Database, filter: PeopleFilter): Promise<Looked<PersonRow>> {
  const ways =
    filter.tag === undefined
      ? [byPlace(database, filter), ...(filter.text === undefined ? [] : [byName(database, filter)])]
      : [byTag(database, { ...filter, tag: filter.tag })]
  return lookThrough(ways, { ...filter, after: filter.after, cursor: placeOf, descending: false })
}

const placeOf = (row: { channel: string; address: string }) => `${row.channel} ${row.address}`

/** The two parts of a place in the list. */
function partsOf(after: string | undefined): [string, string] {
  const at = after?.indexOf(" ") ?? -1
  return at < 0 ? ["", ""] : [after!.slice(0, at), after!.slice(at + 1)]
}

const person =
  "a.channel, a.address, coalesce(a.name, c.name) AS name, a.handle, a.contact, c.tags, c.fields, p.conversation"
const withPlace =
  "JOIN contacts c ON c.id = a.contact LEFT JOIN places p ON p.channel = a.channel AND p.address = a.address AND p.topic = ''"

/** In the list's order, which is the table's own. */
function byPlace(database: Database, filter: PeopleFilter): Way<PersonRow> {
  const { channel, text, limit } = filter
  const range = `(channel, address) > (?, ?) ${channel === undefined ? "" : "AND channel = ?"}`
  const fits = text === undefined ? "true" : "(a.name ILIKE ? OR a.handle ILIKE ? OR a.address IN (?, ?, ?))"
  const sql = `WITH s AS MATERIALIZED (SELECT * FROM addresses WHERE ${range} ORDER BY channel, address LIMIT ?)
    SELECT ${person}, NULL AS seen FROM (SELECT * FROM s a WHERE ${fits} ORDER BY channel, address LIMIT ?) a ${withPlace}
    UNION ALL (SELECT s.channel, s.address, NULL, NULL, NULL, NULL, NULL, NULL, (SELECT count(*) FROM s) FROM s ORDER BY channel DESC, address DESC LIMIT 1)`
  return async (after, many) => {
    const values = [...partsOf(after), ...(channel === undefined ? [] : [channel]), many]
    const asked = text === undefined ? [] : [containing(text), containing(text), ...addressForms(text)]
    const found = await hotRows<PersonRow & { seen: number | null }>(database, sql, [...values, ...asked, limit + 1])
    const end = found.find((row) => row.seen !== null)
    const rows = found.filter((row) => row.seen === null).map(({ seen: _, ...row }) => row)
    if (rows.length > limit) return { rows, reached: placeOf(rows.at(-1)!) }
    return { rows, reached: end === undefined || end.seen! < many ? undefined : placeOf(end) }
  }
}

/** Those with a tag; of them, by name or address as well. */
function byTag(database: Database, { channel, text, tag, limit }: PeopleFilter & { tag: string }): Way<PersonRow> {
  return async (after) => {
    const found = await rows<PersonRow>(
      database,
      `SELECT ${person} FROM addresses a ${withPlace} WHERE c.tags @> ARRAY[?::text] AND (a.channel, a.address) > (?, ?)
         ${channel === undefined ? "" : "AND a.channel = ?"}
         ${text === undefined ? "" : "AND (a.name ILIKE ? OR a.handle ILIKE ? OR a.address IN (?, ?, ?))"}
       ORDER BY a.channel, a.address LIMIT ?`,
      [
        ...[tag, ...partsOf(after)],
        ...(channel === undefined ? [] : [channel]),
        ...(text === undefined ? [] : [containing(text), containing(text), ...addressForms(text)]),
        limit + 1,
      ],
    )
    return { rows: found, reached: found.length <= limit ? undefined : placeOf(found.at(-1)!) }
  }
}

/** Everybody who is known at an address, on whatever channel. */
export async function peopleAt(database: Database, address: string): Promise<PersonRow[]> {
  return rows<PersonRow>(
    database,
    `SELECT ${person} FROM addresses a ${withPlace} WHERE a.address = ? ORDER BY a.channel`,
    [address],
  )
}

/** By any part of their names, or their address. */
function byName(database: Database, { channel, text, limit }: PeopleFilter): Way<PersonRow> {
  return async (after) => {
    if ([...text!].length < 3) return undefined
    const found = await plannedRows<PersonRow>(
      database,
      `SELECT ${person} FROM (
         SELECT * FROM addresses WHERE name ILIKE ? UNION SELECT * FROM addresses WHERE handle ILIKE ?
         UNION SELECT * FROM addresses WHERE address IN (?, ?, ?)
       ) a ${withPlace} WHERE (a.channel, a.address) > (?, ?) ${channel === undefined ? "" : "AND a.channel = ?"}
       ORDER BY a.channel, a.address LIMIT ${limit + 1}`,
      [
        containing(text!),
        containing(text!),
        ...addressForms(text!),
        ...partsOf(after),
        ...(channel === undefined ? [] : [channel]),
      ],
    )
    return { rows: found, reached: found.length <= limit ? undefined : placeOf(found.at(-1)!) }
  }
}

export async function stateOf(
  database: Database,
  conversation: string,
): Promise<{ [field: string]: unknown } | undefined> {
  const [found] = await rows<{ state: { [field: string]: unknown } }>(
    database,
    "SELECT state FROM states WHERE conversation = ?",
    [conversation],
  )
  return found?.state
}

/**
 * Forgets a conversation's state; what was said stays.
 *
 * @param expected the state it must still have; gives false where it has another
 */
export async function resetState(database: Database, conversation: string, expected?: object): Promise<boolean> {
  return database.transaction(async (step) => {
    const [held] = await rows<{ same: boolean }>(
      step,
      "SELECT ?::jsonb IS NULL OR state = ?::jsonb AS same FROM states WHERE conversation = ? FOR UPDATE",
      [expected ? JSON.stringify(expected) : null, expected ? JSON.stringify(expected) : null, conversation],
    )
    if (held && !held.same) return false
    await rows(step, "UPDATE states SET state = '{}', offered = NULL, taken = NULL WHERE conversation = ?", [
      conversation,
    ])
    return true
  })
}

/**
 * Gives a conversation another state.
 *
 * @param expected the state it must still have; gives false where it has another
 */
export async function changeState(
  database: Database,
  conversation: string,
  state: object,
  expected: object,
): Promise<boolean> {
  const done = await rows(
    database,
    `INSERT INTO states (conversation, state) SELECT ?, ?::jsonb WHERE ?::jsonb = '{}' OR EXISTS (SELECT 1 FROM states WHERE conversation = ?)
     ON CONFLICT (conversation) DO UPDATE SET state = excluded.state WHERE states.state = ?::jsonb RETURNING conversation`,
    [conversation, JSON.stringify(state), JSON.stringify(expected), conversation, JSON.stringify(expected)],
  )
  return done.length > 0
}

/**
 * Says who answers in a conversation.
 *
 * @param taker the person who answers from now on, where it is taken by one
 */
export async function setAnsweredBy(
  database: Database,
  conversation: string,
  by: "bot" | "person",
  taker?: string,
): Promise<void> {
  await rows(
    database,
    `UPDATE conversations SET answered_by = ?, taken_by = ?, handed_at = CASE WHEN ? = 'person' THEN coalesce(handed_at, now()) END WHERE id = ?`,
    [by, by === "person" ? (taker ?? null) : null, by, conversation],
  )
  // What an answer was waited for is theirs to answer.
  if (by === "person") await endWaiting(database, [conversation])
}

/** When anybody last said something in a conversation `v`, or it was handed over. */
const lastTouched = `greatest(v.handed_at, (SELECT m.received_at FROM messages m WHERE m.conversation = v.id AND m.event <> 'interview'
  ORDER BY m.position DESC LIMIT 1))`

/** Conversations in which a person answers: the release of each, and for how many milliseconds it has been silent. */
export async function answeredByHand(
  database: Database,
  limit: number,
): Promise<{ id: string; release: string | null; silent: number }[]> {
  return rows(
    database,
    `SELECT v.id, (${releaseOfLane}) AS release, (extract(epoch FROM now() - ${lastTouched}) * 1000)::float8 AS silent
     FROM conversations v JOIN channels c ON c.key = v.channel
     WHERE v.answered_by = 'person' ORDER BY v.handed_at NULLS FIRST LIMIT ?`,
    [limit],
  )
}

/** Lets the bot answer again, if it is still as silent as it was seen. Gives whether it was. */
export async function giveBack(database: Database, conversation: string, silent: number): Promise<boolean> {
  const done = await rows(
    database,
    `UPDATE conversations v SET answered_by = 'bot', taken_by = NULL, handed_at = NULL
     WHERE v.id = ? AND v.answered_by = 'person' AND ${lastTouched} <= now() - ?::float8 * interval '1 millisecond' RETURNING id`,
    [conversation, silent],
  )
  return done.length > 0
}

/** Takes a conversation that waits for a person, unless another has it. Gives who has it. */
export async function takeConversation(
  database: Database,
  conversation: string,
  taker: string,
): Promise<string | undefined> {
  const [found] = await rows<{ takenBy: string }>(
    database,
    `WITH taken AS (
       UPDATE conversations SET answered_by = 'person', taken_by = ?, handed_at = coalesce(handed_at, now())
       WHERE id = ? AND (taken_by IS NULL OR taken_by = ?) RETURNING taken_by
     )
     SELECT taken_by AS "takenBy" FROM taken UNION ALL SELECT taken_by FROM conversations WHERE id = ? LIMIT 1`,
    [taker, conversation, taker, conversation],
  )
  if (found?.takenBy === taker) await endWaiting(database, [conversation])
  return found?.takenBy
}

/** Conversations that wait for a person, of which the desk has not been told yet, with the release that answers them. */
export async function newlyWaiting(
  database: Database,
  limit: number,
): Promise<(ConversationRow & { release: string | null })[]> {
  const found = await rows<{ id: string; release: string | null }>(
    database,
    `SELECT v.id, (${releaseOfLane}) AS release FROM conversations v JOIN channels c ON c.key = v.channel
     WHERE v.answered_by = 'person' AND ${notTold} ORDER BY v.handed_at LIMIT ?`,
    [limit],
  )
  const releases = new Map(found.map(({ id, release }) => [id, release]))
  const shown = await conversationsById(database, [...releases.keys()])
  return shown.map((row) => ({ ...row, release: releases.get(row.id)! }))
}

/** What people said last in these conversations. */
export async function lastHeard(database: Database, conversations: string[]): Promise<Map<string, string>> {
  const found = await rows<{ id: string; words: string }>(
    database,
    `SELECT i.id, m.words FROM unnest(?::text[]) i (id) CROSS JOIN LATERAL (
       SELECT left(words, 300) AS words FROM messages WHERE conversation = i.id AND direction = 'in' AND event <> 'interview'
       ORDER BY position DESC LIMIT 1) m`,
    [conversations],
  )
  return new Map(found.map(({ id, words }) => [id, words]))
}

/** Whether a person has said something in a conversation within so many minutes. */
export async function spokeWithin(database: Database, conversation: string, minutes: number): Promise<boolean> {
  const [found] = await rows<{ at: Date }>(
    database,
    `SELECT received_at AS at FROM messages WHERE conversation = ? AND direction = 'in' AND event <> 'interview'
     ORDER BY position DESC LIMIT 1`,
    [conversation],
  )
  return found !== undefined && Date.now() - found.at.getTime() < minutes * 60_000
}

/** Of a conversation that a person answers: nobody has taken it, and the desk has not been told. */
export const notTold =
  "v.taken_by IS NULL AND v.handed_at IS NOT NULL AND (v.told_at IS NULL OR v.told_at < v.handed_at)"

/** Notes that the desk is told. Gives false where another was first, or nobody waits any more. */
export async function noteTold(database: Database, conversation: string): Promise<boolean> {
  const done = await rows(
    database,
    `UPDATE conversations v SET told_at = now() WHERE v.id = ? AND v.answered_by = 'person' AND ${notTold} RETURNING 1`,
    [conversation],
  )
  return done.length > 0
}

/** Conversations in which a person answers, the one handed over first first. */
export async function waitingConversations(database: Database, limit: number): Promise<ConversationRow[]> {
  const found = await rows<{ id: string }>(
    database,
    "SELECT id FROM conversations WHERE answered_by = 'person' ORDER BY handed_at NULLS FIRST, id LIMIT ?",
    [limit],
  )
  const ids = found.map(({ id }) => id)
  const shown = new Map((await conversationsById(database, ids)).map((row) => [row.id, row]))
  // What somebody wants says more than what they were told last: that they are handed over.
  const heard = await lastHeard(database, ids)
  return ids.flatMap((id) => {
    const [row, words] = [shown.get(id), heard.get(id)]
    return row ? [words === undefined ? row : { ...row, lastText: words, lastDirection: "in" }] : []
  })
}

/** What is said where, and whether that is wanted. */
export async function placeToTell(
  database: Database,
  conversation: string,
): Promise<
  | {
      address: string
      kind: string
      title: string | null
      topic: string | null
      unwanted: boolean
      forgotten: boolean
      blocked: boolean
      language: string | null
      name: string | null
      fields: { [field: string]: unknown }
    }
  | undefined
> {
  const [found] = await rows<never>(
    database,
    `SELECT v.address, v.kind, v.title, v.topic, (v.opted_out IS NOT NULL OR v.no_notices IS NOT NULL) AS unwanted,
       v.forgotten_at IS NOT NULL AS forgotten, coalesce(k.blocked_at IS NOT NULL, false) AS blocked, a.language, coalesce(k.name, a.name) AS name, coalesce(k.fields, '{}') AS fields
     FROM conversations v LEFT JOIN addresses a ON a.channel = v.channel AND a.address = v.address
     LEFT JOIN contacts k ON k.id = a.contact WHERE v.id = ?`,
    [conversation],
  )
  return found
}
