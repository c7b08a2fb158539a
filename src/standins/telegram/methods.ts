import type { Bot, Chat, ChatMessage, World } from "./world.ts"
import { readHtml } from "./html.ts"

type Body = { [field: string]: unknown }

/** A refusal, as the provider words it. */
export class Refusal extends Error {
  constructor(
    readonly code: number,
    description: string,
    readonly parameters?: { retry_after?: number; migrate_to_chat_id?: number },
  ) {
    super(description)
  }
}

type Method = (world: World, bot: Bot, body: Body) => unknown

function present(bot: Bot, field: "name" | "about" | "description", body: Body, from: string, most: number): true {
  const given = text(body, from) ?? ""
  if (given.length > most) throw new Refusal(400, `Bad Request: ${from} is too long`)
  bot.presence = { ...bot.presence, [field]: given }
  return true
}

/** Every method of the Bot API that the stand-in knows, checked as the documentation says. */
export const methods: { [name: string]: Method } = {
  getMe: (_world, bot) => ({
    id: bot.id,
    is_bot: true,
    first_name: bot.first_name,
    username: bot.username,
    can_join_groups: true,
    can_read_all_group_messages: false,
  }),

  getMyName: (_world, bot) => ({ name: bot.presence?.name ?? bot.first_name }),
  getMyShortDescription: (_world, bot) => ({ short_description: bot.presence?.about ?? "" }),
  getMyDescription: (_world, bot) => ({ description: bot.presence?.description ?? "" }),
  getMyCommands: (_world, bot) => bot.presence?.commands ?? [],
  setMyName: (_world, bot, body) => present(bot, "name", body, "name", 64),
  setMyShortDescription: (_world, bot, body) => present(bot, "about", body, "short_description", 120),
  setMyDescription: (_world, bot, body) => present(bot, "description", body, "description", 512),
  setMyCommands(_world, bot, body) {
    const commands = body.commands
    if (!Array.isArray(commands) || commands.length > 100)
      throw new Refusal(400, "Bad Request: can't parse commands JSON array")
    for (const one of commands as Body[]) {
      if (!/^[a-z0-9_]{1,32}$/.test(String(one.command))) throw new Refusal(400, "Bad Request: BOT_COMMAND_INVALID")
      if (!/^.{1,256}$/s.test(String(one.description)))
        throw new Refusal(400, "Bad Request: BOT_COMMAND_DESCRIPTION_INVALID")
    }
    bot.presence = { ...bot.presence, commands: commands as { command: string; description: string }[] }
    return true
  },

  setWebhook(_world, bot, body) {
    const url = text(body, "url")
    if (url === undefined) throw new Refusal(400, "Bad Request: url is missing")
    if (url === "") return methods.deleteWebhook!(_world, bot, body)
    if (!/^https?:\/\/[^\s/]+/.test(url))
      throw new Refusal(400, "Bad Request: bad webhook: An HTTPS URL must be provided for webhook")
    const secret = text(body, "secret_token")
    if (secret !== undefined && !/^[A-Za-z0-9_-]{1,256}$/.test(secret))
      throw new Refusal(400, "Bad Request: secret token contains unallowed characters")
    const allowed = body.allowed_updates
    if (allowed !== undefined && !Array.isArray(allowed))
      throw new Refusal(400, "Bad Request: can't parse allowed_updates JSON object")
    if (body.drop_pending_updates === true) bot.updates = []
    bot.webhook = {
      url,
      secret,
      allowed: allowed as string[] | undefined,
      connections: Number(body.max_connections ?? 40),
      lastError: undefined,
    }
    bot.polls?.conflict()
    return true
  },

  deleteWebhook(_world, bot, body) {
    bot.webhook = undefined
    if (body.drop_pending_updates === true) bot.updates = []
    return true
  },

  getWebhookInfo(_world, bot) {
    const hook = bot.webhook
    return {
      url: hook?.url ?? "",
      has_custom_certificate: false,
      pending_update_count: bot.updates.length,
      ...(hook?.lastError ? { last_error_date: hook.lastError.at, last_error_message: hook.lastError.says } : {}),
      ...(hook ? { max_connections: hook.connections } : {}),
      ...(hook?.allowed ? { allowed_updates: hook.allowed } : {}),
    }
  },

  createForumTopic(world, bot, body) {
    const chat = chatOf(world, bot, body)
    if (!chat.is_forum) throw new Refusal(400, "Bad Request: the chat is not a forum")
    const name = text(body, "name") ?? ""
    if (name === "" || name.length > 128) throw new Refusal(400, "Bad Request: TOPIC_NAME_INVALID")
    const opened = world.say(chat, {
      from: { id: bot.id, is_bot: true, first_name: bot.first_name, username: bot.username },
      forum_topic_created: { name, icon_color: 7322096 },
    })
    return { message_thread_id: opened.message_id, name, icon_color: 7322096 }
  },

  sendMessage(world, bot, body) {
    const chat = chatOf(world, bot, body)
    return sent(world, bot, chat, body, formatted(body, "text", 4096, "message text is empty", "message is too long"))
  },
  sendPhoto: fileMethod("photo", (ref) => ({
    photo: [
      { file_id: `${ref}-small`, width: 90, height: 60 },
      { file_id: ref, width: 800, height: 600 },
    ],
  })),
  sendDocument: fileMethod("document", (ref) => ({ document: { file_id: ref } })),
  sendAudio: fileMethod("audio", (ref) => ({ audio: { file_id: ref } })),
  sendVoice: fileMethod("voice", (ref) => ({ voice: { file_id: ref } })),
  sendVideo: fileMethod("video", (ref) => ({ video: { file_id: ref } })),
  sendSticker: fileMethod("sticker", (ref) => ({ sticker: { file_id: ref } })),

  sendMediaGroup(world, bot, body) {
    const chat = chatOf(world, bot, body)
    const pieces = body.media
    if (!Array.isArray(pieces) || pieces.length < 2 || pieces.length > 10)
      throw new Refusal(400, "Bad Request: wrong number of media in the album: 2 to 10 are allowed")
    return (pieces as Body[]).map((piece) => {
      if (!["photo", "video", "document", "audio"].includes(String(piece.type)))
        throw new Refusal(400, "Bad Request: wrong type of media in the album")
      if (!piece.media) throw new Refusal(400, "Bad Request: media is missing")
      return sent(world, bot, chat, body, {
        [String(piece.type)]: { file_id: piece.media },
        ...captionOf(piece),
        media_group_id: "album",
      })
    })
  },

  sendLocation(world, bot, body) {
    const chat = chatOf(world, bot, body)
    const { latitude, longitude } = body
    if (typeof latitude !== "number" || typeof longitude !== "number")
      throw new Refusal(400, "Bad Request: latitude and longitude must be numbers")
    return sent(world, bot, chat, body, { location: { latitude, longitude } })
  },

  sendContact(world, bot, body) {
    const chat = chatOf(world, bot, body)
    if (!text(body, "phone_number") || !text(body, "first_name"))
      throw new Refusal(400, "Bad Request: phone_number and first_name are required")
    return sent(world, bot, chat, body, { contact: { phone_number: body.phone_number, first_name: body.first_name } })
  },

  sendChatAction(world, bot, body) {
    chatOf(world, bot, body)
    if (!text(body, "action")) throw new Refusal(400, "Bad Request: wrong parameter action in request")
    return true
  },

  setMessageReaction(world, bot, body) {
    messageOf(chatOf(world, bot, body), body, "message to react not found")
    return true
  },

  answerCallbackQuery(world, _bot, body) {
    const press = world.waitingPresses.get(String(body.callback_query_id))
    if (!press)
      throw new Refusal(400, "Bad Request: query is too old and response timeout expired or query ID is invalid")
    press.answered = true
    return true
  },

  editMessageText(world, bot, body) {
    const message = ownMessage(chatOf(world, bot, body), body, bot)
    const next = formatted(body, "text", 4096, "message text is empty", "message is too long")
    const markup = keyboardOf(body)
    if (message.text === next.text && JSON.stringify(message.reply_markup) === JSON.stringify(markup?.reply_markup)) {
      throw new Refusal(
        400,
        "Bad Request: message is not modified: specified new message content and reply markup are exactly the same as a current content and reply markup of the message",
      )
    }
    delete message.reply_markup
    Object.assign(message, next, markup ?? {}, { edit_date: Math.floor(Date.now() / 1000) })
    return message
  },

  editMessageReplyMarkup(world, bot, body) {
    const message = ownMessage(chatOf(world, bot, body), body, bot)
    delete message.reply_markup
    Object.assign(message, keyboardOf(body) ?? {})
    return message
  },

  deleteMessage(world, bot, body) {
    const message = ownMessage(chatOf(world, bot, body), body, bot)
    message.deleted = true
    return true
  },

  getFile(_world, _bot, body) {
    const id = text(body, "file_id")
    if (!id) throw new Refusal(400, "Bad Request: file_id not specified")
    return { file_id: id, file_unique_id: id.slice(-8), file_size: 68, file_path: `photos/${id}.png` }
  },
}

function fileMethod(field: string, content: (ref: string) => Body): Method {
  return (world, bot, body) => {
    const chat = chatOf(world, bot, body)
    const given = body[field]
    if (typeof given !== "string" || given === "")
      throw new Refusal(400, `Bad Request: there is no ${field} in the request`)
    return sent(world, bot, chat, body, { ...content(given), ...captionOf(body) })
  }
}

function captionOf(body: Body): Body {
  if (body.caption === undefined) return {}
  const { text: caption, entities } = formatted(
    { ...body, text: body.caption },
    "text",
    1024,
    "caption is empty",
    "message caption is too long",
  )
  return { caption, ...(entities ? { caption_entities: entities } : {}) }
}

function formatted(body: Body, field: string, limit: number, empty: string, long: string): Body {
  const given = body[field]
  if (typeof given !== "string" || given.trim() === "") throw new Refusal(400, `Bad Request: ${empty}`)
  let read: { text: string; entities: unknown[] } = { text: given, entities: [] }
  if (body.parse_mode === "HTML") {
    try {
      read = readHtml(given)
    } catch (error) {
      throw new Refusal(400, `Bad Request: ${(error as Error).message}`)
    }
  } else if (body.parse_mode !== undefined) throw new Refusal(400, "Bad Request: unsupported parse_mode")
  if (read.text.trim() === "") throw new Refusal(400, `Bad Request: ${empty}`)
  if (read.text.length > limit) throw new Refusal(400, `Bad Request: ${long}`)
  return { text: read.text, ...(read.entities.length > 0 ? { entities: read.entities } : {}) }
}

function sent(world: World, bot: Bot, chat: Chat, body: Body, content: Body): ChatMessage {
  const topic =
    body.message_thread_id === undefined ? {} : { message_thread_id: body.message_thread_id, is_topic_message: true }
  const thread = body.message_thread_id
  // A topic has the number of the message that opened it.
  const isInTopic = (one: ChatMessage) =>
    !one.deleted && [one.message_id, one.message_thread_id].some((id) => id === Number(thread))
  if (thread !== undefined && chat.is_forum && !chat.messages.some(isInTopic))
    throw new Refusal(400, "Bad Request: message thread not found")
  const reply = body.reply_parameters as { message_id?: number; allow_sending_without_reply?: boolean } | undefined
  if (
    reply &&
    !chat.messages.some((message) => message.message_id === reply.message_id) &&
    reply.allow_sending_without_reply !== true
  ) {
    throw new Refusal(400, "Bad Request: message to be replied not found")
  }
  return world.say(chat, {
    from: { id: bot.id, is_bot: true, first_name: bot.first_name, username: bot.username },
    ...topic,
    ...content,
    ...(keyboardOf(body) ?? {}),
  })
}

function keyboardOf(body: Body): { reply_markup: object } | undefined {
  const given =
    typeof body.reply_markup === "string"
      ? (JSON.parse(body.reply_markup) as Body)
      : (body.reply_markup as Body | undefined)
  if (given === undefined) return undefined
  const rows = given.inline_keyboard
  if (!Array.isArray(rows)) throw new Refusal(400, "Bad Request: object expected as reply markup")
  if (rows.flat().length > 100) throw new Refusal(400, "Bad Request: reply markup is too long")
  for (const button of rows.flat() as Body[]) {
    if (typeof button.text !== "string" || button.text === "")
      throw new Refusal(400, "Bad Request: can't parse inline keyboard button: Text is empty")
    const size = Buffer.byteLength(String(button.callback_data ?? ""))
    if (button.url === undefined && (size < 1 || size > 64)) throw new Refusal(400, "Bad Request: BUTTON_DATA_INVALID")
  }
  return rows.flat().length > 0 ? { reply_markup: { inline_keyboard: rows } } : undefined
}

function chatOf(world: World, bot: Bot, body: Body): Chat {
  const given = body.chat_id
  if (given === undefined || given === null || given === "") throw new Refusal(400, "Bad Request: chat_id is empty")
  const chat = world.chats.get(Number(given))
  if (!chat || !chat.bots.has(bot.username)) throw new Refusal(400, "Bad Request: chat not found")
  if (chat.migratedTo !== undefined)
    throw new Refusal(400, "Bad Request: group chat was upgraded to a supergroup chat", {
      migrate_to_chat_id: chat.migratedTo,
    })
  if (chat.blocked.has(bot.username)) {
    throw new Refusal(
      403,
      chat.type === "private"
        ? "Forbidden: bot was blocked by the user"
        : `Forbidden: bot was kicked from the ${chat.type} chat`,
    )
  }
  return chat
}

function messageOf(chat: Chat, body: Body, missing: string): ChatMessage {
  const found = chat.messages.find((message) => message.message_id === Number(body.message_id) && !message.deleted)
  if (!found) throw new Refusal(400, `Bad Request: ${missing}`)
  return found
}

function ownMessage(chat: Chat, body: Body, bot: Bot): ChatMessage {
  const found = messageOf(chat, body, "message to edit not found")
  if ((found.from as { id?: number } | undefined)?.id !== bot.id)
    throw new Refusal(400, "Bad Request: message can't be edited")
  return found
}

function text(body: Body, field: string): string | undefined {
  const value = body[field]
  return typeof value === "string" ? value : undefined
}
