import { isoSeconds } from "../../message/command.ts"
import type { JsonObject } from "../../message/json.ts"
import { idAt, isObject, listAt, numberAt, objectAt, textAt } from "../../message/json.ts"
import type { Media, MediaKind, Message, Place, Sender } from "../../message/message.ts"
import type { Channel, Parsed, ParsedMessage } from "../kind.ts"
import type { InboundCall } from "../call.ts"
import { nothingParsed } from "../kind.ts"
import { readBody } from "./body.ts"
import { emojiOf } from "./emoji.ts"
import { readText } from "./text.ts"

/** Reads an event, a slash command or an interaction. Nothing here throws. */
export function parse(call: InboundCall, channel: Channel): Parsed {
  const parsed = nothingParsed()
  const body = readBody(call)
  if ("unreadable" in body) return { ...parsed, unreadable: body.unreadable }
  if ("command" in body) {
    readSlashCommand(body.command, parsed)
    return parsed
  }
  const { content } = body
  if (!isObject(content)) return { ...parsed, unreadable: "the body is not an object" }
  const type = textAt(content, "type") ?? "(no type)"
  switch (type) {
    case "url_verification":
      parsed.notes.push("the provider's check of the address")
      return parsed
    case "event_callback":
      readEvent(content, channel, parsed)
      return parsed
    case "app_rate_limited":
      parsed.notes.push("too many events: the provider has left some out")
      parsed.alarms = [
        {
          says: "Slack left out events, since there were more than 30,000 in an hour",
          remedy: "Subscribe to fewer events, or ask in fewer channels.",
          lockedOut: false,
        },
      ]
      return parsed
    case "block_actions":
      readPresses(content, parsed)
      return parsed
    default:
      readInteraction(type, content, parsed)
      return parsed
  }
}

function readEvent(outer: JsonObject, channel: Channel, parsed: Parsed): void {
  const event = objectAt(outer, "event") ?? {}
  const type = textAt(event, "type") ?? "(no type)"
  const eventId = idAt(outer, "event_id") ?? `${type}:${idAt(event, "event_ts") ?? ""}`
  if (type === "tokens_revoked" && !ourToken(event, channel)) {
    parsed.notes.push("tokens_revoked: of people alone; the bot's own token still works")
    return
  }
  if (type === "tokens_revoked" || type === "app_uninstalled") {
    parsed.notes.push(type)
    parsed.alarms = [
      {
        says:
          type === "app_uninstalled" ? "the app was taken out of the workspace" : "Slack has revoked the app's token",
        remedy: "Install the app again at Slack, set its new botToken, and check the channel.",
        lockedOut: true,
      },
    ]
    return
  }
  if (isOurs(event, channel) || isOurs(objectAt(event, "message") ?? {}, channel)) {
    parsed.notes.push(`${type}: our own words come back; never answered`)
    return
  }
  const read = readers[type]?.(event, channel) ?? strangeEvent(type, event)
  if (typeof read === "string") {
    parsed.notes.push(read)
    return
  }
  const { key, message } = read
  parsed.messages.push({ eventKey: key ?? eventId, message })
}

/** Whether the bot's own token is among those revoked; where none are named, it may be. */
function ourToken(event: JsonObject, { identity }: Channel): boolean {
  const tokens = objectAt(event, "tokens")
  if (!tokens) return true
  const bots = listAt(tokens, "bot")
  const ours = [identity?.id, ...(identity?.also ?? [])]
  return identity === undefined ? bots.length > 0 : bots.some((id) => typeof id === "string" && ours.includes(id))
}

/** Anything with our own bot's or user's id. */
function isOurs(event: JsonObject, channel: Channel): boolean {
  const ours = [channel.identity?.id, ...(channel.identity?.also ?? [])]
  return [idAt(event, "bot_id"), idAt(event, "user")].some((id) => id !== undefined && ours.includes(id))
}

type Read = { key?: string; message: Message } | string
type Reader = (event: JsonObject, channel: Channel) => Read

const readers: { [type: string]: Reader } = {
  message: readMessage,
  app_mention: readMessage,
  reaction_added: readReaction,
  reaction_removed: readReaction,
  member_joined_channel: (event) => comingOrGoing("joined", event),
  member_left_channel: (event) => comingOrGoing("left", event),
}

function readMessage(event: JsonObject, channel: Channel): Read {
  const subtype = textAt(event, "subtype")
  const place = placeOf(event)
  if (!place) return "message: an event without a channel"
  const ts = idAt(event, "ts")
  switch (subtype) {
    case "message_changed": {
      const inner = objectAt(event, "message") ?? {}
      const about = idAt(inner, "ts")
      if (textAt(inner, "subtype") === "tombstone") return gone(event, place, about)
      // Link previews change a message too; nobody edited it.
      if (!objectAt(inner, "edited")) return "message_changed: a preview was added to a message; nobody edited it"
      const content = contentOf(inner, channel)
      const topic = idAt(inner, "thread_ts")
      return {
        key: `${place.address}:${about}:changed:${idAt(objectAt(inner, "edited"), "ts") ?? ts}`,
        message: {
          ...content,
          event: "edited",
          place: topic && topic !== about ? { ...place, topic } : place,
          ...senderOf(inner),
          ...(about ? { providerId: about, replyTo: about } : {}),
        },
      }
    }
    case "message_deleted":
      return gone(event, place, idAt(event, "deleted_ts"))
    case "channel_join":
    case "group_join":
      return comingOrGoing("joined", event)
    case "channel_leave":
    case "group_leave":
      return comingOrGoing("left", event)
    case undefined:
    case "file_share":
    case "thread_broadcast":
    case "me_message":
    case "bot_message":
      break
    default:
      return strangeEvent(subtype, event)
  }
  if (ts === undefined) return "message: an event without a time"
  const thread = idAt(event, "thread_ts")
  // Field by field: spreading optional ones took a quarter of the time of reading a call.
  const message = contentOf(event, channel) as Message
  message.providerId = ts
  message.place = thread && thread !== ts ? { ...place, topic: thread } : place
  const { from } = senderOf(event)
  if (from) message.from = from
  const sentAt = isoSeconds(ts)
  if (sentAt) message.sentAt = sentAt
  if (event.type === "app_mention") message.mentionsBot = true
  // A mention is told of twice, as a message and as a mention: one post, one key.
  return { key: `${place.address}:${ts}`, message }
}

function gone(event: JsonObject, place: Place, about: string | undefined): Read {
  const before = objectAt(event, "previous_message")
  return {
    key: `${place.address}:${about}:deleted`,
    message: { event: "deleted", place, ...(before ? senderOf(before) : {}), ...(about ? { replyTo: about } : {}) },
  }
}

function placeOf(event: JsonObject): Place | undefined {
  const address = idAt(event, "channel") ?? idAt(objectAt(event, "channel"), "id")
  if (address === undefined) return undefined
  const sort = textAt(event, "channel_type")
  const direct = sort === undefined ? address.startsWith("D") : sort === "im" || sort === "app_home"
  return { address, kind: direct ? "direct" : "group" }
}

function senderOf(event: JsonObject): { from?: Sender } {
  const bot = idAt(event, "bot_id")
  const address = idAt(event, "user") ?? idAt(objectAt(event, "user"), "id") ?? bot
  if (address === undefined) return {}
  const from: Sender = { address, bot: bot !== undefined }
  const name = bot && (textAt(objectAt(event, "bot_profile"), "name") ?? textAt(event, "username"))
  if (name) from.name = name
  return { from }
}

function contentOf(event: JsonObject, channel: Channel): Omit<Message, "place"> {
  const { id, handle } = channel.identity ?? {}
  const source = textAt(event, "text") ?? ""
  const mentioned = id !== undefined && source.includes(`<@${id}`)
  // "@ferry next boat" asks for the next boat.
  const asked = mentioned ? source.replace(new RegExp(`^\\s*<@${id}(\\|[^>]*)?>[\\s:,]*`), "") : source
  const { text, marks } = readText(asked, id !== undefined && handle ? { [id]: handle } : {})
  const media = listAt(event, "files")
    .map(mediaOf)
    .filter((one) => one !== undefined)
  const content: Omit<Message, "place"> = { event: "text" }
  if (media.length > 0) {
    content.event = "media"
    content.media = media
  }
  if (text.trim()) content.text = text
  else if (media.length === 0 && !mentioned) {
    content.event = "unknown"
    content.providerEvent = "a message without words"
  }
  if (marks.length > 0) content.marks = marks
  if (mentioned) content.mentionsBot = true
  return content
}

function mediaOf(file: unknown): Media | undefined {
  const id = idAt(file, "id")
  // A file of a shared channel may be an id alone, to be asked about.
  const ref = textAt(file, "url_private_download") ?? textAt(file, "url_private") ?? (id ? `file:${id}` : undefined)
  if (ref === undefined) return undefined
  const mime = textAt(file, "mimetype")
  const name = textAt(file, "name")
  const size = numberAt(file, "size")
  return {
    kind: kindOfMime(mime),
    ref,
    ...(mime ? { mime } : {}),
    ...(name ? { name } : {}),
    ...(size !== undefined ? { size } : {}),
  }
}

function kindOfMime(mime: string | undefined): MediaKind {
  const sort = mime?.split("/")[0]
  return sort === "image" || sort === "audio" || sort === "video" ? sort : "file"
}

function readReaction(event: JsonObject): Read {
  const item = objectAt(event, "item") ?? {}
  const place = placeOf(item)
  const to = idAt(item, "ts")
  if (!place || to === undefined) return "a reaction to something that is not a message"
  const removed = textAt(event, "type") === "reaction_removed"
  return {
    message: {
      event: "reaction",
      place,
      ...senderOf(event),
      reaction: { emoji: emojiOf(textAt(event, "reaction") ?? ""), removed, to },
    },
  }
}

function comingOrGoing(what: "joined" | "left", event: JsonObject): Read {
  const place = placeOf(event)
  const { from } = senderOf(event)
  if (!place || !from) return `${what}: an event without a channel or a person`
  return { message: { event: what, place, from, people: [from] } }
}

function strangeEvent(type: string, event: JsonObject): Read {
  const place = placeOf(event) ?? placeOf(objectAt(event, "item") ?? {})
  if (!place) return `${type}: an event without a place; it is kept`
  const { text } = readText(textAt(event, "text") ?? "", {})
  return { message: { event: "unknown", providerEvent: type, place, ...senderOf(event), ...(text ? { text } : {}) } }
}

function readSlashCommand(fields: { [field: string]: string }, parsed: Parsed): void {
  const address = fields.channel_id || fields.user_id
  if (!address || !fields.user_id) {
    parsed.notes.push("a slash command without a channel or a person")
    return
  }
  const name = (fields.command ?? "").replace(/^\//, "").toLowerCase()
  const args = readText(fields.text ?? "", {}).text.trim()
  const direct = address.startsWith("D") || address === fields.user_id
  const title = direct ? undefined : fields.channel_name
  parsed.messages.push({
    eventKey: fields.trigger_id ? `command:${fields.trigger_id}` : "",
    message: {
      event: "command",
      place: { address, kind: direct ? "direct" : "group", ...(title ? { title: `#${title}` } : {}) },
      from: { address: fields.user_id, bot: false, ...(fields.user_name ? { handle: fields.user_name } : {}) },
      text: `/${name}${args ? ` ${args}` : ""}`,
      command: { name, ...(args ? { args } : {}) },
      ...(fields.response_url ? { respondAt: fields.response_url } : {}),
    },
  })
}

/** Where an interaction happened; in home and modal views there is only the person. */
function interactionPlace(content: JsonObject): { place: Place; from?: Sender } | undefined {
  const user = objectAt(content, "user")
  const person = idAt(user, "id")
  const container = objectAt(content, "container")
  const address = idAt(objectAt(content, "channel"), "id") ?? idAt(container, "channel_id") ?? person
  if (address === undefined) return undefined
  const topic = idAt(objectAt(content, "message"), "thread_ts") ?? idAt(container, "thread_ts")
  const handle = textAt(user, "username") ?? textAt(user, "name")
  return {
    place: {
      address,
      kind: address.startsWith("D") || address === person ? "direct" : "group",
      ...(topic ? { topic } : {}),
    },
    ...(person ? { from: { address: person, bot: false, ...(handle ? { handle } : {}) } } : {}),
  }
}

function readPresses(content: JsonObject, parsed: Parsed): void {
  const at = interactionPlace(content)
  if (!at) {
    parsed.notes.push("a press without a channel or a person")
    return
  }
  const about = idAt(objectAt(content, "message"), "ts") ?? idAt(objectAt(content, "container"), "message_ts")
  const trigger = idAt(content, "trigger_id") ?? ""
  const ephemeral = objectAt(content, "container")?.is_ephemeral === true
  const respondAt = textAt(content, "response_url")
  for (const action of listAt(content, "actions")) {
    const picked = pickedIn(action)
    const key = `press:${trigger}:${idAt(action, "action_id") ?? ""}:${idAt(action, "action_ts") ?? ""}`
    const message: Message = {
      ...(picked.length > 0
        ? {
            event: "choice" as const,
            choice: {
              ...picked[0]!,
              ...(picked.length > 1 ? { ids: picked.map((one) => one.id) } : {}),
            },
            ...(picked[0]!.label ? { text: picked.map((one) => one.label ?? one.id).join(", ") } : {}),
          }
        : { event: "unknown" as const, providerEvent: textAt(action, "type") ?? "action" }),
      ...at,
      ...(about ? { replyTo: about } : {}),
      // Where only the person sees the message, only this address answers beside it.
      ...(ephemeral && respondAt ? { respondAt } : {}),
    }
    const press: ParsedMessage = { eventKey: key, message }
    parsed.messages.push(press)
  }
  if (listAt(content, "actions").length === 0) parsed.notes.push("a press without an action")
}

function pickedIn(action: unknown): { id: string; label?: string }[] {
  const option = (one: unknown) => {
    const id = idAt(one, "value")
    const label = textAt(objectAt(one, "text"), "text")
    return id === undefined ? undefined : { id, ...(label ? { label } : {}) }
  }
  const several = listAt(action, "selected_options")
    .map(option)
    .filter((one) => one !== undefined)
  if (several.length > 0) return several
  const one = option(objectAt(action, "selected_option")) ?? (isObject(action) ? option(action) : undefined)
  if (one) return [one]
  const plain = [
    "selected_date",
    "selected_time",
    "selected_date_time",
    "selected_user",
    "selected_channel",
    "selected_conversation",
  ]
    .map((field) => idAt(action, field))
    .find((id) => id !== undefined)
  if (plain !== undefined) return [{ id: plain }]
  // A button without a value is known by its name.
  if (textAt(action, "type") !== "button") return []
  const id = idAt(action, "action_id")
  const label = textAt(objectAt(action, "text"), "text")
  return id === undefined ? [] : [{ id, ...(label ? { label } : {}) }]
}

function readInteraction(type: string, content: JsonObject, parsed: Parsed): void {
  const at = interactionPlace(content)
  const trigger = idAt(content, "trigger_id") ?? idAt(content, "action_ts") ?? idAt(objectAt(content, "view"), "hash")
  if (!at || type === "block_suggestion") {
    parsed.notes.push(`${type}: an event Wobbet does not know; it is kept`)
    return
  }
  const id = textAt(content, "callback_id") ?? textAt(objectAt(content, "view"), "callback_id")
  const what: Pick<Message, "event" | "form" | "providerEvent" | "text"> =
    type === "view_submission"
      ? { event: "form", form: { ...(id ? { name: id } : {}), fields: filledIn(content) } }
      : { event: "unknown", providerEvent: type, ...(id ? { text: id } : {}) }
  parsed.messages.push({ eventKey: trigger === undefined ? "" : `${type}:${trigger}`, message: { ...what, ...at } })
}

/** What was filled in, by the name of each field; a field whose name stands in two blocks, with the block's before it. */
function filledIn(content: JsonObject): { [field: string]: unknown } {
  const blocks = objectAt(objectAt(objectAt(content, "view"), "state"), "values") ?? {}
  const fields: { [field: string]: unknown } = Object.create(null) as { [field: string]: unknown }
  for (const [block, actions] of Object.entries(blocks)) {
    if (!isObject(actions)) continue
    for (const [name, action] of Object.entries(actions))
      fields[name in fields ? `${block}.${name}` : name] = valueOf(action)
  }
  return { ...fields }
}

function valueOf(action: unknown): unknown {
  const picked = pickedIn(action).map((one) => one.id)
  const several = ["multi_", "checkboxes"].some((word) => textAt(action, "type")?.startsWith(word))
  if (several) return picked.length > 0 ? picked : listedIn(action)
  return picked[0] ?? null
}

/** Picked people and channels are lists of ids, without words. */
function listedIn(action: unknown): string[] {
  return ["selected_users", "selected_channels", "selected_conversations"].flatMap((field) =>
    listAt(action, field).filter((id): id is string => typeof id === "string"),
  )
}
