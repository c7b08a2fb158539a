import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** Tags and fields that are changed: tags to add and to take away, fields by name, null for one that is removed. */
export interface MarkChange {
  add: string[]
  remove: string[]
  fields?: { [field: string]: unknown }
}

const tagsAfter = `ARRAY(SELECT DISTINCT t FROM unnest(tags || ?::text[]) t WHERE t <> ALL(?::text[]) ORDER BY t)`

/** Of a person; undefined where there is none by that id. */
export async function markContact(
  database: Database,
  contact: string,
  { add, remove, fields = {} }: MarkChange,
): Promise<{ tags: string[]; fields: { [field: string]: unknown } } | undefined> {
  const [found] = await rows<{ tags: string[]; fields: { [field: string]: unknown } }>(
    database,
    `UPDATE contacts SET tags = ${tagsAfter}, fields = jsonb_strip_nulls(fields || ?::jsonb) WHERE id = ? RETURNING tags, fields`,
    [add, remove, JSON.stringify(fields), contact],
  )
  return found
}

/** Blocks a person, or lifts that; undefined where there is none by that id. */
export async function setBlocked(
  database: Database,
  contact: string,
  blocked: boolean,
): Promise<Date | null | undefined> {
  const [found] = await rows<{ blockedAt: Date | null }>(
    database,
    `UPDATE contacts SET blocked_at = CASE WHEN ? THEN coalesce(blocked_at, now()) END WHERE id = ? RETURNING blocked_at AS "blockedAt"`,
    [blocked, contact],
  )
  return found && found.blockedAt
}

/** Everybody who is blocked. */
export async function blockedContacts(database: Database): Promise<string[]> {
  const found = await rows<{ id: string }>(database, "SELECT id FROM contacts WHERE blocked_at IS NOT NULL")
  return found.map(({ id }) => id)
}

/** Of a place. */
export async function markConversation(
  database: Database,
  conversation: string,
  { add, remove }: MarkChange,
): Promise<string[]> {
  const [found] = await rows<{ tags: string[] }>(
    database,
    `UPDATE conversations SET tags = ${tagsAfter} WHERE id = ? RETURNING tags`,
    [add, remove, conversation],
  )
  return found?.tags ?? []
}

/** A contact by its id, or by an address on a channel. */
export async function contactAt(
  database: Database,
  person: string,
  channel: string | undefined,
): Promise<KnownContact | undefined> {
  const [found] = await rows<KnownContact>(
    database,
    `SELECT c.id AS contact, a.channel, a.address, a.name, a.handle, a.language, c.tags, c.fields, c.blocked_at AS "blockedAt"
     FROM addresses a JOIN contacts c ON c.id = a.contact
     WHERE (c.id = ? OR a.address = ?) ${channel === undefined ? "" : "AND a.channel = ?"} ORDER BY a.channel LIMIT 1`,
    [person, person, ...(channel === undefined ? [] : [channel])],
  )
  return found
}

export interface KnownContact {
  contact: string
  channel: string
  address: string
  name: string | null
  handle: string | null
  language: string | null
  tags: string[]
  fields: { [field: string]: unknown }
  blockedAt: Date | null
}
