import type { Message } from "../core/message/message.ts"
import type { Database } from "../store/database.ts"
import { contactsOf, conversationsAt, movePlace, renamePlace, titleOf } from "../store/directory.ts"

const most = 50_000

/** Which conversation a place holds, and who a sender is; what was looked up lately is kept at hand. */
export class Directory {
  private readonly conversations = new Map<string, { conversation: string; title: string | undefined }>()
  private readonly contacts = new Map<string, { contact: string; name: string }>()

  constructor(private readonly database: Database) {}

  /** The conversations of these messages, in their order; places and people met for the first time are entered. */
  async conversationsOf(messages: { channel: string; message: Message }[]): Promise<string[]> {
    await this.enterContacts(messages)
    const missing = new Map<string, (typeof messages)[number]>()
    for (const one of messages) {
      const key = placeKey(one.channel, one.message)
      if (!this.conversations.has(key)) missing.set(key, one)
    }
    if (missing.size > 0) {
      const wanted = [...missing.values()].map(({ channel, message }) => {
        const contact = message.place.kind === "direct" ? this.contactOf(channel, message) : undefined
        return { channel, place: message.place, ...(contact ? { contact } : {}) }
      })
      const found = await conversationsAt(this.database, wanted)
      ;[...missing.entries()].forEach(([key, { message }], at) => {
        keep(this.conversations, key, { conversation: found[at]!, title: message.place.title })
      })
    }
    return Promise.all(messages.map(({ channel, message }) => this.current(placeKey(channel, message), message)))
  }

  /** Keeps what was learned of a sender. */
  async learn(channel: string, sender: NonNullable<Message["from"]>): Promise<void> {
    await contactsOf(this.database, [{ channel, sender }])
  }

  /** Gives a conversation its title, if it has none yet. */
  async entitle(channel: string, place: Message["place"], title: string): Promise<void> {
    const at = await titleOf(this.database, channel, place)
    if (at && at.title === null) await renamePlace(this.database, at.conversation, title)
  }

  async move(channel: string, from: string, to: string): Promise<void> {
    await movePlace(this.database, channel, from, to)
    for (const key of this.conversations.keys()) {
      if (key.startsWith(`${channel} ${to} `)) this.conversations.delete(key)
    }
  }

  private async current(key: string, message: Message): Promise<string> {
    const known = this.conversations.get(key)!
    const title = message.place.title
    if (title !== undefined && title !== known.title) {
      known.title = title
      await renamePlace(this.database, known.conversation, title)
    }
    return known.conversation
  }

  private async enterContacts(messages: { channel: string; message: Message }[]): Promise<void> {
    const missing = new Map<string, { channel: string; sender: NonNullable<Message["from"]> }>()
    for (const { channel, message } of messages) {
      if (!message.from) continue
      const key = `${channel} ${message.from.address}`
      if (this.contacts.get(key)?.name !== shownName(message.from)) missing.set(key, { channel, sender: message.from })
    }
    if (missing.size === 0) return
    const found = await contactsOf(this.database, [...missing.values()])
    ;[...missing.entries()].forEach(([key, { sender }], at) => {
      keep(this.contacts, key, { contact: found[at]!, name: shownName(sender) })
    })
  }

  /** Who a sender is, if it was looked up lately. */
  contactOf(channel: string, message: Message): string | undefined {
    return message.from && this.contacts.get(`${channel} ${message.from.address}`)?.contact
  }
}

function shownName(sender: NonNullable<Message["from"]>): string {
  return [sender.name, sender.handle, sender.language].join("\n")
}

function placeKey(channel: string, message: Message): string {
  return `${channel} ${message.place.address} ${message.place.topic ?? ""}`
}

/** Keeps what was used last; the oldest goes when there is too much. */
function keep<Value>(map: Map<string, Value>, key: string, value: Value): void {
  map.delete(key)
  map.set(key, value)
  if (map.size > most) map.delete(map.keys().next().value!)
}
