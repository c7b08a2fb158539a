import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { newId } from "./ids.ts"

/** One person, with the addresses they are known under and where they talk. */
export interface PersonRow {
  contact: string
  name: string | null
  tags: string[]
  fields: { [field: string]: unknown }
  blockedAt: Date | null
  addresses: { channel: string; address: string; name: string | null; handle: string | null; language: string | null }[]
  /** Those of their own; groups are not among them. */
  conversations: {
    id: string
    channel: string
    address: string
    answeredBy: string
    /** Since when they want to be sent nothing more there. */
    optedOut: string | null
    /** Since when they want nothing that starts here. */
    noNotices: string | null
    lastAt: string | null
    state: { [field: string]: unknown }
  }[]
  interviews: { id: string; conversation: string; handler: string; stands: string }[]
}

export async function personById(database: Database, contact: string): Promise<PersonRow | undefined> {
  const [found] = await rows<PersonRow>(
    database,
    `SELECT c.id AS contact, c.name, c.tags, c.fields, c.blocked_at AS "blockedAt",
       coalesce((SELECT jsonb_agg(jsonb_build_object('channel', a.channel, 'address', a.address, 'name', a.name, 'handle', a.handle,
         'language', a.language) ORDER BY a.channel, a.address) FROM addresses a WHERE a.contact = c.id), '[]') AS addresses,
       coalesce((SELECT jsonb_agg(jsonb_build_object('id', v.id, 'channel', v.channel, 'address', v.address, 'answeredBy', v.answered_by,
           'optedOut', v.opted_out, 'noNotices', v.no_notices, 'lastAt', m.received_at, 'state', coalesce(s.state, '{}')) ORDER BY m.id DESC NULLS LAST, v.id)
         FROM (SELECT id FROM conversations WHERE contact = c.id UNION
           SELECT o.id FROM addresses a JOIN places p ON p.channel = a.channel AND p.address = a.address AND p.topic = ''
             JOIN conversations o ON o.id = p.conversation AND o.kind = 'direct' WHERE a.contact = c.id) own
         JOIN conversations v ON v.id = own.id AND v.kind = 'direct' LEFT JOIN states s ON s.conversation = v.id
         LEFT JOIN work w ON w.conversation = v.id LEFT JOIN LATERAL (SELECT id, received_at FROM messages WHERE id = w.last_id) m ON true
       ), '[]') AS conversations,
       coalesce((SELECT jsonb_agg(jsonb_build_object('id', i.id, 'conversation', i.conversation, 'handler', i.handler, 'stands', i.stands) ORDER BY i.id)
         FROM interviews i WHERE i.who = c.id AND i.ended_at IS NULL), '[]') AS interviews
     FROM contacts c WHERE c.id = ?`,
    [contact],
  )
  return found
}

/**
 * Makes two people one: addresses, conversations and interviews of the other become the first's. Tags of both are kept;
 * of fields with one name, the first's. Gives false where one of them is not there.
 */
export async function joinPeople(database: Database, contact: string, other: string): Promise<boolean> {
  return database.transaction(async (step) => {
    const held = await rows<{ id: string }>(step, "SELECT id FROM contacts WHERE id = ANY(?) ORDER BY id FOR UPDATE", [
      [contact, other],
    ])
    if (held.length < 2) return false
    await rows(
      step,
      `UPDATE contacts c SET name = coalesce(c.name, o.name), fields = o.fields || c.fields, version = c.version + 1,
         tags = ARRAY(SELECT DISTINCT t FROM unnest(c.tags || o.tags) t ORDER BY t),
         blocked_at = coalesce(c.blocked_at, o.blocked_at)
       FROM contacts o WHERE c.id = ? AND o.id = ?`,
      [contact, other],
    )
    for (const [table, column] of [
      ["addresses", "contact"],
      ["conversations", "contact"],
      ["interviews", "who"],
    ] as const)
      await rows(step, `UPDATE ${table} SET ${column} = ? WHERE ${column} = ?`, [contact, other])
    await rows(step, "DELETE FROM contacts WHERE id = ?", [other])
    return true
  })
}

/**
 * Takes an address away from a person: whoever is behind it is somebody else from now on, known by nothing but that. The
 * interviews of its own conversation go along. Gives the new person's id, or nothing where the address is not theirs.
 */
export async function splitPerson(
  database: Database,
  contact: string,
  { channel, address }: { channel: string; address: string },
): Promise<string | undefined> {
  const made = newId("con")
  return database.transaction(async (step) => {
    const [moved] = await rows<{ name: string | null }>(
      step,
      "UPDATE addresses SET contact = ? WHERE contact = ? AND channel = ? AND address = ? RETURNING name",
      [made, contact, channel, address],
    )
    if (!moved) return undefined
    await rows(step, "INSERT INTO contacts (id, name) VALUES (?, ?)", [made, moved.name])
    const own = "channel = ? AND address = ? AND kind = 'direct'"
    await rows(step, `UPDATE conversations SET contact = ? WHERE ${own}`, [made, channel, address])
    await rows(
      step,
      `UPDATE interviews SET who = ? WHERE who = ? AND conversation IN (SELECT id FROM conversations WHERE ${own})`,
      [made, contact, channel, address],
    )
    return made
  })
}

/** A person, as applications know them. */
export interface KnownPerson {
  contact: string
  name: string | null
  fields: { [field: string]: unknown }
}

/** People whose field holds one of these values, letters of any case: by value. */
export async function peopleByField(
  database: Database,
  field: string,
  values: string[],
): Promise<(KnownPerson & { value: string })[]> {
  return rows(
    database,
    `SELECT id AS contact, name, fields, lower(fields->>?) AS value FROM contacts
     WHERE lower(fields->>?) = ANY(?) ORDER BY id`,
    [field, field, values.map((one) => one.toLowerCase())],
  )
}

/** People who might be meant by a value that nobody has: those with the field, and those without it, the newest first. */
export async function peopleLike(
  database: Database,
  field: string,
): Promise<(KnownPerson & { value: string | null })[]> {
  return rows(
    database,
    `SELECT id AS contact, name, fields, fields->>? AS value FROM contacts WHERE name IS NOT NULL OR fields->>? IS NOT NULL
     ORDER BY id DESC LIMIT 2000`,
    [field, field],
  )
}

/** People with a tag. */
export async function peopleTagged(database: Database, tag: string): Promise<string[]> {
  const found = await rows<{ id: string }>(database, "SELECT id FROM contacts WHERE ? = ANY(tags) ORDER BY id", [tag])
  return found.map(({ id }) => id)
}

export async function peopleNamed(database: Database, contacts: string[]): Promise<KnownPerson[]> {
  return rows(database, "SELECT id AS contact, name, fields FROM contacts WHERE id = ANY(?)", [contacts])
}

/** Where somebody is told something. */
export interface OwnPlace {
  contact: string
  conversation: string
  channel: string
}

/** Where people talk by themselves with a bot: for each the conversation that spoke last and takes notices. */
export async function ownPlaces(
  database: Database,
  contacts: string[],
  { bot, lane, channel }: { bot: string; lane: string; channel?: string | undefined },
): Promise<OwnPlace[]> {
  return rows(
    database,
    `SELECT DISTINCT ON (a.contact) a.contact, v.id AS conversation, v.channel
     FROM addresses a
     JOIN places p ON p.channel = a.channel AND p.address = a.address AND p.topic = ''
     JOIN conversations v ON v.id = p.conversation AND v.kind = 'direct' AND v.forgotten_at IS NULL
     JOIN channels c ON c.key = v.channel AND c.removed_at IS NULL AND c.lane = ? AND (c.bot IS NULL OR c.bot = ?)
     LEFT JOIN work w ON w.conversation = v.id
     WHERE a.contact = ANY(?) ${channel === undefined ? "" : "AND v.channel = ?"}
     ORDER BY a.contact, (v.opted_out IS NULL AND v.no_notices IS NULL) DESC, w.last_id DESC NULLS LAST`,
    [lane, bot, contacts, ...(channel === undefined ? [] : [channel])],
  )
}
