import type { Database } from "./database.ts"
import { rows } from "./database.ts"

export interface ConversationRow {
  id: string
  channel: string
  address: string
  kind: string
  title: string | null
  topic: string | null
  contact: string | null
  answeredBy: string
  createdAt: Date
  /** Since when the person wants to be sent nothing more. */
  optedOut: Date | null
  lastAt: Date | null
  lastText: string | null
  lastDirection: string | null
  lastMessage: string | null
  lastIntake: string | null
  messages: number
  unsent: number
  parked: number
}

// Ordered by work.last_id, which has no index on purpose: it changes with every message, and an index would make each
// of those updates write every index of the row. Sorting 100,000 narrow rows takes some 40 ms.
const view = `
  SELECT v.id, v.channel, v.address, v.kind, v.title, v.topic, v.contact, v.answered_by AS "answeredBy", v.created_at AS "createdAt", v.opted_out AS "optedOut",
    w.last_id AS "lastMessage", coalesce(w.next_position - 1, 0) AS messages, 
    (SELECT count(*) FROM outbox o WHERE o.conversation = v.id) AS unsent,
    m.received_at AS "lastAt", left(m.words, 300) AS "lastText", m.direction AS "lastDirection", m.intake AS "lastIntake",
    (SELECT count(*) FROM parked p WHERE p.conversation = v.id AND p.decided_at IS NULL) AS parked
  FROM conversations v LEFT JOIN work w ON w.conversation = v.id LEFT JOIN messages m ON m.id = w.last_id`

/** The one that last had something said first. */
export async function listConversations(
  database: Database,
  filter: { channel?: string; text?: string; kind?: string; below?: string; limit: number },
): Promise<ConversationRow[]> {
  const wheres = ["true"]
  const values: unknown[] = []
  if (filter.channel !== undefined) (wheres.push("v.channel = ?"), values.push(filter.channel))
  if (filter.kind !== undefined) (wheres.push("v.kind = ?"), values.push(filter.kind))
  if (filter.text !== undefined) {
    wheres.push("(v.title ILIKE ? OR v.address = ? OR v.id = ?)")
    values.push(`%${filter.text.replace(/[\\%_]/g, "\\$&")}%`, filter.text, filter.text)
  }
  if (filter.below !== undefined) (wheres.push("coalesce(w.last_id, '') < ?"), values.push(filter.below))
  return rows<ConversationRow>(
    database,
    `${view} WHERE ${wheres.join(" AND ")} ORDER BY w.last_id DESC NULLS LAST LIMIT ?`,
    [...values, filter.limit],
  )
}

export async function conversationById(database: Database, id: string): Promise<ConversationRow | undefined> {
  return (await rows<ConversationRow>(database, `${view} WHERE v.id = ?`, [id]))[0]
}

/** The conversation a provider's address stands for, on one channel or on any. */
export async function conversationAt(
  database: Database,
  address: string,
  channel?: string,
): Promise<ConversationRow[]> {
  return rows<ConversationRow>(
    database,
    `${view} WHERE v.id IN (SELECT conversation FROM places WHERE address = ? AND topic = '' ${channel ? "AND channel = ?" : ""})`,
    channel ? [address, channel] : [address],
  )
}

/** Somebody who ever spoke on a channel, in a conversation of their own or in a group. */
export interface PersonRow {
  channel: string
  address: string
  name: string | null
  handle: string | null
  contact: string
  /** The conversation with them alone, where there is one. */
  conversation: string | null
}

export async function listPeople(
  database: Database,
  filter: { channel?: string; text?: string; address?: string; after?: string; limit: number },
): Promise<PersonRow[]> {
  const wheres = ["true"]
  const values: unknown[] = []
  if (filter.channel !== undefined) (wheres.push("a.channel = ?"), values.push(filter.channel))
  if (filter.address !== undefined) (wheres.push("a.address = ?"), values.push(filter.address))
  if (filter.text !== undefined) {
    const like = `%${filter.text.replace(/[\\%_]/g, "\\$&")}%`
    wheres.push("(a.name ILIKE ? OR a.handle ILIKE ? OR a.address = ?)")
    values.push(like, like, filter.text)
  }
  if (filter.after !== undefined) {
    const [channel, address] = filter.after.split(" ", 2)
    wheres.push("(a.channel, a.address) > (?, ?)")
    values.push(channel, address ?? "")
  }
  return rows<PersonRow>(
    database,
    `SELECT a.channel, a.address, a.name, a.handle, a.contact, p.conversation
     FROM addresses a LEFT JOIN places p ON p.channel = a.channel AND p.address = a.address AND p.topic = ''
     WHERE ${wheres.join(" AND ")} ORDER BY a.channel, a.address LIMIT ?`,
    [...values, filter.limit],
  )
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

/** Forgets a conversation's state; what was said stays. */
export async function resetState(database: Database, conversation: string): Promise<void> {
  await rows(database, "DELETE FROM states WHERE conversation = ?", [conversation])
}

export async function setAnsweredBy(database: Database, conversation: string, by: "bot" | "person"): Promise<void> {
  await rows(database, "UPDATE conversations SET answered_by = ? WHERE id = ?", [by, conversation])
}
