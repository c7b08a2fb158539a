import { Refusal } from "./methods.ts"
import type { Delivery } from "./deliver.ts"
import type { Bot, Chat, ChatMessage, Person, World } from "./world.ts"
import { publicChat } from "./world.ts"

type Body = { [field: string]: unknown }

/** The person's side: what people do on their phones. */
export class PersonSide {
  constructor(
    private readonly world: World,
    private readonly delivery: Delivery,
  ) {}

  /** Says something: a text, or any content of a message such as a photo, location or contact. */
  say(body: Body): { message: object; update?: number } {
    const { bot, person, chat } = this.scene(body)
    const text = body.text as string | undefined
    // What is said in a topic, and answers nothing, points at the topic's beginning.
    const answered = Number(body.replyTo ?? (chat.is_forum ? body.topic : undefined))
    const content = {
      ...(text !== undefined ? { text, ...entitiesOf(text) } : {}),
      ...(body.photo ? { photo: photoSizes(String(body.photo)), ...captionOf(body) } : {}),
      ...(body.content as object | undefined),
      ...(body.topic ? { message_thread_id: Number(body.topic), is_topic_message: true } : {}),
      ...(body.date ? { date: Number(body.date) } : {}),
      ...(answered
        ? { reply_to_message: stripped(chat.messages.find(({ message_id }) => message_id === answered)) }
        : {}),
    }
    const from = chat.type === "channel" ? { sender_chat: publicChat(chat) } : { from: person }
    const message = this.world.say(chat, { ...from, ...content })
    const update = this.delivery.push(bot, chat.type === "channel" ? "channel_post" : "message", message)
    return { message, ...(update ? { update: update.update_id } : {}) }
  }

  /** Opens the chat with a bot, so that it may write, and says nothing. */
  start(body: Body): object {
    return publicChat(this.scene(body).chat)
  }

  edit(body: Body): object {
    const { bot, chat } = this.scene(body)
    const message = chat.messages.find((message) => message.message_id === Number(body.message))
    if (!message) throw new Refusal(404, "there is no such message")
    Object.assign(message, { text: body.text, edit_date: Math.floor(Date.now() / 1000) })
    this.delivery.push(bot, "edited_message", message)
    return message
  }

  /** Deletes a topic, with all that was said in it. */
  dropTopic(body: Body): object {
    const messages = this.world.chats.get(Number(body.chat))?.messages ?? []
    for (const message of messages)
      if ([message.message_id, message.message_thread_id].includes(Number(body.topic))) message.deleted = true
    return {}
  }

  /** Presses a button, by its words or its data, on the newest message that has it. */
  press(body: Body): { id: string } {
    const { bot, person, chat } = this.scene(body)
    const wanted = String(body.button)
    for (const message of [...chat.messages].reverse()) {
      const rows = (message.reply_markup as { inline_keyboard?: Body[][] } | undefined)?.inline_keyboard ?? []
      const button = rows.flat().find((one) => one.text === wanted || one.callback_data === wanted)
      if (!button || message.deleted) continue
      const id = String(Date.now()) + String(Math.floor(Math.random() * 1e6))
      this.world.waitingPresses.set(id, { answered: false })
      this.delivery.push(bot, "callback_query", {
        id,
        from: person,
        message: stripped(message),
        chat_instance: String(chat.id),
        data: button.callback_data,
      })
      return { id }
    }
    throw new Refusal(404, `there is no button "${wanted}" in the chat`)
  }

  react(body: Body): void {
    const { bot, person, chat } = this.scene(body)
    this.delivery.push(bot, "message_reaction", {
      chat: publicChat(chat),
      user: person,
      message_id: Number(body.message),
      date: Math.floor(Date.now() / 1000),
      old_reaction: [],
      new_reaction: [{ type: "emoji", emoji: body.emoji }],
    })
  }

  block(body: Body, blocked: boolean): void {
    const { bot, person, chat } = this.scene(body)
    if (blocked) chat.blocked.add(bot.username)
    else chat.blocked.delete(bot.username)
    const member = (status: string) => ({
      status,
      user: { id: bot.id, is_bot: true, first_name: bot.first_name, username: bot.username },
    })
    this.delivery.push(bot, "my_chat_member", {
      chat: publicChat(chat),
      from: person,
      date: Math.floor(Date.now() / 1000),
      old_chat_member: member(blocked ? "member" : "kicked"),
      new_chat_member: member(blocked ? "kicked" : "member"),
    })
  }

  upgrade(body: Body): object {
    const { bot, person, chat } = this.scene(body)
    const upgraded = this.world.upgrade(chat)
    this.delivery.push(bot, "message", this.world.say(chat, { from: person, migrate_to_chat_id: upgraded.id }))
    this.delivery.push(bot, "message", this.world.say(upgraded, { from: person, migrate_from_chat_id: chat.id }))
    return publicChat(upgraded)
  }

  private scene(body: Body): { bot: Bot; person: Person; chat: Chat } {
    const bot = this.world.bots.get(String(body.bot)) ?? [...this.world.bots.values()][0]
    const person = this.world.people.get(Number(body.from))
    if (!bot) throw new Refusal(404, "there is no bot")
    if (!person) throw new Refusal(404, `there is no person ${String(body.from)}; make one with POST /standin/people`)
    const chat = body.chat === undefined ? this.world.privateChat(person) : this.world.chats.get(Number(body.chat))
    if (!chat) throw new Refusal(404, `there is no chat ${String(body.chat)}`)
    if (chat.type === "private") chat.bots.add(bot.username)
    return { bot, person, chat }
  }
}

function stripped(message: ChatMessage | undefined): object | undefined {
  if (!message) return undefined
  const { deleted: _deleted, reply_to_message: _reply, ...rest } = message
  return rest
}

function photoSizes(name: string): object[] {
  return [
    { file_id: `${name}-90`, file_unique_id: "a", width: 90, height: 67, file_size: 1200 },
    { file_id: `${name}-1280`, file_unique_id: "b", width: 1280, height: 960, file_size: 152_000 },
    { file_id: `${name}-320`, file_unique_id: "c", width: 320, height: 240, file_size: 21_000 },
  ]
}

function captionOf(body: Body): object {
  return body.caption ? { caption: body.caption } : {}
}

/** Commands, mentions and addresses, marked as the provider's clients mark them. */
function entitiesOf(text: string): { entities?: object[] } {
  const patterns: [RegExp, string][] = [
    [/(?<![\w/])\/[A-Za-z0-9_]{1,32}(?:@\w+)?/g, "bot_command"],
    [/(?<!\w)@\w{3,32}/g, "mention"],
    [/https?:\/\/\S+/g, "url"],
  ]
  const entities = patterns.flatMap(([pattern, type]) =>
    [...text.matchAll(pattern)].map((match) => ({ type, offset: match.index, length: match[0].length })),
  )
  return entities.length > 0 ? { entities } : {}
}
