import type { Place, Sender } from "../core/message/message.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { newId } from "./ids.ts"
import { batch } from "./unnest.ts"

export interface PlaceKey {
  channel: string
  place: Place
  /** In a direct conversation, the person. */
  contact?: string
}

/** Keyed hash of an address on a channel, by which somebody who was forgotten is still sent nothing they did not want. */
export type MarkOf = (channel: string, address: string) => string

/** The conversations that places hold, in the order given; made where there is none yet. */
export async function conversationsAt(database: Database, places: PlaceKey[], markOf: MarkOf): Promise<string[]> {
  const wanted = batch(
    "p",
    places.map(({ channel, place, contact }) => ({
      id: newId("cnv"),
      channel,
      address: place.address,
      topic: place.topic ?? "",
      kind: place.kind,
      title: place.title,
      contact,
      mark: markOf(channel, place.address),
    })),
    {
      id: "text",
      channel: "text",
      address: "text",
      topic: "text",
      kind: "text",
      title: "text",
      contact: "text",
      mark: "text",
    },
  )
  await rows(
    database,
    `WITH p AS (SELECT * FROM ${wanted.sql}), made AS (
       INSERT INTO places (channel, address, topic, conversation)
       SELECT channel, address, topic, id FROM p ORDER BY channel, address, topic
       ON CONFLICT DO NOTHING RETURNING conversation
     ), wishes AS (
       DELETE FROM opt_outs o USING p JOIN made ON made.conversation = p.id
       WHERE o.channel = p.channel AND o.mark = p.mark RETURNING p.id, o.opted_out, o.no_notices
     )
     INSERT INTO conversations (id, channel, address, kind, title, topic, contact, opted_out, no_notices)
     SELECT p.id, p.channel, p.address, p.kind, p.title, nullif(p.topic, ''), p.contact, w.opted_out, w.no_notices
     FROM p JOIN made ON made.conversation = p.id LEFT JOIN wishes w ON w.id = p.id`,
    wanted.values,
  )
  const found = await rows<{ conversation: string }>(
    database,
    `SELECT l.conversation FROM ${wanted.sql} JOIN places l USING (channel, address, topic) ORDER BY p.ord`,
    wanted.values,
  )
  return found.map((row) => row.conversation)
}

/** What is known of somebody at an address. */
export async function addressOf(
  database: Database,
  channel: string,
  address: string,
): Promise<{ name?: string; handle?: string; language?: string } | undefined> {
  const [found] = await rows<{ known: { name?: string } }>(
    database,
    `SELECT jsonb_strip_nulls(jsonb_build_object('name', name, 'handle', handle, 'language', language)) AS known
     FROM addresses WHERE channel = ? AND address = ?`,
    [channel, address],
  )
  return found?.known
}

/** The conversation at a place, and whether it has no title yet. */
export async function titleOf(
  database: Database,
  channel: string,
  place: Place,
): Promise<{ conversation: string; title: string | null } | undefined> {
  const [found] = await rows<{ conversation: string; title: string | null }>(
    database,
    `SELECT v.id AS conversation, v.title FROM places p JOIN conversations v ON v.id = p.conversation
     WHERE p.channel = ? AND p.address = ? AND p.topic = ?`,
    [channel, place.address, place.topic ?? ""],
  )
  return found
}

/** Somebody who had opted out takes that back. */
export async function optIn(database: Database, conversation: string): Promise<void> {
  await rows(database, "UPDATE conversations SET opted_out = NULL WHERE id = ?", [conversation])
}

export async function renamePlace(database: Database, conversation: string, title: string): Promise<void> {
  await rows(database, "UPDATE conversations SET title = ? WHERE id = ?", [title, conversation])
}

/** A place was given another address: its conversations, topics too, are reached there from now on. */
export async function movePlace(database: Database, channel: string, from: string, to: string): Promise<void> {
  await database.transaction(async (step) => {
    const moved = await rows<{ conversation: string; topic: string }>(
      step,
      "SELECT conversation, topic FROM places WHERE channel = ? AND address = ?",
      [channel, from],
    )
    for (const { conversation, topic } of moved) {
      await rows(
        step,
        "INSERT INTO places (channel, address, topic, conversation) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
        [channel, to, topic, conversation],
      )
      await rows(
        step,
        `UPDATE conversations SET address = ? WHERE id = ? AND EXISTS (
           SELECT 1 FROM places WHERE channel = ? AND address = ? AND topic = ? AND conversation = conversations.id)`,
        [to, conversation, channel, to, topic],
      )
    }
  })
}

/** The contacts behind senders, in the order given; made where there is none yet, names kept current. */
export async function contactsOf(
  database: Database,
  senders: { channel: string; sender: Sender }[],
): Promise<string[]> {
  const wanted = batch(
    "s",
    senders.map(({ channel, sender }) => ({
      contact: newId("con"),
      channel,
      address: sender.address,
      name: sender.name,
      handle: sender.handle,
      language: sender.language,
    })),
    { contact: "text", channel: "text", address: "text", name: "text", handle: "text", language: "text" },
  )
  const found = await rows<{ channel: string; address: string; contact: string }>(
    database,
    `WITH s AS (SELECT DISTINCT ON (channel, address) * FROM ${wanted.sql} ORDER BY channel, address, ord DESC), kept AS (
       INSERT INTO addresses AS a (channel, address, contact, name, handle, language)
       SELECT channel, address, contact, name, handle, language FROM s
       ON CONFLICT (channel, address) DO UPDATE SET
         name = coalesce(excluded.name, a.name), handle = coalesce(excluded.handle, a.handle),
         language = coalesce(excluded.language, a.language)
       RETURNING channel, address, contact, name
     ), people AS (
       INSERT INTO contacts AS c (id, name) SELECT contact, name FROM kept
       ON CONFLICT (id) DO UPDATE SET name = excluded.name WHERE c.name IS DISTINCT FROM excluded.name
     )
     SELECT channel, address, contact FROM kept`,
    wanted.values,
  )
  const byAddress = new Map(found.map((row) => [`${row.channel} ${row.address}`, row.contact]))
  return senders.map(({ channel, sender }) => byAddress.get(`${channel} ${sender.address}`)!)
}

/** The addresses of people on a channel. */
export async function addressesOn(
  database: Database,
  channel: string,
  contacts: string[],
): Promise<Map<string, string>> {
  const found = await rows<{ contact: string; address: string }>(
    database,
    "SELECT contact, min(address) AS address FROM addresses WHERE channel = ? AND contact = ANY(?) GROUP BY contact",
    [channel, contacts],
  )
  return new Map(found.map(({ contact, address }) => [contact, address]))
}
