import type { Channel, Parsed, ParsedMessage } from "../kind.ts"
import type { InboundCall, OutgoingCall } from "../call.ts"
import type { JsonObject } from "../../message/json.ts"
import { idAt, isObject, listAt, numberAt, objectAt, readStorableJson, textAt } from "../../message/json.ts"
import type { Mark, Media, Message, Place, Sender } from "../../message/message.ts"
import { nothingParsed } from "../kind.ts"
import { call } from "./calls.ts"

/** Reads one update of the Bot API. Fields of unexpected types read as absent; nothing here throws. */
export function parse(inbound: InboundCall, channel: Channel): Parsed {
  let update: unknown
  try {
    update = readStorableJson(inbound.body)
  } catch (error) {
    return nothing({ unreadable: `the body is not JSON: ${(error as Error).message.slice(0, 200)}` })
  }
  const updateId = idAt(update, "update_id")
  if (!isObject(update) || updateId === undefined) return nothing({ unreadable: "the body has no update_id" })

  const name = Object.keys(update).find((key) => key !== "update_id" && isObject(update[key]))
  if (name === undefined) return nothing({ notes: [`update ${updateId} has no event`] })
  const event = update[name] as JsonObject
  const read = readers[name] ?? readUnknown
  const message = read(event, channel, name)
  const moves = movesIn(event)
  if (message === undefined) return nothing({ notes: [`${name}: an event without a place`], moves })

  const parsed: ParsedMessage = { eventKey: updateId, message }
  if (name === "callback_query") parsed.courtesies = [pressSeen(event)].filter((seen) => seen !== undefined)
  if (isOwn(event, channel)) parsed.own = true
  return { messages: [parsed], statuses: [], notes: [], moves }
}

function nothing(found: Partial<Parsed>): Parsed {
  return { ...nothingParsed(), ...found }
}

type Reader = (event: JsonObject, channel: Channel, name: string) => Message | undefined

const readers: { [update: string]: Reader } = {
  message: readMessage,
  channel_post: readMessage,
  edited_message: readEdit,
  edited_channel_post: readEdit,
  callback_query: readPress,
  message_reaction: readReaction,
  poll_answer: readVote,
  my_chat_member: readMembership,
  chat_member: readMembership,
}

function readMessage(event: JsonObject, channel: Channel): Message | undefined {
  const place = readPlace(event)
  if (place === undefined) return undefined
  return withOrigin(content(event, channel), event, place)
}

/** A vote in a poll of ours names the poll and the person, and no chat. One that was taken back picks nothing. */
function readVote(event: JsonObject): Message | undefined {
  const poll = idAt(event, "poll_id")
  const voter = objectAt(event, "user") ?? objectAt(event, "voter_chat")
  const address = idAt(voter, "id")
  if (poll === undefined || voter === undefined || address === undefined) return undefined
  const from = objectAt(event, "user") && readPerson(voter)
  const ids = listAt(event, "option_ids").map((option) => `${poll}:${String(option)}`)
  const place: Place = { address, kind: "direct" }
  if (ids.length === 0) return { event: "unknown", providerEvent: "poll_answer", place, ...(from ? { from } : {}) }
  return {
    event: "choice",
    choice: { id: ids[0]!, ...(ids.length > 1 ? { ids } : {}) },
    place,
    ...(from ? { from } : {}),
  }
}

function readEdit(event: JsonObject, channel: Channel): Message | undefined {
  const message = readMessage(event, channel)
  if (message === undefined) return undefined
  const { command: _command, ...rest } = message
  const at = numberAt(event, "edit_date")
  return { ...rest, event: "edited", ...(at ? { sentAt: isoTime(at) } : {}) }
}

/** What every message has, whatever it says. */
function withOrigin(said: Said, event: JsonObject, place: Place): Message {
  const providerId = idAt(event, "message_id")
  const from = readAuthor(event)
  const sentAt = numberAt(event, "date")
  const album = idAt(event, "media_group_id")
  const answered = objectAt(event, "reply_to_message")
  const forwarded = objectAt(event, "forward_origin")
  const answeredId = answered && !opensTopic(event, answered) ? idAt(answered, "message_id") : undefined
  const quote =
    textAt(objectAt(event, "quote"), "text") ??
    (answeredId ? (textAt(answered, "text") ?? textAt(answered, "caption")) : undefined)
  // Field by field: every message comes through here, and spreading optional ones took twice as long.
  const whole = said as Message
  whole.place = place
  if (providerId) whole.providerId = providerId
  if (from) whole.from = from
  if (album) whole.album = album
  if (answeredId) whole.replyTo = answeredId
  if (quote) whole.quote = quote
  if (forwarded) whole.forwarded = forwardedFrom(forwarded)
  if (sentAt) whole.sentAt = isoTime(sentAt)
  return whole
}

/** A message without where it was said and by whom. */
type Said = Pick<Message, "event"> & Partial<Message>

function content(event: JsonObject, channel: Channel): Said {
  const people = listAt(event, "new_chat_members")
    .map(readPerson)
    .filter((one) => one !== undefined)
  if (people.length > 0) return { event: "joined", people }
  const gone = readPerson(event.left_chat_member)
  if (gone) return { event: "left", people: [gone] }

  const media = readMedia(event)
  const text = textAt(event, media.length > 0 ? "caption" : "text")
  const marks = readMarks(listAt(event, media.length > 0 ? "caption_entities" : "entities"), text ?? "")
  const mentionsBot = mentions(event, channel, text ?? "")
  const handle = channel.identity?.handle?.toLowerCase()
  if (mentionsBot && handle !== undefined && text !== undefined)
    for (const mark of marks)
      if (text.slice(mark.offset, mark.offset + mark.length).toLowerCase() === `@${handle}`) mark.self = true
  const said: Said = { event: media.length > 0 ? "media" : text !== undefined ? "text" : "unknown" }
  if (text !== undefined) said.text = text
  if (marks.length > 0) said.marks = marks
  if (mentionsBot) said.mentionsBot = true
  if (media.length > 0) said.media = media
  else if (text !== undefined) {
    const command = readCommand(event, text, channel)
    if (command) {
      said.event = "command"
      said.command = command
    }
  } else {
    const location = readLocation(event)
    const contact = objectAt(event, "contact")
    if (location) {
      said.event = "location"
      said.location = location
    } else if (contact) {
      said.event = "contact"
      said.contact = readContact(contact)
    } else said.providerEvent = strangeContent(event) ?? "message"
  }
  return said
}

function readPlace(event: JsonObject): Place | undefined {
  const chat = objectAt(event, "chat")
  const address = idAt(chat, "id")
  if (!chat || address === undefined) return undefined
  const type = textAt(chat, "type")
  const kind = type === "private" ? "direct" : type === "channel" ? "broadcast" : "group"
  const title = textAt(chat, "title") ?? (fullName(chat) || textAt(chat, "username"))
  const topic = event.is_topic_message === true ? idAt(event, "message_thread_id") : undefined
  const place: Place = { address, kind }
  if (title) place.title = title
  if (topic) place.topic = topic
  return place
}

/** With `sender_chat` set, `from` is only a place-holder of the provider's. */
function readAuthor(event: JsonObject): Sender | undefined {
  const chat = objectAt(event, "sender_chat")
  const address = idAt(chat, "id")
  if (chat && address !== undefined) {
    const name = textAt(event, "author_signature") ?? textAt(chat, "title")
    const handle = textAt(chat, "username")
    // The group itself speaks for its administrators who stay anonymous; only administrators post on a channel.
    const admin = address === idAt(objectAt(event, "chat"), "id")
    return {
      address,
      ...(name ? { name } : {}),
      ...(handle ? { handle } : {}),
      bot: false,
      ...(admin ? { admin } : {}),
    }
  }
  const person = readPerson(event.from)
  if (person) return person
  const post = objectAt(event, "chat")
  const broadcast = textAt(post, "type") === "channel" ? idAt(post, "id") : undefined
  if (broadcast === undefined) return undefined
  const name = textAt(event, "author_signature") ?? textAt(post, "title")
  return { address: broadcast, ...(name ? { name } : {}), bot: false, admin: true }
}

function readPerson(value: unknown): Sender | undefined {
  const address = idAt(value, "id")
  if (!isObject(value) || address === undefined) return undefined
  const name = fullName(value)
  const handle = textAt(value, "username")
  const language = textAt(value, "language_code")
  const person: Sender = { address, bot: value.is_bot === true }
  if (name) person.name = name
  if (handle) person.handle = handle
  if (language) person.language = language
  return person
}

function fullName(value: JsonObject): string {
  return [textAt(value, "first_name"), textAt(value, "last_name")].filter(Boolean).join(" ")
}

function forwardedFrom(from: JsonObject): { from?: string } {
  const user = objectAt(from, "sender_user")
  const chat = objectAt(from, "sender_chat") ?? objectAt(from, "chat")
  const name = (user && fullName(user)) || textAt(from, "sender_user_name") || textAt(chat, "title")
  return name ? { from: name } : {}
}

/** Every message of a topic points at the topic's creation; that is no reply. */
function opensTopic(event: JsonObject, answered: JsonObject): boolean {
  if (objectAt(answered, "forum_topic_created")) return true
  return event.is_topic_message === true && idAt(answered, "message_id") === idAt(event, "message_thread_id")
}

/** `/name`, `/name@bot`, with what follows as arguments. A command for another bot is only text. */
function readCommand(event: JsonObject, text: string, channel: Channel): Message["command"] {
  const match = /^\/([A-Za-z0-9_]{1,32})(?:@([A-Za-z0-9_]+))?(?=\s|$)([\s\S]*)$/.exec(text)
  if (!match) return undefined
  const entities = listAt(event, "entities")
  const marked = entities.some((entity) => textAt(entity, "type") === "bot_command" && numberAt(entity, "offset") === 0)
  if (entities.length > 0 && !marked) return undefined
  const [, name, bot, args] = match
  const handle = channel.identity?.handle
  // Not knowing who we are, we take only what can be for nobody else.
  const ours = handle ? bot?.toLowerCase() === handle.toLowerCase() : isPrivate(event)
  if (bot && !ours) return undefined
  return { name: name!.toLowerCase(), ...(args?.trim() ? { args: args.trim() } : {}) }
}

function isPrivate(event: JsonObject): boolean {
  return textAt(objectAt(event, "chat"), "type") === "private"
}

function mentions(event: JsonObject, channel: Channel, text: string): boolean {
  const { id, handle } = channel.identity ?? {}
  if (id === undefined) return false
  if (idAt(objectAt(objectAt(event, "reply_to_message"), "from"), "id") === id) return true
  return [...listAt(event, "entities"), ...listAt(event, "caption_entities")].some((entity) => {
    const offset = numberAt(entity, "offset") ?? 0
    const words = text.slice(offset, offset + (numberAt(entity, "length") ?? 0)).toLowerCase()
    switch (textAt(entity, "type")) {
      case "mention":
        return handle !== undefined && words === `@${handle.toLowerCase()}`
      case "text_mention":
        return idAt(objectAt(entity, "user"), "id") === id
      case "bot_command":
        return handle !== undefined && words.endsWith(`@${handle.toLowerCase()}`)
      default:
        return false
    }
  })
}

const markKinds: { [entity: string]: Mark["kind"] } = {
  bold: "bold",
  italic: "italic",
  underline: "underline",
  strikethrough: "strike",
  code: "code",
  pre: "pre",
  url: "link",
  text_link: "link",
  email: "link",
  phone_number: "link",
  mention: "mention",
  text_mention: "mention",
  blockquote: "quote",
  expandable_blockquote: "quote",
  hashtag: "tag",
  cashtag: "tag",
}

function readMarks(entities: unknown[], text: string): Mark[] {
  return entities.flatMap((entity): Mark[] => {
    const offset = numberAt(entity, "offset")
    const length = numberAt(entity, "length")
    if (offset === undefined || length === undefined || offset < 0 || length <= 0 || offset >= text.length) return []
    const type = textAt(entity, "type") ?? ""
    const kept = Math.min(length, text.length - offset)
    const url = textAt(entity, "url") ?? (type === "url" ? text.slice(offset, offset + kept) : undefined)
    return [{ kind: markKinds[type] ?? "other", offset, length: kept, ...(url ? { url } : {}) }]
  })
}

const mediaFields: [field: string, kind: Media["kind"], mime?: string][] = [
  // An animation also fills `document`, so it stands first and ends the search.
  ["animation", "video"],
  ["video", "video"],
  ["video_note", "video", "video/mp4"],
  ["voice", "voice"],
  ["audio", "audio"],
  ["sticker", "sticker"],
  ["document", "file"],
]

function readMedia(event: JsonObject): Media[] {
  const caption = textAt(event, "caption")
  const photo = largest(listAt(event, "photo"))
  if (photo) return [mediaOf(photo, "image", "image/jpeg", caption)].filter((one) => one !== undefined)
  for (const [field, kind, mime] of mediaFields) {
    const found = objectAt(event, field)
    const media = found && mediaOf(found, kind, mime, caption)
    if (media) return [media]
  }
  return []
}

function mediaOf(
  found: JsonObject,
  kind: Media["kind"],
  defaultMime: string | undefined,
  caption?: string,
): Media | undefined {
  const ref = textAt(found, "file_id")
  if (ref === undefined) return undefined
  const mime = textAt(found, "mime_type") ?? defaultMime
  const name = textAt(found, "file_name")
  const size = numberAt(found, "file_size")
  return {
    kind,
    ref,
    ...(mime ? { mime } : {}),
    ...(name ? { name } : {}),
    ...(size !== undefined ? { size } : {}),
    ...(caption ? { caption } : {}),
  }
}

function largest(sizes: unknown[]): JsonObject | undefined {
  const area = (size: JsonObject) => (numberAt(size, "width") ?? 0) * (numberAt(size, "height") ?? 0)
  return sizes.filter(isObject).reduce<JsonObject | undefined>((best, size) => {
    return best === undefined || area(size) >= area(best) ? size : best
  }, undefined)
}

/** A venue also fills `location`; its name and address belong to it. */
function readLocation(event: JsonObject): Message["location"] {
  const venue = objectAt(event, "venue")
  const point = objectAt(event, "location") ?? objectAt(venue, "location")
  const latitude = numberAt(point, "latitude")
  const longitude = numberAt(point, "longitude")
  if (latitude === undefined || longitude === undefined) return undefined
  const name = textAt(venue, "title")
  const address = textAt(venue, "address")
  return { latitude, longitude, ...(name ? { name } : {}), ...(address ? { address } : {}) }
}

function readContact(contact: JsonObject): NonNullable<Message["contact"]> {
  const phone = textAt(contact, "phone_number")
  const address = idAt(contact, "user_id")
  return { name: fullName(contact), ...(phone ? { phone } : {}), ...(address ? { address } : {}) }
}

const usualFields = new Set(
  "message_id message_thread_id direct_messages_topic from sender_chat sender_boost_count sender_business_bot date chat forward_origin is_topic_message is_automatic_forward reply_to_message external_reply quote reply_to_story via_bot edit_date has_protected_content author_signature entities caption_entities link_preview_options effect_id reply_markup media_group_id show_caption_above_media has_media_spoiler business_connection_id paid_star_count is_from_offline".split(
    " ",
  ),
)

/** The field that says what kind of content this is, when it is none we have a word for. */
function strangeContent(event: JsonObject): string | undefined {
  return Object.keys(event).find((key) => !usualFields.has(key))
}

function readPress(query: JsonObject): Message | undefined {
  const from = readPerson(query.from)
  const pressed = objectAt(query, "message")
  const place = (pressed && readPlace(pressed)) ?? (from && directWith(from))
  if (place === undefined) return undefined
  const game = textAt(query, "game_short_name")
  const id = textAt(query, "data") ?? (game ? `game:${game}` : "")
  const label = labelOf(pressed, id)
  const providerId = idAt(query, "id")
  const pressedId = idAt(pressed, "message_id")
  return {
    event: "choice",
    place,
    ...(providerId ? { providerId } : {}),
    ...(from ? { from } : {}),
    choice: { id, ...(label ? { label } : {}) },
    ...(label ? { text: label } : {}),
    ...(pressedId ? { replyTo: pressedId } : {}),
  }
}

/** The pressed message repeats its buttons, so the label can be read from it. */
function labelOf(pressed: JsonObject | undefined, data: string): string | undefined {
  const buttons = listAt(objectAt(pressed, "reply_markup"), "inline_keyboard").flat()
  return textAt(
    buttons.find((button) => textAt(button, "callback_data") === data),
    "text",
  )
}

function pressSeen(query: JsonObject): OutgoingCall | undefined {
  const id = idAt(query, "id")
  return id === undefined ? undefined : call("answerCallbackQuery", { callback_query_id: id }, { speaks: false })
}

function readReaction(event: JsonObject): Message | undefined {
  const place = readPlace(event)
  const to = idAt(event, "message_id")
  if (place === undefined || to === undefined) return undefined
  const now = listAt(event, "new_reaction").map(emojiOf)
  const before = listAt(event, "old_reaction").map(emojiOf)
  const added = now.find((emoji) => !before.includes(emoji))
  const emoji = added ?? before.find((one) => !now.includes(one)) ?? ""
  const from = readPerson(event.user) ?? readAuthor({ sender_chat: event.actor_chat })
  const at = numberAt(event, "date")
  return {
    event: "reaction",
    place,
    ...(from ? { from } : {}),
    reaction: { emoji, removed: added === undefined, to },
    ...(at ? { sentAt: isoTime(at) } : {}),
  }
}

function emojiOf(reaction: unknown): string {
  return textAt(reaction, "emoji") ?? textAt(reaction, "custom_emoji_id") ?? textAt(reaction, "type") ?? ""
}

function readMembership(event: JsonObject, _channel: Channel, name: string): Message | undefined {
  const place = readPlace(event)
  if (place === undefined) return undefined
  const now = objectAt(event, "new_chat_member")
  const was = isThere(objectAt(event, "old_chat_member"))
  const is = isThere(now)
  const from = readPerson(event.from)
  const person = readPerson(now?.user)
  const at = numberAt(event, "date")
  return {
    event: was === is ? "unknown" : is ? "joined" : "left",
    providerEvent: name,
    place,
    ...(from ? { from } : {}),
    ...(person ? { people: [person] } : {}),
    ...(at ? { sentAt: isoTime(at) } : {}),
  }
}

function isThere(member: JsonObject | undefined): boolean {
  const status = textAt(member, "status")
  if (status === "restricted") return member?.is_member === true
  return status === "member" || status === "administrator" || status === "creator"
}

/** Any other update: kept with its place where one can be found, else with the person it comes from. */
function readUnknown(event: JsonObject, _channel: Channel, name: string): Message | undefined {
  const from = readPerson(event.from) ?? readPerson(event.user)
  const place = readPlace(event) ?? readPlace(objectAt(event, "message") ?? {}) ?? (from && directWith(from))
  if (place === undefined) return undefined
  const text = textAt(event, "query") ?? textAt(event, "text")
  const at = numberAt(event, "date")
  const providerId = idAt(event, "message_id") ?? idAt(event, "id")
  return {
    event: "unknown",
    providerEvent: name,
    place,
    ...(providerId ? { providerId } : {}),
    ...(from ? { from } : {}),
    ...(text ? { text } : {}),
    ...(at ? { sentAt: isoTime(at) } : {}),
  }
}

function directWith(person: Sender): Place {
  return { address: person.address, kind: "direct", ...(person.name ? { title: person.name } : {}) }
}

/** A group that becomes a supergroup says so twice: in the old group and in the new one. */
function movesIn(event: JsonObject): { from: string; to: string }[] {
  const here = idAt(objectAt(event, "chat"), "id")
  const to = idAt(event, "migrate_to_chat_id")
  const from = idAt(event, "migrate_from_chat_id")
  if (here && to) return [{ from: here, to }]
  if (here && from) return [{ from, to: here }]
  return []
}

/** The bot's own words, or words of ours that a person sent through the bot. */
function isOwn(event: JsonObject, channel: Channel): boolean {
  const id = channel.identity?.id
  if (id === undefined || event.data !== undefined) return false
  const anonymous = objectAt(event, "sender_chat") !== undefined
  return (!anonymous && idAt(event.from, "id") === id) || idAt(event.via_bot, "id") === id
}

/** Seconds since 1970 as ISO 8601; a time out of all range reads as the epoch's. */
function isoTime(seconds: number): string {
  const time = new Date(seconds * 1000)
  return Number.isNaN(time.getTime()) ? new Date(0).toISOString() : time.toISOString()
}
