import { isoMilliseconds, saidText } from "../../message/command.ts"
import type { JsonObject } from "../../message/json.ts"
import { idAt, isObject, listAt, numberAt, objectAt, readStorableJson, textAt } from "../../message/json.ts"
import type { Media, MediaKind, Message, Place } from "../../message/message.ts"
import type { Channel, Parsed, ParsedMessage } from "../kind.ts"
import type { InboundCall } from "../call.ts"
import { nothingParsed } from "../kind.ts"

/** Reads one call of the Messenger platform: any number of entries and events. Nothing here throws. */
export function parse(inbound: InboundCall, channel: Channel): Parsed {
  const parsed = nothingParsed()
  if (inbound.method === "GET") return { ...parsed, notes: ["the provider's handshake"] }
  let body: unknown
  try {
    body = readStorableJson(inbound.body)
  } catch (error) {
    return { ...parsed, unreadable: `the body is not JSON: ${(error as Error).message.slice(0, 200)}` }
  }
  if (!isObject(body) || !Array.isArray(body.entry)) return { ...parsed, unreadable: "the body has no entry" }
  if (body.object !== "page") parsed.notes.push(`the object is "${String(textAt(body, "object"))}", not page`)
  for (const entry of body.entry) {
    const page = idAt(entry, "id")
    if (page !== undefined && page !== channel.settings.pageId) {
      parsed.notes.push(`for the page ${page}, which is not this channel's`)
      continue
    }
    for (const event of listAt(entry, "messaging")) readEvent(event, parsed)
    for (const event of listAt(entry, "standby")) readEvent(event, parsed, "another application holds the conversation")
    for (const change of listAt(entry, "changes"))
      parsed.notes.push(`${textAt(change, "field") ?? "(no field)"}: an event of the page, no message`)
  }
  return parsed
}

/** @param silent why nothing may answer what is in it. */
function readEvent(event: unknown, parsed: Parsed, silent?: string): void {
  if (!isObject(event)) {
    parsed.notes.push("an event that is not an object")
    return
  }
  const sender = idAt(objectAt(event, "sender"), "id")
  const name = Object.keys(event).find((key) => !frame.has(key) && isObject(event[key])) ?? "(empty)"
  const content = objectAt(event, name) ?? {}
  if (name === "delivery" || name === "read") return readMarks(name, content, sender, parsed)
  if (name === "message" && content.is_echo === true) return readEcho(event, content, parsed)
  if (name === "policy_enforcement") return readEnforcement(content, parsed)
  if (sender === undefined) {
    parsed.notes.push(`${name}: an event without a sender`)
    return
  }
  const at = isoMilliseconds(event.timestamp)
  const place: Place = { address: sender, kind: "direct" }
  const message = contentOf(name, content) as Message
  message.place = place
  message.from = { address: sender, bot: false }
  if (at) message.sentAt = at
  const read: ParsedMessage = { eventKey: keyOf(name, content, sender, event.timestamp), message }
  if (silent) read.own = silent
  parsed.messages.push(read)
}

const frame = new Set(["sender", "recipient", "timestamp", "priority_payload"])

/** Only a message and a postback are named by their `mid`; elsewhere it names what they are about. */
function keyOf(name: string, content: JsonObject, sender: string, timestamp: unknown): string {
  const mid = idAt(content, "mid")
  if (name === "message" && mid !== undefined) return content.is_deleted === true ? `deleted:${mid}` : mid
  if (name === "postback" && mid !== undefined) return `postback:${mid}`
  if (name === "message_edit") return `edit:${mid ?? sender}:${String(idAt(content, "num_edit") ?? timestamp)}`
  const about = [mid, textAt(content, "action"), textAt(content, "payload")].filter(Boolean).join(":")
  return `${name}:${sender}:${String(timestamp)}${about ? `:${about}` : ""}`
}

type Content = Omit<Message, "place">

function contentOf(name: string, content: JsonObject): Content {
  const mid = idAt(content, "mid")
  switch (name) {
    case "message": {
      // A deletion names what it is about, and nothing else.
      if (content.is_deleted === true) return { event: "deleted", ...(mid ? { replyTo: mid } : {}) }
      const read = messageContent(content)
      if (mid) read.providerId = mid
      if (content.referral !== undefined) Object.assign(read, referralIn(content))
      return read
    }
    case "postback": {
      const label = textAt(content, "title")
      const id = textAt(content, "payload")
      // Held by another application, a postback comes without its payload.
      if (id === undefined) return strange(name, label)
      return {
        event: "choice",
        choice: { id, ...(label ? { label } : {}) },
        ...(label ? { text: label } : {}),
        ...(mid ? { providerId: mid } : {}),
        ...referralIn(content),
      }
    }
    case "reaction": {
      const emoji = textAt(content, "emoji") ?? textAt(content, "reaction") ?? ""
      if (mid === undefined) return strange(name, emoji || undefined)
      return { event: "reaction", reaction: { emoji, removed: textAt(content, "action") === "unreact", to: mid } }
    }
    case "message_edit": {
      const text = textAt(content, "text")
      return { event: "edited", ...(text ? { text } : {}), ...(mid ? { replyTo: mid } : {}) }
    }
    case "referral":
      return { ...strange(name, undefined), ...referralIn({ referral: content }) }
    default:
      return { ...strange(name, textAt(content, "ref") ?? textAt(content, "text")), ...referralIn(content) }
  }
}

/** The link or advertisement that brought somebody here, with the word of ours that stood in it. */
function referralIn(content: JsonObject): Pick<Message, "referral"> {
  const given = objectAt(content, "referral") ?? (textAt(content, "ref") === undefined ? undefined : content)
  const ref = textAt(given, "ref")
  const source = textAt(given, "source")
  const id = idAt(given, "ad_id")
  const title = textAt(objectAt(given, "ads_context_data"), "ad_title")
  const referral = {
    ...(ref ? { ref } : {}),
    ...(source ? { source } : {}),
    ...(id ? { id } : {}),
    ...(title ? { title } : {}),
  }
  return Object.keys(referral).length > 0 ? { referral } : {}
}

/** The provider warns of the page, or takes away what it may do. */
function readEnforcement(content: JsonObject, parsed: Parsed): void {
  const action = textAt(content, "action") ?? "(no action)"
  const reason = textAt(content, "reason")
  parsed.notes.push(`policy_enforcement: ${action}`)
  if (action === "unblock") return
  const blocked = action === "block"
  parsed.alarms = [
    ...(parsed.alarms ?? []),
    {
      says: `Messenger ${blocked ? "has blocked the page from sending" : `has a warning for the page (${action})`}${reason ? `: ${reason}` : ""}`,
      remedy: "See the page's support inbox at the provider; appeal there, or change what the bot sends.",
      lockedOut: blocked,
    },
  ]
}

function strange(name: string, text: string | undefined): Content {
  return { event: "unknown", providerEvent: name, ...(text ? { text } : {}) }
}

function messageContent(content: JsonObject): Content {
  const text = textAt(content, "text")
  const picked = textAt(objectAt(content, "quick_reply"), "payload")
  const replyTo = idAt(objectAt(content, "reply_to"), "mid")
  const reply = replyTo ? { replyTo } : {}
  // Nearly all are a few words and nothing else.
  if (text !== undefined && picked === undefined && content.attachments === undefined) {
    const said: Content = saidText(text)
    if (replyTo) said.replyTo = replyTo
    return said
  }
  if (picked !== undefined)
    return {
      event: "choice",
      choice: { id: picked, ...(text ? { label: text } : {}) },
      ...(text ? { text } : {}),
      ...reply,
    }
  const attachments = listAt(content, "attachments").filter(isObject)
  const media = attachments.map(mediaOf).filter((one) => one !== undefined)
  if (media.length > 0) return { event: "media", media, ...(text ? { text } : {}), ...reply }
  const location = attachments.map(locationOf).find((one) => one !== undefined)
  if (location) return { event: "location", location, ...(text ? { text } : {}), ...reply }
  if (text !== undefined) return { ...saidText(text), ...reply }
  const [first] = attachments
  const words = [textAt(first, "title"), textAt(objectAt(first, "payload"), "url") ?? textAt(first, "url")]
  const said = words.filter(Boolean).join(" ")
  if (said && textAt(first, "type") === "fallback") return { event: "text", text: said, ...reply }
  return {
    ...strange(textAt(first, "type") ?? "message", said || undefined),
    ...reply,
  }
}

const mediaKinds: { [type: string]: MediaKind } = { image: "image", audio: "audio", video: "video", file: "file" }

function mediaOf(attachment: JsonObject): Media | undefined {
  const payload = objectAt(attachment, "payload")
  const kind = mediaKinds[textAt(attachment, "type") ?? ""]
  const ref = textAt(payload, "url")
  if (kind === undefined || ref === undefined) return undefined
  return { kind: payload?.sticker_id !== undefined ? "sticker" : kind, ref }
}

function locationOf(attachment: JsonObject): Message["location"] {
  const point = objectAt(objectAt(attachment, "payload"), "coordinates")
  const latitude = numberAt(point, "lat")
  const longitude = numberAt(point, "long")
  if (latitude === undefined || longitude === undefined) return undefined
  const name = textAt(attachment, "title")
  return { latitude, longitude, ...(name ? { name } : {}) }
}

function readMarks(status: "delivery" | "read", content: JsonObject, place: string | undefined, parsed: Parsed): void {
  const word = status === "delivery" ? "delivered" : "read"
  const upTo = isoMilliseconds(content.watermark)
  const at = upTo ? { at: upTo } : {}
  for (const mid of listAt(content, "mids"))
    if (typeof mid === "string" && mid !== "") parsed.statuses.push({ status: word, about: { id: mid }, ...at })
  if (upTo !== undefined && place !== undefined)
    parsed.statuses.push({ status: word, about: { upTo, place }, at: upTo })
  parsed.notes.push(`${word} up to ${upTo ?? "an unknown time"}`)
}

/** Our own words come back: they answer nothing, but show that a message arrived. */
function readEcho(event: JsonObject, content: JsonObject, parsed: Parsed): void {
  const mid = idAt(content, "mid")
  const to = idAt(objectAt(event, "recipient"), "id")
  const at = isoMilliseconds(event.timestamp)
  const mark = textAt(content, "metadata")
  if (mid === undefined || to === undefined) {
    parsed.notes.push("message: an echo without an id or a recipient")
    return
  }
  if (mark !== undefined && /^msg_\w+\.\d+$/.test(mark)) {
    parsed.statuses.push({ status: "sent", about: { id: mid, mark }, ...(at ? { at } : {}) })
    parsed.notes.push(`the echo of ${mark}`)
    return
  }
  const from = idAt(objectAt(event, "sender"), "id")
  const app = idAt(content, "app_id")
  const deleted = content.is_deleted === true
  const echo: ParsedMessage = {
    eventKey: deleted ? `echo:deleted:${mid}` : `echo:${mid}`,
    own: true,
    by: app === undefined ? "the page's own inbox" : `another application (${app})`,
    message: {
      ...(deleted ? { event: "deleted", replyTo: mid } : { ...messageContent(content), providerId: mid }),
      place: { address: to, kind: "direct" },
      ...(from ? { from: { address: from, bot: false } } : {}),
      ...(at ? { sentAt: at } : {}),
    },
  }
  parsed.messages.push(echo)
}
