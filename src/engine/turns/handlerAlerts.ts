import type { Logger } from "pino"
import { shorten } from "../../core/message/graphemes.ts"
import type { Database } from "../../store/database.ts"
import { firstParked } from "../../store/parked.ts"
import type { TurnResult } from "../../store/turns.ts"
import type { Channels } from "../channels.ts"
import type { Alerts } from "../sender/alerts.ts"

/** Milliseconds in which one handler's failures on one channel are told once, whatever else each of them says. */
const quiet = 600_000
/** Milliseconds after which is looked, once a handler did well, whether what it failed at is over. */
const lookAfter = 1000

/** Characters of what a handler threw that are told. */
const longestReason = 500

interface Told {
  reason: string
  at: number
  /** Set while somebody will look. */
  looks?: NodeJS.Timeout
}

/**
 * Tells whoever a channel's `alertTo` names that a handler fails: once for each cause, while anything is parked for it,
 * and once that it is over. Nothing is asked of the database where nobody wants to be told.
 */
export class HandlerAlerts {
  private readonly told = new Map<string, Told>()

  constructor(private readonly parts: { database: Database; channels: Channels; alerts: Alerts; log: Logger }) {}

  stop(): void {
    for (const { looks } of this.told.values()) clearTimeout(looks)
    this.told.clear()
  }

  take({ channel, turn, parked }: TurnResult): void {
    const { handler, outcome } = turn
    if (!handler || !this.parts.channels.get(channel)?.row.settings.alertTo) return
    const key = `${channel}\n${handler}`
    if (parked?.cause === "handler failed")
      this.run(channel, this.failed(channel, key, parked.reason, turn.messages[0]))
    else if (outcome === "handled" || outcome === "unrouted") this.handled(channel, key)
  }

  /** It may fail at one thing and do well at others: what it did well is only a reason to look. */
  private handled(channel: string, key: string): void {
    const told = this.told.get(key)
    if (told) told.looks ??= setTimeout(() => this.run(channel, this.look(channel, key)), lookAfter).unref()
  }

  private run(channel: string, told: Promise<void>): void {
    told.catch((error: unknown) =>
      this.parts.log.error({ err: error, channel }, "it could not be told that a handler fails, or works again"),
    )
  }

  private async failed(channel: string, key: string, reason: string, message: string | undefined): Promise<void> {
    const { database, channels, alerts } = this.parts
    const before = this.told.get(key)
    if (before && performance.now() - before.at < quiet) return
    // Of several that failed alike, in whatever process, the first is told.
    if ((await firstParked(database, channel, reason)) !== message) return
    const known = channels.get(channel)
    if (!known) return
    this.told.set(key, { reason, at: performance.now() })
    await alerts.raise(
      known,
      `On the channel ${channel}, ${shorten(reason, longestReason)}. Fix it, then retry what is parked: "wobbet parked list" shows it.`,
    )
  }

  /** It is over when nothing is parked for it any more. */
  private async look(channel: string, key: string): Promise<void> {
    const { database, channels, alerts } = this.parts
    const told = this.told.get(key)
    const known = channels.get(channel)
    if (!told || !known) return
    delete told.looks
    if ((await firstParked(database, channel, told.reason)) !== undefined || !this.told.delete(key)) return
    const [, handler] = key.split("\n")
    await alerts.raise(
      known,
      `On the channel ${channel}, the handler "${handler}" works again: nothing is parked for it.`,
    )
  }
}
