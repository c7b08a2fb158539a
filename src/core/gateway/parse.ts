import type { Channel, Parsed } from "../channels/kind.ts"
import type { InboundCall } from "../channels/call.ts"
import { nothingParsed } from "../channels/kind.ts"
import { saidText } from "../message/command.ts"
import type { Media, MediaKind, Message } from "../message/message.ts"
import { contentOf } from "./content.ts"
import type { Source } from "./fields.ts"
import { allHold, anyHolds, at, fillTemplate, textAt } from "./fields.ts"
import { stateTold } from "./accountState.ts"
import { handshakeIn } from "./handshake.ts"
import { e164, isShortCode, wayIn } from "./numbers.ts"
import type { Conditions, MessagePlaces, StatusPlaces, Where } from "./profile.ts"
import { hasProfile, profileOf } from "./shipped.ts"

/** What a text asks of the sending itself, such as STOP; only where a kind obeys such words. */
export type Wishes = (text: string) => Message["wish"]

/** Reads a gateway's call as its profile says. Nothing here throws. */
export function parse(call: InboundCall, channel: Channel, wishes?: Wishes): Parsed {
  const parsed = nothingParsed()
  const { inbound } = profileOf(channel)
  if (!inbound) return { ...parsed, unreadable: "this channel only sends: its profile says nothing of calls" }
  if (inbound.handshake && handshakeIn(call, channel) !== undefined) {
    parsed.notes.push("a handshake: the address was checked")
    return parsed
  }
  const source = contentOf(call, inbound.body)
  if ("unreadable" in source) return { ...parsed, unreadable: source.unreadable }
  const told = stateTold(source, channel)
  if (told) {
    parsed.notes.push(`the gateway says the account is "${told.state}"`)
    if (told.alarm) parsed.alarms = [told.alarm]
    else parsed.recovered = `the gateway says the account is "${told.state}"`
    return parsed
  }
  const { status, ended } = inbound
  if (ended?.when.some((where) => at(source, where, channel.settings) !== undefined)) {
    const why = textAt(source, ended.why, channel.settings)
    parsed.notes.push("the gateway has ended the subscription")
    const says = `the gateway has ended the subscription by which it brings messages${why ? `: ${why}` : ""}`
    parsed.alarms = [{ says, remedy: "Subscribe again at the gateway, then check the channel.", lockedOut: false }]
    return parsed
  }
  if (status) {
    const shared = status.shared === undefined ? source : { json: at(source, status.shared, channel.settings) }
    for (const one of each(source, status, channel)) readStatus(one, shared, status, channel, parsed)
  }
  if (parsed.statuses.length + parsed.notes.length > 0) return parsed
  for (const one of each(source, inbound.message, channel)) readMessage(one, inbound.message, channel, parsed, wishes)
  if (parsed.messages.length + parsed.notes.length === 0)
    parsed.notes.push("a call of a sort the profile does not name; it is kept")
  return parsed
}

/** The things of one sort in a call. */
function each(
  source: Source,
  places: { each?: Where; when?: string[]; unless?: string[]; only?: Conditions },
  channel: Channel,
): Source[] {
  const { settings } = channel
  if (places.when?.some((one) => at(source, one, settings) === undefined)) return []
  if (places.unless?.some((one) => at(source, one, settings) !== undefined)) return []
  if (places.each === undefined) return allHold(source, places.only, settings) ? [source] : []
  const found = at(source, places.each, settings)
  if (found === undefined) return []
  return (Array.isArray(found) ? (found as unknown[]) : [found])
    .map((json) => ({ json }))
    .filter((one) => allHold(one, places.only, settings))
}

function readMessage(
  source: Source,
  places: MessagePlaces,
  channel: Channel,
  parsed: Parsed,
  wishes: Wishes | undefined,
): void {
  const { settings } = channel
  const given = textAt(source, places.from, settings)
  if (given === undefined) {
    if (places.each !== undefined || at(source, places.text, settings) !== undefined)
      parsed.notes.push("a message without a sender")
    return
  }
  const who = senderOf(given, channel)
  const id = textAt(source, places.id, settings)
  const name = textAt(source, places.name, settings)
  const replyTo = textAt(source, places.replyTo, settings)
  const quote = textAt(source, places.quote, settings)
  const sentAt = timeOf(at(source, places.time, settings))
  const content = eventIn(source, places, channel, id)
  const answered = textAt(source, places.optOut, settings)
  const wish = wishes?.(answered ?? content.message.text ?? "")
  const message: Message = {
    ...(replyTo ? { replyTo } : {}),
    ...(quote ? { quote: quote.slice(0, longestField) } : {}),
    ...content.message,
    ...(wish ? { wish } : {}),
    ...(id ? { providerId: id } : {}),
    place: placeOf(source, places, channel, { address: who.address, ...(name ? { name } : {}) }),
    from: { address: who.address, bot: false, ...(name ? { name } : {}) },
    ...(places.mention && anyHolds(source, places.mention, settings) ? { mentionsBot: true } : {}),
    ...(sentAt ? { sentAt } : {}),
    ...fieldsIn(source, places, channel),
  }
  const own = anyHolds(source, places.own, settings) || isOwnNumber(who.address, channel)
  const silent = who.noPath
    ? "its sender has no number to answer to"
    : wish === "help" && answered !== undefined
      ? "the gateway has answered the word itself"
      : own || undefined
  // Without an id of the gateway's own, every call tells of a message of its own.
  parsed.messages.push({ eventKey: content.key ?? id ?? "", message, ...(silent ? { own: silent } : {}) })
}

/** What happened, and what its repetition shares with it where that is not the message's id. */
function eventIn(
  source: Source,
  places: MessagePlaces,
  channel: Channel,
  id: string | undefined,
): { message: Omit<Message, "place">; key?: string } {
  const { settings } = channel
  const is = (change: { when?: string[]; only?: Conditions } | undefined): boolean =>
    change !== undefined &&
    (change.when ?? []).every((one) => at(source, one, settings) !== undefined) &&
    allHold(source, change.only, settings)
  const { reaction, edited, deleted } = places
  const to = textAt(source, reaction?.to, settings)
  if (reaction && to !== undefined && is(reaction)) {
    const emoji = textAt(source, reaction.emoji, settings) ?? ""
    const removed = emoji === "" || anyHolds(source, reaction.removed, settings)
    const time = textAt(source, places.time, settings) ?? ""
    const who = textAt(source, places.from, settings) ?? ""
    // Some gateways give a reaction the id of what it is about.
    const key = id === undefined || id === to ? { key: `${to}:reaction:${who}:${emoji}:${time}` } : {}
    return { message: { event: "reaction", reaction: { emoji, removed, to } }, ...key }
  }
  if (is(deleted)) {
    const about = textAt(source, deleted!.to, settings) ?? id
    const key = about === undefined ? {} : { key: `${about}:deleted` }
    return { message: { event: "deleted", ...(about ? { replyTo: about } : {}) }, ...key }
  }
  const said = saidIn(source, places, channel)
  if (!is(edited)) return { message: said }
  const about = textAt(source, edited!.to, settings) ?? id
  const version = textAt(source, places.time, settings) ?? said.text ?? ""
  const key = about !== undefined && (id === undefined || about === id) ? { key: `${about}:edited:${version}` } : {}
  return { message: { ...said, event: "edited", ...(about ? { replyTo: about } : {}) }, ...key }
}

/** Characters of one further field. */
const longestField = 2000

/** The call's other fields that the profile names, as far as they are there. */
function fieldsIn(
  source: Source,
  places: MessagePlaces,
  { settings }: Channel,
): { fields?: { [name: string]: string } } {
  const found = Object.entries(places.fields ?? {}).flatMap(([name, where]) => {
    const value = textAt(source, where, settings)
    return value === undefined ? [] : [[name, value.slice(0, longestField)] as const]
  })
  return found.length > 0 ? { fields: Object.fromEntries(found) } : {}
}

/** Whether a sender is the account itself: some gateways send back what it says. */
function isOwnNumber(address: string, channel: Channel): boolean {
  const { number, country } = channel.settings
  if (typeof number !== "string" || number === "") return false
  return address === number || address === e164(number, country as string | undefined)
}

function senderOf(given: string, channel: Channel): { address: string; noPath: boolean } {
  if (profileOf(channel).addresses === "names") return { address: given, noPath: false }
  const way = wayIn(given)
  // Bridges write numbers as addresses of their own, such as 447700900123@c.bridge.
  const plain = given.replace(/@[\w.]+$/, "")
  const number = e164(plain, channel.settings.country as string | undefined)
  const bare = way === undefined ? plain : plain.trim().slice(way.length + 1)
  const noPath = number === undefined && !isShortCode(bare) && !/^acr:/i.test(given)
  return { address: byWay(number ?? bare, way, channel), noPath }
}

/**
 * A number that is reached by another way than the channel's own keeps that way before it: its answers leave by it, and
 * what one person says by two ways are two conversations.
 */
function byWay(number: string, way: string | undefined, { settings }: Channel): string {
  const usual = typeof settings.addressPrefix === "string" ? settings.addressPrefix.replace(/:$/, "").toLowerCase() : ""
  const came = way === undefined || way === "tel" || way === "sms" ? "" : way
  if (came === usual) return number
  return `${came === "" ? "sms" : came}:${number}`
}

/** An address as it is kept, whatever form a person gave it in. */
export function gatewayAddress(given: string, channel: Channel): string {
  const bare = given.trim()
  // Until a channel has learned how its gateway speaks, an address is what it was written as.
  if (!hasProfile(channel)) return bare
  if (profileOf(channel).addresses === "names" || /^acr:/i.test(bare)) return bare
  // Without a way of its own it is meant in the channel's usual one.
  if (wayIn(bare) === undefined) return e164(bare, channel.settings.country as string | undefined) ?? bare
  return senderOf(bare, channel).address
}

function placeOf(
  source: Source,
  places: MessagePlaces,
  channel: Channel,
  sender: { address: string; name?: string },
): Message["place"] {
  const { settings } = channel
  const given = textAt(source, places.place, settings)
  const title = textAt(source, places.placeName, settings)
  if (given === undefined) return { address: sender.address, kind: "direct", title: sender.name ?? sender.address }
  const isGroup = places.groups !== undefined && given.includes(places.groups)
  if (isGroup || anyHolds(source, places.group, settings))
    return { address: given, kind: "group", ...(title ? { title } : {}) }
  const { address } = senderOf(given, channel)
  return { address, kind: "direct", title: title ?? sender.name ?? address }
}

function saidIn(source: Source, places: MessagePlaces, channel: Channel): Omit<Message, "place"> {
  const { settings } = channel
  const text = textAt(source, places.text, settings)
  const choice = textAt(source, places.choice?.id, settings)
  if (choice !== undefined) {
    const label = textAt(source, places.choice?.label, settings) ?? text
    return { event: "choice", choice: { id: choice, ...(label ? { label } : {}) }, ...(label ? { text: label } : {}) }
  }
  const media = mediaOf(source, places, settings)
  if (media.length > 0) return { event: "media", media, ...(text ? { text } : {}) }
  const latitude = Number(textAt(source, places.location?.latitude, settings) ?? Number.NaN)
  const longitude = Number(textAt(source, places.location?.longitude, settings) ?? Number.NaN)
  if (!Number.isNaN(latitude) && !Number.isNaN(longitude)) {
    const name = textAt(source, places.location?.name, settings)
    return {
      event: "location",
      location: { latitude, longitude, ...(name ? { name } : {}) },
      ...(text ? { text } : {}),
    }
  }
  return text === undefined ? { event: "unknown", providerEvent: "a message without words" } : saidText(text)
}

function mediaOf(source: Source, places: MessagePlaces, settings: Channel["settings"]): Media[] {
  const { media } = places
  if (!media) return []
  if ("each" in media) return listedMedia(source, media, textAt(source, places.id, settings), settings)
  const count = media.count === undefined ? 1 : Math.min(Number(textAt(source, media.count, settings) ?? 0) || 0, 50)
  return Array.from({ length: count }, (_none, n): Media | undefined => {
    const ref = textAt(source, fillTemplate(media.address, { n }), settings)
    const mime = textAt(source, fillTemplate(media.mime, { n }), settings)
    return ref === undefined ? undefined : { kind: kindOfMime(mime), ref, ...(mime ? { mime } : {}) }
  }).filter((one) => one !== undefined)
}

/** Pieces of a list; one without an address is fetched by its message's id and its own. */
function listedMedia(
  source: Source,
  media: Extract<NonNullable<MessagePlaces["media"]>, { each: unknown }>,
  message: string | undefined,
  settings: Channel["settings"],
): Media[] {
  const found = at(source, media.each, settings)
  const pieces = found === undefined ? [] : Array.isArray(found) ? (found as unknown[]) : [found]
  return pieces.slice(0, 50).flatMap((json): Media[] => {
    const piece = { json }
    const own = textAt(piece, media.id, settings)
    const ref = own === undefined ? textAt(piece, media.address, settings) : twoIds(message ?? "", own)
    if (ref === undefined) return []
    const mime = textAt(piece, media.mime, settings)
    const name = textAt(piece, media.name, settings)
    const size = Number(textAt(piece, media.size, settings) ?? Number.NaN)
    return [
      {
        kind: kindOfMime(mime),
        ref,
        ...(mime ? { mime } : {}),
        ...(name ? { name: name.slice(0, 500) } : {}),
        ...(Number.isFinite(size) ? { size } : {}),
      },
    ]
  })
}

/** How an attachment is named by the id of its message and its own. */
export function twoIds(message: string, attachment: string): string {
  return `${encodeURIComponent(message)}/${encodeURIComponent(attachment)}`
}

function kindOfMime(mime: string | undefined): MediaKind {
  const sort = mime?.split("/")[0]
  return sort === "image" || sort === "audio" || sort === "video" ? sort : "file"
}

function timeOf(value: unknown): string | undefined {
  const number =
    typeof value === "number" || (typeof value === "string" && /^\d+$/.test(value)) ? Number(value) : undefined
  const time = number === undefined ? new Date(String(value)) : new Date(number < 1e11 ? number * 1000 : number)
  return value === undefined || Number.isNaN(time.getTime()) ? undefined : time.toISOString()
}

function readStatus(source: Source, shared: Source, places: StatusPlaces, channel: Channel, parsed: Parsed): void {
  const { settings } = channel
  const word = textAt(source, places.status, settings)
  if (word === undefined || places.ignore?.includes(word)) return
  const id = textAt(source, places.id, settings) ?? textAt(shared, places.id, settings)
  const mark = textAt(shared, places.mark, settings)
  const status = Object.hasOwn(places.words, word) ? places.words[word] : undefined
  const why = textAt(source, places.why, settings)
  parsed.notes.push(`status ${word} of ${id ?? mark ?? "an unnamed message"}`)
  if (status === undefined || (id === undefined && mark === undefined)) return
  parsed.statuses.push({
    status,
    about: { ...(id ? { id } : {}), ...(mark ? { mark } : {}) },
    ...(why && status === "failed" ? { why: /^\d+$/.test(why) ? `the gateway's code ${why}` : why } : {}),
  })
}
