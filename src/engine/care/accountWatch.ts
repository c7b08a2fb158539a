import { kindOf } from "../../core/channels/registry.ts"
import { hasProfile, profileOf } from "../../core/gateway/shipped.ts"
import { endChore, takeChore } from "../../store/chores.ts"
import type { Database } from "../../store/database.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Identities } from "../identities.ts"
import type { Alerts } from "../sender/alerts.ts"

/** Seconds after which another process asks, should the one that was about to have ended. */
const longest = 60

/**
 * Asks gateways now and then how their accounts are, as their profiles say, one process for all: a channel whose account
 * can send nothing stops before it tries, and resumes by itself when the account is well again.
 */
export class AccountWatch {
  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      identities: Identities
      alerts: Alerts
      self: string
    },
  ) {}

  /** When this process looks again whether a channel's turn has come: not more often than makes a difference. */
  private readonly next = new Map<string, number>()

  /** Side by side: a gateway that does not answer delays no other. */
  async look(): Promise<void> {
    const due = this.parts.channels.all().flatMap((known) => {
      const every = seconds(known)
      const { key } = known.row
      if (every === undefined || performance.now() < (this.next.get(key) ?? 0)) return []
      this.next.set(key, performance.now() + every * 250)
      return [this.ask(known, every)]
    })
    await Promise.all(due)
  }

  private async ask(known: KnownChannel, every: number): Promise<void> {
    const { database, identities, alerts, self } = this.parts
    const { key } = known.row
    const name = `account ${key}`
    if (!(await takeChore(database, { name, every, within: longest }, self))) return
    const found = await identities.ask(known)
    // A gateway that does not answer just now says nothing of the account.
    if ("fault" in found) {
      if (found.lockedOut) await alerts.lockOut(key, { why: found.fault, remedy: found.remedy })
    } else if (found.alarm) await alerts.alarmed(key, found.alarm)
    else await alerts.recovered(key, "the gateway says that its account is well")
    await endChore(database, name, self, true)
  }
}

/** How often a channel's account is asked about; nothing for one that is paused by hand. */
function seconds({ row, channel }: KnownChannel): number | undefined {
  if (!kindOf(row.kind).schemasFor || row.state === "paused" || !hasProfile(channel)) return undefined
  return profileOf(channel).state?.every
}
