import { setTimeout as pause } from "node:timers/promises"
import { LRUCache } from "lru-cache"
import type { Account } from "../core/channels/kind.ts"
import type { ProviderAnswer } from "../core/channels/call.ts"
import { kindOf } from "../core/channels/registry.ts"
import type { Bell } from "../store/bell.ts"
import { keepIdentity } from "../store/channels.ts"
import type { Database } from "../store/database.ts"
import { perform } from "./calls/perform.ts"
import type { Channels, KnownChannel } from "./channels.ts"

/** Milliseconds a call waits at most until its channel knows who it is. */
const patience = 1000
/** Milliseconds after which a provider that did not tell is asked again. */
const again = 30_000

/** Who the channels' keys belong to at their providers: asked for with the first call, or by hand, and then kept. */
export class Identities {
  private readonly asking = new LRUCache<string, Promise<unknown>>({ max: 1000, ttl: again })

  constructor(private readonly parts: { database: Database; channels: Channels; bell: Bell }) {}

  /**
   * The channel with its identity, where reading its calls depends on that: who is mentioned, whose command it is, and
   * which words are our own. A provider that does not tell in time leaves it without; then nothing is guessed.
   */
  async of(known: KnownChannel): Promise<KnownChannel> {
    const { key } = known.row
    if (known.row.identity || !kindOf(known.row.kind).readsByIdentity) return known
    let asking = this.asking.get(key)
    if (!asking) this.asking.set(key, (asking = this.ask(known).catch(() => undefined)))
    await Promise.race([asking, pause(patience, undefined, { ref: false })])
    return this.parts.channels.get(key) ?? known
  }

  /** Asks the provider, and keeps what it says. */
  async ask({ row, channel }: KnownChannel): Promise<ReturnType<Account["readCheck"]>> {
    const { database, channels, bell } = this.parts
    const { account } = kindOf(row.kind)
    const call = account.check(channel)
    const answer: ProviderAnswer = call
      ? await perform(call, channel, undefined)
      : { failure: "there is nothing to ask", sent: false }
    const found = account.readCheck(answer, channel)
    if ("identity" in found) {
      await keepIdentity(database, row.key, found.identity)
      await channels.refresh()
      bell.ring("channels")
      bell.ring("live")
    }
    return found
  }
}
