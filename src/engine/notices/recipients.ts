import leven from "leven"
import { kindOf } from "../../core/channels/registry.ts"
import type { NoticeRule, Told } from "../../core/notice/notice.ts"
import { namedIn } from "../../core/notice/notice.ts"
import type { Database } from "../../store/database.ts"
import type { MarkOf } from "../../store/directory.ts"
import { conversationsAt } from "../../store/directory.ts"
import { conversationAt } from "../../store/conversations.ts"
import type { KnownPerson } from "../../store/people.ts"
import { ownPlaces, peopleByField, peopleLike, peopleNamed, peopleTagged } from "../../store/people.ts"
import type { Channels } from "../channels.ts"
import { addressOn } from "../channels.ts"

/** Somebody an event is told, or who is meant and cannot be. */
export type Found =
  /** @property conversation null for a place nothing was said in yet, where it is only looked at */
  | { contact?: string; conversation: string | null; channel: string; place?: string }
  | { named: string; contact?: string; why: string; is: "unmatched" | "refused" }

/** @property markOf left out where it is only looked at: then no place is made */
interface Looking {
  database: Database
  channels: Channels
  markOf?: MarkOf
}

type Missing = Extract<Found, { is: string }>

/** Whom an event is told by one of a bot's notices; each place once. */
export async function foundFor(
  parts: Looking,
  { tell, match }: NoticeRule,
  of: { bot: string; lane: string; data: { [field: string]: unknown } },
): Promise<Found[]> {
  const found = new Map<string, Found>()
  const add = (key: string, one: Found) => {
    if (!found.has(key)) found.set(key, one)
  }
  for (const told of tell) {
    if (told.place !== undefined) {
      const one = await placeOf(parts, { place: told.place, channel: told.channel! })
      add(("conversation" in one && one.conversation) || told.place, one)
      continue
    }
    const { contacts, missing } = await contactsOf(parts.database, told, match, of.data)
    for (const one of missing) add(`? ${one.named}`, one)
    const places = await ownPlaces(parts.database, contacts, { ...of, channel: told.channel })
    const reached = new Set(places.map(({ contact }) => contact))
    for (const { contact, conversation, channel } of places) add(conversation, { contact, conversation, channel })
    const left = contacts.filter((contact) => !reached.has(contact))
    const names = new Map((await peopleNamed(parts.database, left)).map((one) => [one.contact, one.name]))
    const where = told.channel === undefined ? "on no channel" : `on no conversation of ${told.channel}`
    for (const contact of left)
      add(contact, {
        named: names.get(contact) ?? contact,
        contact,
        is: "refused",
        why: `they talk with the bot by themselves ${where}`,
      })
  }
  return [...found.values()]
}

async function placeOf(
  { database, channels, markOf }: Looking,
  { place, channel }: { place: string; channel: string },
): Promise<Found> {
  const known = channels.get(channel)
  if (!known) return { named: place, is: "refused", why: `there is no channel ${channel}` }
  const address = addressOn(known, place)
  if (!markOf) {
    const [found] = await conversationAt(database, address, channel)
    return { conversation: found?.id ?? null, channel, place }
  }
  const kind = kindOf(known.row.kind).placeKind?.(address) ?? ("direct" as const)
  const [conversation] = await conversationsAt(database, [{ channel, place: { address, kind } }], markOf)
  return { conversation: conversation!, channel, place }
}

async function contactsOf(
  database: Database,
  told: Told,
  match: string,
  data: { [field: string]: unknown },
): Promise<{ contacts: string[]; missing: Missing[] }> {
  if (told.tag !== undefined) return { contacts: await peopleTagged(database, told.tag), missing: [] }
  if (told.contact !== undefined) {
    const [known] = await peopleNamed(database, [told.contact])
    if (known) return { contacts: [told.contact], missing: [] }
    return { contacts: [], missing: [{ named: told.contact, is: "unmatched", why: "there is no such contact" }] }
  }
  const named = namedIn(data, told.person!)
  if (named.length === 0)
    return {
      contacts: [],
      missing: [{ named: told.person!, is: "unmatched", why: `the event names nobody under "${told.person}"` }],
    }
  const known = await peopleByField(database, match, named)
  const values = new Set(known.map(({ value }) => value))
  const missing = named
    .filter((value) => !values.has(value.toLowerCase()))
    .map((value) => ({ named: value, is: "unmatched" as const, why: `nobody's field "${match}" is ${value}` }))
  return { contacts: known.map(({ contact }) => contact), missing }
}

/** The people an event's texts name, by what it calls them. */
export async function namedPeople(
  database: Database,
  { people = {}, match }: NoticeRule,
  data: { [field: string]: unknown },
): Promise<Map<string, KnownPerson>> {
  const values = Object.values(people).flatMap((path) => namedIn(data, path))
  if (values.length === 0) return new Map()
  return new Map((await peopleByField(database, match, values)).map((one) => [one.value, one]))
}

/** Somebody who may be meant by a value that nobody has, and what would make them match. */
export interface Like {
  contact: string
  name: string | null
  /** In words. */
  would: string
}

/** Letters of a value that are compared. */
const longestCompared = 80

/**
 * People who may be meant by values that nobody has, by value: whose field is nearly the same, or whose name stands in it.
 * Looked for among the newest 2,000.
 */
export async function likeFor(database: Database, match: string, values: string[]): Promise<Map<string, Like[]>> {
  const people = values.length > 0 ? await peopleLike(database, match) : []
  return new Map(values.map((value) => [value, likeAmong(people, match, value)]))
}

function likeAmong(people: Awaited<ReturnType<typeof peopleLike>>, match: string, value: string): Like[] {
  const wanted = value.toLowerCase().slice(0, longestCompared)
  const words = new Set((wanted.split("@")[0] ?? "").split(/[^\p{L}\p{N}]+/u).filter((word) => word.length > 2))
  const ranked = people.flatMap(({ contact, name, value: held }) => {
    const other = held?.toLowerCase().slice(0, longestCompared)
    const isNear = other !== undefined && Math.abs(other.length - wanted.length) <= 2
    const distance = isNear ? leven(other, wanted) : 99
    const shared = plain(name ?? "")
      .split(/\s+/)
      .filter((word) => words.has(word)).length
    const rank = distance <= 2 ? distance : shared > 0 ? 4 - Math.min(shared, 2) : 99
    const would = `set their field "${match}" to ${value}${held === null ? "" : ` (it is ${held})`}`
    return rank < 99 ? [{ rank, contact, name, would }] : []
  })
  return ranked
    .sort((one, another) => one.rank - another.rank)
    .slice(0, 3)
    .map(({ rank: _rank, ...like }) => like)
}

function plain(name: string): string {
  return name.normalize("NFKD").replace(/\p{M}/gu, "").toLowerCase()
}
