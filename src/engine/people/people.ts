import { setTimeout as pause } from "node:timers/promises"
import { LRUCache } from "lru-cache"
import { kindOf } from "../../core/channels/registry.ts"
import type { Message, Sender } from "../../core/message/message.ts"
import type { Database } from "../../store/database.ts"
import { addressOf } from "../../store/directory.ts"
import type { KnownChannel } from "../channels.ts"
import { perform } from "../calls/perform.ts"
import type { Directory } from "./directory.ts"
import { atMost } from "./directory.ts"

/** Milliseconds a turn waits for a name at most: an answer without one is better than a late one. */
const patience = 2000
/** After a look-up that brought nothing, the provider is not asked again for so long, in milliseconds. */
const longestMemory = 10 * 60_000
const most = 20_000

/** Who somebody is, and what a place is called, on kinds whose messages tell neither: asked once, then kept. */
export class People {
  private readonly asked = new LRUCache<string, Promise<Sender>>({ ...atMost(most), ttl: longestMemory })
  private readonly titled = new LRUCache<string, true>(atMost(most))

  constructor(
    private readonly database: Database,
    private readonly directory: Directory,
  ) {}

  /** The sender with the name the provider knows, where the message itself names none. */
  async named(known: KnownChannel, message: Message): Promise<Message> {
    const { from } = message
    if (!kindOf(known.row.kind).people) return message
    if (!from || from.name !== undefined) {
      this.title(known, message, from?.name)
      return message
    }
    const key = `${known.row.key} ${from.address}`
    let asking = this.asked.get(key)
    if (!asking) {
      asking = this.lookUp(known, from).catch(() => from)
      this.asked.set(key, asking)
    }
    const found = await Promise.race([asking, pause(patience, from, { ref: false })])
    this.title(known, message, found.name)
    return { ...message, from: found }
  }

  private async lookUp(known: KnownChannel, from: Sender): Promise<Sender> {
    const kept = await addressOf(this.database, known.row.key, from.address)
    if (kept?.name) return { ...from, ...kept }
    const people = kindOf(known.row.kind).people!
    const found = people.read(await perform(people.ask(from.address, known.channel), known.channel, undefined))
    if (!found) return from
    const named = { ...from, ...found, bot: from.bot || found.bot === true }
    await this.directory.learn(known.row.key, named)
    return named
  }

  /** A direct conversation is called after its person, a group as the provider calls it. Nothing waits for that. */
  private title(known: KnownChannel, { place }: Message, person: string | undefined): void {
    const key = `${known.row.key} ${place.address} ${place.topic ?? ""}`
    if (place.title !== undefined || this.titled.has(key)) return
    const people = kindOf(known.row.kind).people!
    const name =
      place.kind === "direct"
        ? Promise.resolve(person)
        : people.askPlace && people.readPlace
          ? perform(people.askPlace(place.address, known.channel), known.channel, undefined).then((answer) =>
              people.readPlace!(answer),
            )
          : Promise.resolve(undefined)
    this.titled.set(key, true)
    void name
      .then(async (title) => {
        if (title !== undefined) await this.directory.entitle(known.row.key, place, title)
      })
      .catch(() => this.titled.delete(key))
  }
}
