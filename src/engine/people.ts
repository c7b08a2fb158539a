import { kindOf } from "../core/channels/registry.ts"
import type { Message } from "../core/message/message.ts"
import type { Database } from "../store/database.ts"
import { addressOf } from "../store/directory.ts"
import type { KnownChannel } from "./channels.ts"
import type { Directory } from "./directory.ts"
import { perform } from "./perform.ts"

type Sender = NonNullable<Message["from"]>

/** Milliseconds a turn waits for a name at most: an answer without one is better than a late one. */
const patience = 2000
/** After a look-up that brought nothing, the provider is not asked again for so long, in milliseconds. */
const pause = 10 * 60_000
const most = 20_000

/** Who somebody is, on kinds whose messages carry no names: asked once of the provider, then kept. */
export class People {
  private readonly asked = new Map<string, { at: number; found: Promise<Sender> }>()

  constructor(
    private readonly database: Database,
    private readonly directory: Directory,
  ) {}

  /** The sender with the name the provider knows, where the message itself names none. */
  async named(known: KnownChannel, message: Message): Promise<Message> {
    const { from } = message
    if (!from || from.name !== undefined || !kindOf(known.row.kind).people) return message
    const key = `${known.row.key} ${from.address}`
    let asking = this.asked.get(key)
    if (!asking || Date.now() - asking.at > pause) {
      asking = { at: Date.now(), found: this.lookUp(known, message, from).catch(() => from) }
      this.asked.delete(key)
      this.asked.set(key, asking)
      if (this.asked.size > most) this.asked.delete(this.asked.keys().next().value!)
    }
    const late = new Promise<Sender>((resolve) => setTimeout(() => resolve(from), patience).unref())
    return { ...message, from: await Promise.race([asking.found, late]) }
  }

  private async lookUp(known: KnownChannel, message: Message, from: Sender): Promise<Sender> {
    const kept = await addressOf(this.database, known.row.key, from.address)
    if (kept?.name) return { ...from, ...kept }
    const people = kindOf(known.row.kind).people!
    const found = people.read(await perform(people.ask(from.address, known.channel), known.channel, undefined))
    if (!found) return from
    const named = { ...from, ...found, bot: from.bot || found.bot === true }
    await this.directory.learn(known.row.key, message, named)
    return named
  }
}
