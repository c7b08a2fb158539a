import { LRUCache } from "lru-cache"
import type { Message, Sender } from "../../core/message/message.ts"
import type { Database } from "../../store/database.ts"
import type { MarkOf } from "../../store/directory.ts"
import { contactsOf, conversationsAt, movePlace, renamePlace, titleOf } from "../../store/directory.ts"

/** A message and the channel it came in by. */
interface Said {
  channel: string
  message: Message
}

interface KnownPlace {
  conversation: string
  title: string | undefined
}

/**
 * Bounds what is kept at hand. Given as a number of entries, room for all of them would be made at once: 40 ms of a
 * start, for people that most services never hear of.
 */
export const atMost = (entries: number) => ({ maxSize: entries, sizeCalculation: () => 1 })

/** Which conversation a place holds, and who a sender is; what was looked up lately is kept at hand. */
export class Directory {
  private readonly conversations: LRUCache<string, KnownPlace>
  private readonly contacts: LRUCache<string, { contact: string; name: string }>

  /** @param most places, and people, kept at hand */
  constructor(
    private readonly database: Database,
    private readonly markOf: MarkOf,
    most = 50_000,
  ) {
    this.conversations = new LRUCache(atMost(most))
    this.contacts = new LRUCache(atMost(most))
  }

  /**
   * The conversations of these messages and who said them, in their order; places and people met for the first time are
   * entered.
   */
  async placesOf(said: Said[]): Promise<{ conversation: string; contact: string | undefined }[]> {
    // Held apart from what is kept at hand, which may be pushed out, or thrown away, before this batch is through.
    const contacts = await this.contactsOf(said)
    const places = new Map<string, KnownPlace>()
    const missing = new Map<string, Said>()
    for (const one of said) {
      const key = placeKey(one)
      const known = this.conversations.get(key)
      if (known) places.set(key, known)
      else missing.set(key, one)
    }
    if (missing.size > 0) {
      const wanted = [...missing.values()].map(({ channel, message }) => {
        const contact = message.place.kind === "direct" ? contacts.get(senderKey({ channel, message })) : undefined
        return { channel, place: message.place, ...(contact ? { contact } : {}) }
      })
      const found = await conversationsAt(this.database, wanted, this.markOf)
      ;[...missing.entries()].forEach(([key, { message }], at) => {
        const place = { conversation: found[at]!, title: message.place.title }
        places.set(key, place)
        this.conversations.set(key, place)
      })
    }
    return Promise.all(
      said.map(async (one) => ({
        conversation: await this.titled(places.get(placeKey(one))!, one.message),
        contact: contacts.get(senderKey(one)),
      })),
    )
  }

  /** People were joined, split or forgotten: who is behind an address, and where they talk, is looked up again. */
  lookAgain(): void {
    this.contacts.clear()
    this.conversations.clear()
  }

  /** Keeps what was learned of a sender. */
  async learn(channel: string, sender: Sender): Promise<void> {
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

  /** The conversation, its title kept current. */
  private async titled(place: KnownPlace, { place: { title } }: Message): Promise<string> {
    if (title !== undefined && title !== place.title) {
      place.title = title
      await renamePlace(this.database, place.conversation, title)
    }
    return place.conversation
  }

  /** Who the senders of these messages are, by their keys. */
  private async contactsOf(said: Said[]): Promise<Map<string, string>> {
    const contacts = new Map<string, string>()
    const missing = new Map<string, { channel: string; sender: Sender }>()
    for (const one of said) {
      const { channel, message } = one
      if (!message.from) continue
      const key = senderKey(one)
      const known = this.contacts.get(key)
      if (known?.name === shownName(message.from)) contacts.set(key, known.contact)
      else missing.set(key, { channel, sender: message.from })
    }
    if (missing.size === 0) return contacts
    const found = await contactsOf(this.database, [...missing.values()])
    ;[...missing.entries()].forEach(([key, { sender }], at) => {
      contacts.set(key, found[at]!)
      this.contacts.set(key, { contact: found[at]!, name: shownName(sender) })
    })
    return contacts
  }
}

function shownName(sender: Sender): string {
  return [sender.name, sender.handle, sender.language].join("\n")
}

function senderKey({ channel, message }: Said): string {
  return `${channel} ${message.from?.address}`
}

function placeKey({ channel, message }: Said): string {
  return `${channel} ${message.place.address} ${message.place.topic ?? ""}`
}
