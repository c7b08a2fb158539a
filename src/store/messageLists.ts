import type { Database } from "./database.ts"
import { hotRows, plannedRows, rows } from "./database.ts"
import { idAt, timeOf } from "./ids.ts"
import type { Looked, PageAsked, Step, Way } from "./lookThrough.ts"
import { lookThrough } from "./lookThrough.ts"
import type { MessageRow } from "./messages.ts"
import { inboundStatuses, messagesById, outboundStatuses } from "./messages.ts"

export interface MessageFilter extends PageAsked {
  channel?: string
  conversation?: string
  direction?: "in" | "out"
  event?: string
  status?: string
  doubtful?: boolean
  /** Taken by this route. */
  route?: string
  from?: Date
  to?: Date
  text?: string
  /** Only messages below this id: the cursor. */
  below?: string
}

/** Above and below every message's id. */
const above = "msg_~"
const beneath = "msg_"

/** The newest first: by their ids, and those of one conversation by their places in its line. */
export async function findMessages(database: Database, filter: MessageFilter): Promise<Looked<MessageRow>> {
  const range = rangeOf(filter)
  const only = filter.status === undefined ? undefined : directionOf(filter.status)
  if (only && filter.direction !== undefined && filter.direction !== only)
    return { rows: [], next: undefined, short: false }
  const asked = conditions(only ? { ...filter, direction: only } : filter)
  const ways = waysTo(database, filter, asked, range)
  const keeps = (row: MessageRow) =>
    (filter.status === undefined || row.status === filter.status) &&
    (filter.doubtful === undefined || row.doubtful === filter.doubtful) &&
    (filter.route === undefined || row.route === filter.route)
  return lookThrough(
    ways.map((way) => shown(database, way, keeps)),
    { ...filter, after: filter.below, cursor: (row) => row.id, descending: true },
  )
}

/** A way to ids as a way to what lists show of them. */
function shown(database: Database, way: Way<string>, keeps: (row: MessageRow) => boolean): Way<MessageRow> {
  return async (after, many) => {
    const step = await way(after, many)
    if (!step) return undefined
    const found = new Map((await messagesById(database, step.rows)).map((row) => [row.id, row]))
    return { rows: step.rows.flatMap((id) => found.get(id) ?? []).filter(keeps), reached: step.reached }
  }
}

/** Most statuses are of what came in alone, or of what went out. */
function directionOf(status: string): "in" | "out" | undefined {
  const inbound = (inboundStatuses as readonly string[]).includes(status)
  const outbound = (outboundStatuses as readonly string[]).includes(status)
  return inbound === outbound ? undefined : inbound ? "in" : "out"
}

/** Conditions on a message `m`, with their values. */
interface Conditions {
  sql: string
  values: (string | number)[]
}

/** Ids between which everything lies that a list may hold. */
interface Range {
  low: string
  high: string
  /** Ids that one step hands on at most, to be shown. */
  handedOn: number
}

/** Milliseconds by which a message's id may have been made before or after its time on record: by another machine's clock. */
const clocksDiffer = 5 * 60_000

/** By ids beside times, so that whole months are left out (1160 ms became 10). */
function rangeOf({ from, to, status, doubtful, route, limit }: MessageFilter): Range {
  return {
    // Of what is chosen only once it is shown, more than a page.
    handedOn: status === undefined && doubtful === undefined && route === undefined ? limit + 1 : 201,
    low: from ? idAt("msg", new Date(Math.max(0, from.getTime() - clocksDiffer))) : beneath,
    high: to ? idAt("msg", new Date(Math.max(0, to.getTime() + clocksDiffer))) : above,
  }
}

function conditions(filter: MessageFilter): Conditions {
  const wheres = ["true"]
  const values: (string | number)[] = []
  const add = (sql: string, value: string) => (wheres.push(sql), values.push(value))
  if (filter.channel !== undefined) add("m.channel = ?", filter.channel)
  if (filter.conversation !== undefined) add("m.conversation = ?", filter.conversation)
  if (filter.direction !== undefined) add("m.direction = ?", filter.direction)
  if (filter.event !== undefined) add("m.event = ?", filter.event)
  if (filter.from !== undefined) add("m.received_at >= ?::timestamptz", filter.from.toISOString())
  if (filter.to !== undefined) add("m.received_at < ?::timestamptz", filter.to.toISOString())
  const words = searchQuery(filter.text)
  if (words !== undefined) add("m.search @@ to_tsquery('simple', ?)", words)
  else if (filter.text !== undefined)
    add("m.words ILIKE ?", `%${filter.text.replaceAll("\0", "").replace(/[\\%_]/g, "\\$&")}%`)
  return { sql: wheres.join(" AND "), values }
}

/** Every word must be there; the last may be unfinished. */
function searchQuery(text: string | undefined): string | undefined {
  const words = text?.match(/[\p{L}\p{N}]+/gu)
  return words?.map((word) => `${word}:*`).join(" & ")
}

function waysTo(database: Database, filter: MessageFilter, asked: Conditions, range: Range): Way<string>[] {
  const { conversation, channel, event, status } = filter
  const walk = (sql: string, values: string[]) => walking(database, { sql, values }, asked, range)
  const narrow = (ids: Way<string>) => fitting(database, ids, asked)
  const ways: Way<string>[] = []
  if (filter.doubtful === true) ways.push(narrow(doubtful(database, range)))
  if (status !== undefined) ways.push(...standing(database, status, range).map(narrow))
  if (conversation !== undefined)
    return [
      ...ways.map((way) => inLineOf(database, conversation, way, range)),
      inConversation(database, conversation, asked, range),
    ]
  const rare = ways.length > 0 && !(status! in lines)
  if (event !== undefined && event !== "text") ways.push(walk("m.event = ? AND m.event <> 'text'", [event]))
  if (channel !== undefined) ways.push(walk("m.channel = ?", [channel]))
  const words = searchQuery(filter.text) !== undefined
  // What is rare has an index of its own, and a common word stands among the newest.
  if (!rare) ways.push(words ? atFirst(walk("true", [])) : walk("true", []))
  if (words) ways.push(byWords(database, asked, range))
  return ways
}

interface Chunk {
  ids: string[]
  least: string | null
  seen: number
}

function stepFrom({ ids, least, seen }: Chunk, many: number, handedOn: number): Step<string> {
  if (ids.length >= handedOn) return { rows: ids, reached: ids.at(-1) }
  return { rows: ids, reached: seen < many ? undefined : least! }
}

/** Steps by which a common word is found among the newest messages. */
const commonWithin = 2

/** A way that is left after its first steps. */
function atFirst(way: Way<string>): Way<string> {
  let steps = 0
  return async (after, many) => (++steps > commonWithin ? undefined : way(after, many))
}

/** A step through so many messages that an index leads to: those that fit, of each so many looked at. */
function chunks(
  database: Database,
  looked: { fits: string; from: string; order: string },
  { handedOn }: Range,
): (values: unknown[], many: number) => Promise<Chunk> {
  const sql = `WITH s AS MATERIALIZED (SELECT m.id, ${looked.order} AS place, ${looked.fits} AS fits FROM messages m WHERE ${looked.from} ORDER BY ${looked.order} DESC LIMIT ?)
    SELECT ARRAY(SELECT id FROM s WHERE fits ORDER BY place DESC LIMIT ?)::text[] AS ids, (SELECT id FROM s ORDER BY place LIMIT 1) AS least, (SELECT count(*) FROM s) AS seen`
  return async (values, many) => (await hotRows<Chunk>(database, sql, [...values, many, handedOn]))[0]!
}

/** Message by message, by the ids' own order or that of an index which ends in the id. */
function walking(database: Database, along: Conditions, asked: Conditions, range: Range): Way<string> {
  const { low, high, handedOn } = range
  const from = `${along.sql} AND m.id < ? AND m.id >= ?`
  const chunk = chunks(database, { fits: asked.sql, from, order: "m.id" }, range)
  return async (after, many) => {
    const values = [...asked.values, ...along.values, lower(after, high), low]
    return stepFrom(await chunk(values, many), many, handedOn)
  }
}

/**
 * Places in a conversation's line are given as messages are stored, and ids as they are made: of two processes, or of an
 * answer and what was said meanwhile, the later id may have the earlier place. So its pages follow the places alone.
 */
function inConversation(database: Database, conversation: string, asked: Conditions, range: Range): Way<string> {
  const { low, high } = range
  const from = "m.conversation = ? AND m.position < ?"
  const fits = `m.id < ? AND m.id >= ? AND ${asked.sql}`
  const chunk = chunks(database, { fits, from, order: "m.position" }, range)
  return async (after, many) => {
    const place = await placeInLine(database, conversation, after)
    // A cursor that names no message of this conversation says at least how old they are.
    const below = place === undefined ? lower(after, high) : high
    const values = [below, low, ...asked.values, conversation, place ?? Number.MAX_SAFE_INTEGER]
    const found = await chunk(values, many)
    if (found.least !== null && found.least < low) return { rows: found.ids, reached: undefined }
    return stepFrom(found, many, range.handedOn)
  }
}

/** What another way leads to, by the places in a conversation's line; no way where that is too much to be sorted. */
function inLineOf(database: Database, conversation: string, way: Way<string>, range: Range): Way<string> {
  return async (after, many) => {
    const whole: string[] = []
    let reached: string | undefined
    do {
      const step = await way(reached, many)
      if (!step || whole.length > longestLine) return undefined
      whole.push(...step.rows)
      reached = step.reached
    } while (reached !== undefined)
    const place = await placeInLine(database, conversation, after)
    const found = await hotRows<{ id: string }>(
      database,
      "SELECT i.id FROM unnest(?::text[]) i (id) CROSS JOIN LATERAL (SELECT position FROM messages WHERE id = i.id) m WHERE position < ? AND i.id < ? ORDER BY position DESC",
      [whole, place ?? Number.MAX_SAFE_INTEGER, place === undefined ? lower(after, range.high) : range.high],
    )
    return { rows: found.map((row) => row.id), reached: undefined }
  }
}

/** Where a message stands in a conversation's line; undefined where it isn't one of that conversation. */
async function placeInLine(database: Database, conversation: string, message: string | undefined) {
  if (message === undefined) return undefined
  const [found] = await hotRows<{ position: number }>(
    database,
    "SELECT position FROM messages WHERE id = ? AND conversation = ?",
    [message, conversation],
  )
  return found?.position
}

/** Some months of the record: ids below one and from another on, and the time in which they were made. */
interface Months {
  high: string
  low: string
  from: Date
  to: Date
}

/** Through an index that knows no order of ids, some months at a time: the newest alone, then three times as many a step. */
function byMonths(database: Database, range: Range, idsIn: (months: Months) => Promise<{ id: string }[]>): Way<string> {
  let count = 1
  let oldest: string | undefined
  return async (after) => {
    oldest ??=
      (await hotRows<{ id: string }>(database, "SELECT id FROM messages ORDER BY id LIMIT 1", []))[0]?.id ?? above
    const high = lower(after, range.high)
    const to = high === above ? new Date() : timeOf(high)
    // A cursor that is no id of ours: everything below it at once.
    const from = to === undefined ? new Date(0) : monthsBefore(to, count)
    count *= 3
    const begins = idAt("msg", from)
    const low = begins > range.low ? begins : range.low
    const ids = (await idsIn({ high, low, from, to: to ?? new Date() })).map((row) => row.id)
    if (ids.length >= range.handedOn) return { rows: ids, reached: ids.at(-1) }
    return { rows: ids, reached: low <= oldest || low <= range.low ? undefined : low }
  }
}

/** The beginning of a time's month, or of one so many less one before it. One that begins just then has the month before. */
function monthsBefore(time: Date, count: number): Date {
  const last = new Date(time.getTime() - 1)
  return new Date(Math.max(0, Date.UTC(last.getUTCFullYear(), last.getUTCMonth() + 1 - count, 1)))
}

/** By the words' own index. What one month holds of a common word is found sooner by walking. */
function byWords(database: Database, asked: Conditions, range: Range): Way<string> {
  let steps = 0
  const months = byMonths(database, range, ({ high, low }) =>
    plannedRows<{ id: string }>(
      database,
      // Apart from the order, for which the planner would walk: it takes every beginning of a word for common.
      `WITH f AS MATERIALIZED (SELECT m.id FROM messages m WHERE m.id < ? AND m.id >= ? AND ${asked.sql})
       SELECT id FROM f ORDER BY id DESC LIMIT ${range.handedOn}`,
      [high, low, ...asked.values],
    ),
  )
  // A month of a common word is a hundred thousand messages: the newest are looked at first.
  return async (after, many) =>
    ++steps <= commonWithin ? { rows: [], reached: lower(after, range.high) } : months(after, many)
}

/** Ids from a narrow table, of which those are kept that meet the conditions too. */
function fitting(database: Database, ids: Way<string>, asked: Conditions): Way<string> {
  if (asked.values.length === 0) return ids
  const sql = `SELECT i.id FROM unnest(?::text[]) i (id) CROSS JOIN LATERAL (SELECT * FROM messages m WHERE m.id = i.id) m WHERE ${asked.sql} ORDER BY i.id COLLATE "C" DESC`
  return async (after, many) => {
    const step = await ids(after, many)
    if (!step || step.rows.length === 0) return step
    const found = await hotRows<{ id: string }>(database, sql, [step.rows, ...asked.values])
    return { rows: found.map((row) => row.id), reached: step.reached }
  }
}

/** A step through a narrow table, which gives the ids of messages below one and above another, the newest first. */
function stepping(database: Database, sql: string, range: Range, values: string[] = []): Way<string> {
  return async (after, many) => {
    const most = Math.min(many, range.handedOn)
    const found = await hotRows<{ id: string }>(database, sql, [...values, lower(after, range.high), range.low, most])
    const ids = found.map((row) => row.id)
    return { rows: ids, reached: ids.length < most ? undefined : ids.at(-1) }
  }
}

const doubtful = (database: Database, range: Range) =>
  stepping(
    database,
    "SELECT DISTINCT message AS id FROM attempts WHERE outcome = 'unclear' AND message < ? AND message >= ? ORDER BY message DESC LIMIT ?",
    range,
  )

/** Ways to what stands in a rare state; none for what is common, and stands among the newest. */
function standing(database: Database, status: string, range: Range): Way<string>[] {
  const parked = (where: string) =>
    stepping(
      database,
      `SELECT DISTINCT message AS id FROM parked WHERE ${where} AND message < ? AND message >= ? ORDER BY message DESC LIMIT ?`,
      range,
    )
  switch (status) {
    case "handled":
    case "sent":
    case "delivered":
    case "read":
      return []
    case "parked":
      return [parked("decided_at IS NULL")]
    case "dropped":
      return [parked("decision = 'drop'")]
    case "failed":
      return [failed(database, range)]
    case "waiting":
    case "sending":
    case "being handled":
    case "retrying":
      return [inLine(database, status, range)]
    default:
      return [
        stepping(
          database,
          "SELECT DISTINCT message AS id FROM turns WHERE outcome = ? AND outcome <> 'handled' AND message < ? AND message >= ? ORDER BY message DESC LIMIT ?",
          range,
          [status],
        ),
      ]
  }
}

/** Longer lines than this are not sorted: then what waits stands among the newest. */
const longestLine = 2000

const lines: { [status: string]: string } = {
  // What is due has a time, and so has every line of a channel that is paused.
  waiting: `SELECT id FROM (
      SELECT m.id FROM (SELECT * FROM work WHERE due_at IS NOT NULL) w CROSS JOIN LATERAL (
        SELECT id FROM messages m WHERE m.conversation = w.conversation AND m.position > w.heard AND m.direction = 'in' ORDER BY m.position LIMIT ${longestLine}
      ) m
      UNION ALL SELECT r.message FROM (SELECT * FROM work WHERE due_at IS NOT NULL) w JOIN rejoined r ON r.conversation = w.conversation AND r.position > w.heard
      UNION ALL SELECT message FROM outbox WHERE state = 'waiting'
    ) line LIMIT ${longestLine + 1}`,
  retrying: `SELECT m.id FROM (SELECT * FROM work WHERE due_at IS NOT NULL AND tries > 0) w CROSS JOIN LATERAL (
      SELECT id FROM messages m WHERE m.conversation = w.conversation AND m.position > w.heard AND m.direction = 'in' ORDER BY m.position LIMIT ${longestLine}
    ) m LIMIT ${longestLine + 1}`,
  "being handled": `SELECT id FROM (
      SELECT unnest(messages) AS id FROM under_way UNION ALL SELECT jsonb_array_elements_text(turn->'messages') FROM waits WHERE kind IS NOT NULL
    ) busy LIMIT ${longestLine + 1}`,
  sending: `SELECT message AS id FROM outbox WHERE state = 'sending' LIMIT ${longestLine + 1}`,
}

/** What has not gone its way yet stands in the lines. They change all the time, and are read whole. */
function inLine(database: Database, status: string, range: Range): Way<string> {
  return async (after) => {
    const found = await rows<{ id: string }>(database, lines[status]!)
    if (found.length > longestLine) return undefined
    const high = lower(after, range.high)
    const ids = [...new Set(found.map((row) => row.id))]
      .filter((id) => id < high && id >= range.low)
      .sort()
      .reverse()
    const rest = ids.length > range.handedOn
    return { rows: ids.slice(0, range.handedOn), reached: rest ? ids[range.handedOn - 1] : undefined }
  }
}

/** Milliseconds after which no provider tells any more that a message has failed. */
const toldWithin = 31 * 86_400_000

/** What was refused, and what the provider told later had failed. */
function failed(database: Database, range: Range): Way<string> {
  return byMonths(database, range, ({ high, low, from, to }) =>
    hotRows<{ id: string }>(
      database,
      `SELECT DISTINCT message AS id FROM (
         SELECT message FROM attempts WHERE outcome <> 'accepted' AND message < ? AND message >= ?
         UNION ALL
         SELECT a.message FROM statuses s CROSS JOIN LATERAL (SELECT message FROM attempts WHERE trace = s.trace AND message < ? AND message >= ? OFFSET 0) a
         WHERE s.status = 'failed' AND s.intake >= ? AND s.intake < ?
       ) f ORDER BY message DESC LIMIT ?`,
      [...[high, low, high, low], idAt("itk", from), idAt("itk", new Date(to.getTime() + toldWithin)), range.handedOn],
    ),
  )
}

function lower(after: string | undefined, high: string): string {
  return after !== undefined && after < high ? after : high
}
