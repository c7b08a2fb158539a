import { saidText } from "../../message/command.ts"
import { storableJson } from "../../message/graphemes.ts"
import { readStorableJson } from "../../message/json.ts"
import type { Media, MediaKind, Message } from "../../message/message.ts"
import type { Channel, InboundCall, Parsed } from "../kind.ts"
import { nothingParsed } from "../kind.ts"
import type { Source } from "./fields.ts"
import { at, fieldsIn, fillTemplate, formFields, textAt } from "./fields.ts"
import { e164, isShortCode } from "./numbers.ts"
import type { MessagePlaces, StatusPlaces, Where } from "./profile.ts"
import { profileOf } from "./shipped.ts"
import { wishIn } from "./stopWords.ts"

/** Reads a gateway's call as its profile says. Nothing here throws. */
export function parse(call: InboundCall, channel: Channel): Parsed {
  const parsed = nothingParsed()
  const { inbound } = profileOf(channel)
  const source = sourceOf(call, inbound.body)
  if ("unreadable" in source) return { ...parsed, unreadable: source.unreadable }
  const { status } = inbound
  if (status) {
    const shared = status.shared === undefined ? source : { json: at(source, status.shared, channel.settings) }
    for (const one of each(source, status, channel)) readStatus(one, shared, status, channel, parsed)
  }
  if (parsed.statuses.length + parsed.notes.length > 0) return parsed
  for (const one of each(source, inbound.message, channel)) readMessage(one, inbound.message, channel, parsed)
  if (parsed.messages.length + parsed.notes.length === 0)
    parsed.notes.push("a call of a sort the profile does not name; it is kept")
  return parsed
}

function sourceOf(call: InboundCall, body: "form" | "json"): Source | { unreadable: string } {
  const type = call.headers["content-type"] ?? ""
  // A gateway may fetch an address with everything in its query.
  if (call.body.length === 0) {
    const query = call.address.split("?")[1]
    if (query === undefined) return { unreadable: "the body is empty" }
    const fields = storableJson(formFields(new URLSearchParams(query)))
    return body === "form" ? { form: fields } : { json: fields }
  }
  if (body === "form" && !type.includes("json")) {
    const form = formFields(fieldsIn(call))
    // Decoding a form yields whole characters; only a NUL, escaped or not, may not be stored.
    return { form: mayHoldNul(call.body) ? storableJson(form) : form }
  }
  try {
    const json = readStorableJson(call.body)
    if (body === "json") return { json }
    const fields = Object.entries(json as object).filter(([, value]) => ["string", "number"].includes(typeof value))
    return { form: Object.fromEntries(fields.map(([name, value]) => [name, String(value)])) }
  } catch (error) {
    return { unreadable: `the body is not JSON: ${(error as Error).message.slice(0, 200)}` }
  }
}

function mayHoldNul(body: Uint8Array): boolean {
  const bytes = Buffer.from(body.buffer, body.byteOffset, body.byteLength)
  return bytes.includes(0) || bytes.includes("%00")
}

/** The things of one sort in a call. */
function each(
  source: Source,
  places: { each?: Where; when?: string[]; unless?: string[] },
  channel: Channel,
): Source[] {
  const { settings } = channel
  if (places.when?.some((one) => at(source, one, settings) === undefined)) return []
  if (places.unless?.some((one) => at(source, one, settings) !== undefined)) return []
  if (places.each === undefined) return [source]
  const found = at(source, places.each, settings)
  if (found === undefined) return []
  return (Array.isArray(found) ? (found as unknown[]) : [found]).map((json) => ({ json }))
}

function readMessage(source: Source, places: MessagePlaces, channel: Channel, parsed: Parsed): void {
  const { settings } = channel
  const given = textAt(source, places.from, settings)
  if (given === undefined) {
    if (places.each !== undefined || at(source, places.text, settings) !== undefined)
      parsed.notes.push("a message without a sender")
    return
  }
  const number = e164(given, settings.country as string | undefined)
  const bare = given.replace(/^(tel|sms|whatsapp):/i, "")
  const address = number ?? bare
  const id = textAt(source, places.id, settings)
  const name = textAt(source, places.name, settings)
  const replyTo = textAt(source, places.replyTo, settings)
  const sentAt = timeOf(at(source, places.time, settings))
  const content = contentOf(source, places, channel)
  const answered = textAt(source, places.optOut, settings)
  const wish = answered === undefined ? wishIn(content.text ?? "") : wishIn(answered)
  const noPath = number === undefined && !isShortCode(bare) && !/^acr:/i.test(given)
  const message: Message = {
    ...content,
    ...(wish ? { wish } : {}),
    ...(id ? { providerId: id } : {}),
    place: { address, kind: "direct", title: name ?? address },
    from: { address, bot: false, ...(name ? { name } : {}) },
    ...(replyTo ? { replyTo } : {}),
    ...(sentAt ? { sentAt } : {}),
  }
  const silent = noPath
    ? "its sender has no number to answer to"
    : wish === "help" && answered !== undefined
      ? "the gateway has answered the word itself"
      : undefined
  // Without an id of the gateway's own, every call tells of a message of its own.
  parsed.messages.push({ eventKey: id ?? "", message, ...(silent ? { own: silent } : {}) })
}

function contentOf(source: Source, places: MessagePlaces, channel: Channel): Omit<Message, "place"> {
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
  const count = Math.min(Number(textAt(source, media?.count, settings) ?? 0) || 0, 50)
  return Array.from({ length: count }, (_none, n): Media | undefined => {
    const ref = textAt(source, fillTemplate(media!.address, { n }), settings)
    const mime = textAt(source, fillTemplate(media!.mime, { n }), settings)
    return ref === undefined ? undefined : { kind: kindOfMime(mime), ref, ...(mime ? { mime } : {}) }
  }).filter((one) => one !== undefined)
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
