import { kindOf } from "../../core/channels/registry.ts"
import { endChore, takeChore } from "../../store/chores.ts"
import type { Database } from "../../store/database.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Alerts } from "../sender/alerts.ts"

/** Of the time a gateway keeps what waits, the part after which its operator is told that nobody fetches it. */
const warnAfter = 0.5
/** Seconds within which another process may tell it, should this one end. */
const longest = 60

/** What waits at a gateway that nobody asks: since when, and in how many seconds the first of it is lost. */
export interface Unfetched {
  since: Date
  lostIn: number
}

/** Whether a channel's queue has not been fetched for so long that what waits there is soon lost. */
export function unfetched({ row, channel }: KnownChannel, now: Date): Unfetched | undefined {
  const keeps = kindOf(row.kind).polling?.(channel)?.keeps
  if (keeps === undefined) return undefined
  const since = row.fetched_at ?? row.created_at
  const seconds = (now.getTime() - since.getTime()) / 1000
  return seconds < keeps * warnAfter ? undefined : { since, lostIn: Math.max(0, Math.round(keeps - seconds)) }
}

export function inWords(seconds: number): string {
  if (seconds < 120) return `${Math.round(seconds)} s`
  return seconds < 7200 ? `${Math.round(seconds / 60)} min` : `${Math.round(seconds / 3600)} h`
}

/** What an operator is told of it. */
export function saysUnfetched({ since, lostIn }: Unfetched, now: Date): string {
  const nobody = `nothing has been fetched for ${inWords((now.getTime() - since.getTime()) / 1000)}`
  return lostIn > 0
    ? `${nobody}: what waits longest at the gateway is lost in ${inWords(lostIn)}`
    : `${nobody}: what waited longest at the gateway is lost by now`
}

/** Tells an operator before messages that wait at a gateway are lost: once for each time that fetching stands still. */
export class QueueWatch {
  constructor(private readonly parts: { database: Database; channels: Channels; alerts: Alerts; self: string }) {}

  async look(now: Date): Promise<void> {
    const { database, channels, alerts, self } = this.parts
    for (const known of channels.all()) {
      const waits = unfetched(known, now)
      if (!waits) continue
      const { key } = known.row
      const name = `unfetched ${key} ${waits.since.getTime()}`
      // Ten years: what was told once of one standstill is told.
      if (!(await takeChore(database, { name, every: 10 * 365 * 86_400, within: longest }, self))) continue
      const remedy =
        known.row.state === "on" ? `"wobbet channel check ${key}" says why.` : `Resume the channel before that.`
      await alerts.raise(known, `The channel ${key}: ${saysUnfetched(waits, now)}. ${remedy}`)
      await endChore(database, name, self, true)
    }
  }
}
