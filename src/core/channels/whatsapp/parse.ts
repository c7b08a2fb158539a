import { isoSeconds, saidText } from "../../message/command.ts"
import type { JsonObject } from "../../message/json.ts"
import { bounded, idAt, isObject, listAt, numberAt, objectAt, readStorableJson, textAt } from "../../message/json.ts"
import type { Contact, Media, MediaKind, Message, Sender } from "../../message/message.ts"
import type { Channel, Parsed, ParsedStatus } from "../kind.ts"
import type { InboundCall } from "../call.ts"
import { nothingParsed } from "../kind.ts"

/** Reads one call of the Cloud API: any number of entries, changes, messages and statuses. Nothing here throws. */
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
  if (body.object !== "whatsapp_business_account")
    parsed.notes.push(`the object is "${String(textAt(body, "object"))}", not whatsapp_business_account`)
  for (const entry of body.entry) {
    for (const change of listAt(entry, "changes")) readChange(entry, change, channel, parsed)
  }
  return parsed
}

function readChange(entry: unknown, change: unknown, channel: Channel, parsed: Parsed): void {
  const field = textAt(change, "field") ?? "(no field)"
  const value = objectAt(change, "value")
  if (!value) {
    parsed.notes.push(`${field}: a change without a value`)
    return
  }
  const number = idAt(objectAt(value, "metadata"), "phone_number_id")
  if (number !== undefined && number !== channel.settings.phoneNumberId) {
    // Every number of an app shares one address; what is another number's is another channel's.
    parsed.notes.push(`${field}: for the number ${number}, which is not this channel's`)
    return
  }
  switch (field) {
    case "messages":
      readMessages(value, parsed)
      return
    case "smb_message_echoes":
      readEchoes(value, parsed)
      return
    case "message_template_status_update":
      readTemplate(entry, value, parsed)
      return
    case "account_update":
    case "account_alerts":
    case "account_review_update":
    case "phone_number_quality_update":
    case "business_capability_update":
      readAccount(field, value, parsed)
      return
    case "history":
      parsed.notes.push("history: messages of the past are kept as they came and never answered")
      return
    default:
      parsed.notes.push(`${field}: an event Wobbet does not know; it is kept`)
  }
}

function readMessages(value: JsonObject, parsed: Parsed): void {
  const people = new Map<string, JsonObject>()
  for (const contact of listAt(value, "contacts")) {
    for (const id of [idAt(contact, "wa_id"), idAt(contact, "user_id")])
      if (id !== undefined && isObject(contact)) people.set(id, contact)
  }
  for (const message of listAt(value, "messages")) {
    const id = idAt(message, "id")
    const address = idAt(message, "from") ?? idAt(message, "user_id") ?? idAt(message, "from_user_id")
    if (!isObject(message) || id === undefined || address === undefined) {
      parsed.notes.push("messages: a message without an id or a sender")
      continue
    }
    const from = senderOf(address, people.get(address))
    const read = readMessage(message, id, from)
    // What the provider says of a message it could not read is not a word of the person's.
    const faults = listAt(message, "errors").map(errorWords).join("; ")
    if (faults) parsed.notes.push(`${textAt(message, "type") ?? "a message"} ${id}: ${faults}`)
    parsed.messages.push({ eventKey: id, message: read })
    const to = textAt(objectAt(message, "system"), "wa_id") ?? textAt(objectAt(message, "system"), "new_wa_id")
    if (to !== undefined && to !== address) parsed.moves.push({ from: address, to })
  }
  for (const status of listAt(value, "statuses")) {
    const read = readStatus(status)
    if ("status" in read) parsed.statuses.push(read)
    parsed.notes.push(read.note)
  }
  for (const error of listAt(value, "errors")) parsed.notes.push(`an error: ${errorWords(error)}`)
}

function senderOf(address: string, contact: JsonObject | undefined): Sender {
  const from: Sender = { address, bot: false }
  if (!contact) return from
  const profile = objectAt(contact, "profile")
  const name = textAt(profile, "name")
  const handle = textAt(profile, "username") ?? textAt(contact, "username")
  if (name) from.name = name
  if (handle) from.handle = handle
  return from
}

function readMessage(message: JsonObject, id: string, from: Sender): Message {
  // Field by field: spreading optional ones took a fifth of the time of reading a call.
  const read = contentOf(message) as Message
  read.providerId = id
  const group = idAt(message, "group_id")
  read.place = group === undefined ? { address: from.address, kind: "direct" } : { address: group, kind: "group" }
  if (from.name && group === undefined) read.place.title = from.name
  read.from = from
  const context = objectAt(message, "context")
  const replyTo = idAt(context, "id")
  if (replyTo) read.replyTo = replyTo
  const referral = objectAt(message, "referral")
  if (referral) read.referral = referralOf(referral)
  if (context?.forwarded === true || context?.frequently_forwarded === true) read.forwarded = {}
  const sentAt = isoSeconds(message.timestamp)
  if (sentAt) read.sentAt = sentAt
  return read
}

type Content = Omit<Message, "place">

const media: { [type: string]: MediaKind } = {
  image: "image",
  video: "video",
  audio: "audio",
  document: "file",
  sticker: "sticker",
}

function contentOf(message: JsonObject): Content {
  const type = textAt(message, "type") ?? Object.keys(media).find((name) => objectAt(message, name)) ?? "(no type)"
  const content = objectAt(message, type)
  const kind = media[type]
  if (kind) {
    const found = mediaOf(kind, content)
    return found
      ? { event: "media", media: [found], ...(found.caption ? { text: found.caption } : {}) }
      : strange(type, content)
  }
  switch (type) {
    case "text": {
      const text = textAt(content, "body")
      return text === undefined ? strange(type, content) : saidText(text)
    }
    case "location": {
      const latitude = numberAt(content, "latitude")
      const longitude = numberAt(content, "longitude")
      if (latitude === undefined || longitude === undefined) return strange(type, content)
      const name = textAt(content, "name")
      const address = textAt(content, "address")
      return {
        event: "location",
        location: { latitude, longitude, ...(name ? { name } : {}), ...(address ? { address } : {}) },
      }
    }
    case "contacts": {
      const contacts = listAt(message, "contacts")
        .map(contactOf)
        .filter((one) => one !== undefined)
      if (contacts.length === 0) return strange(type, content)
      return { event: "contact", contact: contacts[0]!, ...(contacts.length > 1 ? { contacts } : {}) }
    }
    case "interactive": {
      const picked = objectAt(content, "button_reply") ?? objectAt(content, "list_reply")
      const id = idAt(picked, "id")
      const filled = objectAt(content, "nfm_reply")
      if (filled) return formOf(filled)
      if (id === undefined) return strange(textAt(content, "type") ?? type, undefined)
      return chosen(id, textAt(picked, "title"))
    }
    case "button": {
      const label = textAt(content, "text")
      const id = textAt(content, "payload") ?? label
      return id === undefined ? strange(type, content) : chosen(id, label)
    }
    case "reaction": {
      const to = idAt(content, "message_id")
      const emoji = textAt(content, "emoji")
      if (to === undefined) return strange(type, content)
      return { event: "reaction", reaction: { emoji: emoji ?? "", removed: emoji === undefined, to } }
    }
    case "order": {
      const items = listAt(content, "product_items")
      if (items.length === 0) return strange(type, content)
      const text = textAt(content, "text")
      const catalog = idAt(content, "catalog_id")
      return {
        event: "form",
        form: { name: "order", fields: { ...(catalog ? { catalog } : {}), items: bounded(items) } },
        ...(text ? { text } : {}),
      }
    }
    case "edit": {
      const inner = objectAt(content, "message") ?? content
      const text = textAt(objectAt(inner, "text"), "body") ?? textAt(inner, "body")
      const to = idAt(content, "original_message_id") ?? idAt(content, "message_id")
      return { event: "edited", ...(text ? { text } : {}), ...(to ? { replyTo: to } : {}) }
    }
    case "revoke": {
      const to = idAt(content, "original_message_id") ?? idAt(content, "message_id")
      return { event: "deleted", ...(to ? { replyTo: to } : {}) }
    }
    default:
      return strange(type, content)
  }
}

function contactOf(card: unknown): Contact | undefined {
  const [phone] = listAt(card, "phones")
  const named = objectAt(card, "name")
  const name = textAt(named, "formatted_name") ?? textAt(named, "first_name")
  const number = textAt(phone, "phone")
  const address = textAt(phone, "wa_id")
  if (name === undefined && number === undefined) return undefined
  return { name: name ?? number!, ...(number ? { phone: number } : {}), ...(address ? { address } : {}) }
}

/** What was filled in comes as JSON within JSON. */
function formOf(filled: JsonObject): Content {
  const name = textAt(filled, "name")
  const text = textAt(filled, "body")
  let fields: unknown
  try {
    fields = bounded(readStorableJson(Buffer.from(textAt(filled, "response_json") ?? "{}")))
  } catch {
    // What nobody can read is kept as far as somebody may look at it.
    fields = { response_json: textAt(filled, "response_json")?.slice(0, 1000) }
  }
  return {
    event: "form",
    form: { ...(name ? { name } : {}), fields: isObject(fields) ? fields : { answer: fields } },
    ...(text ? { text } : {}),
  }
}

function referralOf(referral: JsonObject): NonNullable<Message["referral"]> {
  const ref = textAt(referral, "ref")
  const source = textAt(referral, "source_url") ?? textAt(referral, "source_type")
  const id = idAt(referral, "source_id")
  const title = textAt(referral, "headline")
  return {
    ...(ref ? { ref } : {}),
    ...(source ? { source } : {}),
    ...(id ? { id } : {}),
    ...(title ? { title } : {}),
  }
}

function chosen(id: string, label: string | undefined): Content {
  return { event: "choice", choice: { id, ...(label ? { label } : {}) }, ...(label ? { text: label } : {}) }
}

function mediaOf(kind: MediaKind, content: JsonObject | undefined): Media | undefined {
  const ref = idAt(content, "id")
  if (ref === undefined) return undefined
  const mime = textAt(content, "mime_type")
  const name = textAt(content, "filename")
  const caption = textAt(content, "caption")
  return {
    kind: kind === "audio" && content?.voice === true ? "voice" : kind,
    ref,
    ...(mime ? { mime } : {}),
    ...(name ? { name } : {}),
    ...(caption ? { caption } : {}),
  }
}

/** Whatever has no word of ours: kept, with the words a person would read in it. */
function strange(type: string, content: JsonObject | undefined): Content {
  const text = textAt(content, "body") ?? textAt(content, "text")
  return { event: "unknown", providerEvent: type, ...(text ? { text } : {}) }
}

function readStatus(status: unknown): (ParsedStatus & { note: string }) | { note: string } {
  const id = idAt(status, "id")
  const word = textAt(status, "status") ?? "(none)"
  if (id === undefined) return { note: `a status without an id: ${word}` }
  const known = { sent: "sent", delivered: "delivered", read: "read", failed: "failed", played: "read" } as const
  const reached = known[word as keyof typeof known] as ParsedStatus["status"] | undefined
  if (reached === undefined) return { note: `status ${word} of ${id}` }
  const at = isoSeconds(isObject(status) ? status.timestamp : undefined)
  const mark = textAt(status, "biz_opaque_callback_data")
  const why = listAt(status, "errors").map(errorWords).join("; ")
  return {
    status: reached,
    about: { id, ...(mark ? { mark } : {}) },
    ...(why ? { why } : {}),
    ...(at ? { at } : {}),
    note: `status ${word} of ${id}`,
  }
}

function errorWords(error: unknown): string {
  const code = numberAt(error, "code")
  const words = [textAt(error, "title") ?? textAt(error, "message"), textAt(objectAt(error, "error_data"), "details")]
  return `${[...new Set(words.filter(Boolean))].join(": ") || "no words"}${code === undefined ? "" : ` (code ${code})`}`
}

/** What our own staff wrote with the phone in their hands: kept beside the rest, never answered. */
function readEchoes(value: JsonObject, parsed: Parsed): void {
  for (const echo of listAt(value, "message_echoes")) {
    const id = idAt(echo, "id")
    const to = idAt(echo, "to")
    if (!isObject(echo) || id === undefined || to === undefined) {
      parsed.notes.push("smb_message_echoes: an echo without an id or a recipient")
      continue
    }
    const from = idAt(echo, "from")
    const sentAt = isoSeconds(echo.timestamp)
    parsed.messages.push({
      eventKey: `echo:${id}`,
      own: true,
      by: "the business app",
      message: {
        ...contentOf(echo),
        providerId: id,
        place: { address: to, kind: "direct" },
        ...(from ? { from: { address: from, bot: false } } : {}),
        ...(sentAt ? { sentAt } : {}),
      },
    })
  }
}

function readTemplate(entry: unknown, value: JsonObject, parsed: Parsed): void {
  const name = textAt(value, "message_template_name") ?? "(no name)"
  const language = textAt(value, "message_template_language") ?? ""
  const event = textAt(value, "event") ?? "(no event)"
  const reason = textAt(value, "reason")
  const id = idAt(value, "message_template_id") ?? name
  const why = reason && reason !== "NONE" ? `: ${reason}` : ""
  parsed.messages.push({
    // The provider gives these no id of their own; a repetition has the same time.
    eventKey: `template:${id}:${language}:${event}:${idAt(entry, "time") ?? ""}`,
    message: {
      event: "template-status",
      providerEvent: event,
      place: { address: idAt(entry, "id") ?? "templates", kind: "broadcast", title: "Message templates" },
      text: `${name}${language ? ` (${language})` : ""} ${event}${why}`,
    },
  })
}

/** Words of the provider's about the account that ask for nothing: good news, prices, and what is linked to it. */
const good =
  /(?:^|_)(?:VERIFIED|APPROVED|REINSTATE|UPGRADE|ONBOARDING|UNFLAGGED|GREEN|RECONNECTED|ADDED|INSTALLED|LINKED|SIGNED|ELIGIBILITY|TIER_UPDATE|LOCATION|NONE)/

/** With these nothing can be sent any more. */
const ended = /^(DISABLE|ACCOUNT_DELETED|ACCOUNT_OFFBOARDED|PARTNER_REMOVED|PARTNER_APP_UNINSTALLED|REJECTED)$/

/** What the provider says of the account as a whole: warnings, limits, its end. */
function readAccount(field: string, value: JsonObject, parsed: Parsed): void {
  const ban =
    textAt(objectAt(value, "ban_info"), "waba_ban_state") ?? listAt(objectAt(value, "ban_info"), "waba_ban_state")[0]
  const words = [ban, textAt(value, "event"), textAt(value, "decision"), textAt(value, "alert_type")]
  const said = words.filter((word): word is string => typeof word === "string" && word !== "")
  const [word = "(no event)"] = said
  parsed.notes.push(`${field}: ${said.join(", ") || word}`)
  if (said.length === 0 || good.test(word)) return
  const more = [
    textAt(objectAt(value, "violation_info"), "violation_type"),
    ...listAt(value, "restriction_info").map((one) => textAt(one, "restriction_type")),
    textAt(value, "current_limit") && `the limit is ${textAt(value, "current_limit")}`,
    textAt(value, "alert_description"),
    textAt(value, "rejection_reason"),
  ].filter(Boolean)
  parsed.alarms = [
    ...(parsed.alarms ?? []),
    {
      says: `WhatsApp says of the account: ${[...new Set(said)].join(", ")}${more.length > 0 ? ` (${more.join("; ")})` : ""}`,
      remedy: "See the account's status in the provider's business manager, and act or appeal there.",
      lockedOut: ended.test(word),
    },
  ]
}
