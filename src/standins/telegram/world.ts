/**
 * A small made-up Telegram: bots, people, chats and what was said in them. Written from the provider's public
 * documentation; it shares no code with Wobbet, so that one mistake cannot pass on both sides.
 */
export interface Bot {
  token: string
  id: number
  username: string
  first_name: string
  webhook: Webhook | undefined
  /** Updates not yet confirmed by an offset or taken by the webhook. */
  updates: Update[]
  nextUpdateId: number
  polls: { answer: () => void; conflict: () => void } | undefined
  /** What people see of it, as far as it was set. */
  presence?: {
    name?: string
    about?: string
    description?: string
    commands?: { command: string; description: string }[]
  }
}

export interface Webhook {
  url: string
  secret: string | undefined
  allowed: string[] | undefined
  connections: number
  lastError: { at: number; says: string } | undefined
}

export type Update = { update_id: number } & { [event: string]: unknown }

export interface Person {
  id: number
  first_name: string
  last_name?: string
  username?: string
  language_code?: string
  is_bot: boolean
}

export interface Chat {
  id: number
  type: "private" | "group" | "supergroup" | "channel"
  title?: string
  username?: string
  first_name?: string
  last_name?: string
  is_forum?: boolean
  migratedTo?: number
  /** Bots that may speak here: whom the person wrote to, or who is a member. */
  bots: Set<string>
  blocked: Set<string>
  messages: ChatMessage[]
  nextMessageId: number
}

export type ChatMessage = {
  message_id: number
  date: number
  from?: object
  chat: object
  text?: string
  deleted?: boolean
} & { [field: string]: unknown }

export interface Fault {
  /** Only for this method; without it, for any. */
  method?: string
  /** Only for calls of this bot; without it, for any bot. */
  bot?: string
  kind: "429" | "500" | "slow" | "drop" | "garbage" | "silent"
  left: number
  seconds: number
}

export interface CallRecord {
  at: number
  bot: string
  method: string
  body: { [field: string]: unknown }
  status: number
  /** Whether the call took effect, also where no answer was given. */
  took: boolean
}

export class World {
  readonly bots = new Map<string, Bot>()
  readonly people = new Map<number, Person>()
  readonly chats = new Map<number, Chat>()
  readonly calls: CallRecord[] = []
  readonly waitingPresses = new Map<string, { answered: boolean; text?: string }>()
  faults: Fault[] = []
  /** Faults of the way to the webhook. */
  duplicates = 0
  reorder = 0
  private nextId = 7_100_000_000

  addBot(username: string, name: string, token?: string): Bot {
    const id = token ? Number(token.split(":")[0]) : 7_700_900_000 + this.bots.size
    const bot: Bot = {
      token: token ?? `${id}:standin-${username}-${Math.random().toString(36).slice(2, 14)}`,
      id,
      username,
      first_name: name,
      webhook: undefined,
      updates: [],
      // Never a number used before, also after a new start: a number seen twice is the same update.
      nextUpdateId: Math.floor(Date.now() / 10),
      polls: undefined,
    }
    this.bots.set(username, bot)
    return bot
  }

  botByToken(token: string): Bot | undefined {
    return [...this.bots.values()].find((bot) => bot.token === token)
  }

  addPerson(person: Partial<Person> & { first_name: string }): Person {
    const made: Person = { id: this.nextId++, is_bot: false, ...person }
    this.people.set(made.id, made)
    return made
  }

  privateChat(person: Person): Chat {
    const known = this.chats.get(person.id)
    if (known) return known
    const { id, first_name, last_name, username } = person
    return this.keep({
      id,
      type: "private",
      first_name,
      ...(last_name ? { last_name } : {}),
      ...(username ? { username } : {}),
    })
  }

  addGroup(group: {
    title: string
    type: "group" | "supergroup" | "channel"
    forum?: boolean
    username?: string
    bots: string[]
  }): Chat {
    const digits = this.nextId++
    const id = group.type === "group" ? -digits : -1_000_000_000_000 - digits
    const chat = this.keep({
      id,
      type: group.type,
      title: group.title,
      ...(group.forum ? { is_forum: true } : {}),
      ...(group.username ? { username: group.username } : {}),
    })
    group.bots.forEach((bot) => chat.bots.add(bot))
    return chat
  }

  /** A group becomes a supergroup and gets another id. */
  upgrade(chat: Chat): Chat {
    const upgraded = this.addGroup({ title: chat.title ?? "", type: "supergroup", bots: [...chat.bots] })
    chat.migratedTo = upgraded.id
    return upgraded
  }

  say(chat: Chat, message: { [field: string]: unknown }): ChatMessage {
    const said = {
      message_id: chat.nextMessageId++,
      date: Math.floor(Date.now() / 1000),
      chat: publicChat(chat),
      ...message,
    }
    chat.messages.push(said)
    if (chat.messages.length > 2000) chat.messages.splice(0, 500)
    return said
  }

  private keep(chat: Omit<Chat, "bots" | "blocked" | "messages" | "nextMessageId">): Chat {
    const made: Chat = { ...chat, bots: new Set(), blocked: new Set(), messages: [], nextMessageId: 1 }
    this.chats.set(made.id, made)
    return made
  }
}

export function publicChat(chat: Chat): object {
  const { id, type, title, username, first_name, last_name, is_forum } = chat
  return JSON.parse(JSON.stringify({ id, type, title, username, first_name, last_name, is_forum })) as object
}
