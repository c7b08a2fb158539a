import type { Logger } from "pino"
import type { InboundCall, InletAnswer } from "../../core/channels/call.ts"
import { kindOf } from "../../core/channels/registry.ts"
import {
  broughtWaiting,
  endBringing,
  forgetBrought,
  handOut,
  keepBrought,
  renewBringing,
  takeBack,
  takeBrought,
} from "../../store/brought.ts"
import type { Database } from "../../store/database.ts"
import type { Bell } from "../../store/bell.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import { Watchers } from "../process/watchers.ts"
import type { Seal } from "../seal.ts"

/** Seconds a service elsewhere may be silent before its channel's calls are this service's own again. */
export const longestSilence = 600

/** A call as it travels to a service elsewhere. */
export interface CarriedCall {
  id: string
  method: string
  address: string
  headers: { [name: string]: string }
  /** Base64. */
  body: string
  receivedAt: string
}

/**
 * Calls of channels whose messages are handled by a service that cannot be reached itself: it fetches them here, in
 * their order, and tells what to answer. Each is kept, sealed, until it was taken there.
 */
export class Forwarding {
  private readonly waiting = new Map<string, (answer: InletAnswer | undefined) => void>()
  private readonly watchers = new Watchers()
  /** For each channel how many askings are open here, and when the last one ended. */
  private readonly asking = new Map<string, { open: number; ended: number }>()

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      seal: Seal
      bell: Bell
      log: Logger
      /** Takes a call in as this service's own. */
      takeIn: (known: KnownChannel, id: string, call: InboundCall, note: string) => Promise<void>
    },
  ) {
    parts.bell.on("brought", () => this.watchers.wake())
  }

  isOn({ row }: KnownChannel, now: Date): boolean {
    return row.bringing !== null && Date.parse(row.bringing.until) > now.getTime()
  }

  /** Keeps a call for the other service, or handles it here if that one has just gone. Its answer is the call's own when it comes within the provider's patience. */
  async carry(id: string, known: KnownChannel, call: InboundCall, now: Date): Promise<InletAnswer | undefined> {
    const { database, seal, bell } = this.parts
    const carried: CarriedCall = {
      id,
      method: call.method,
      address: call.address,
      headers: call.headers,
      body: Buffer.from(call.body).toString("base64"),
      receivedAt: now.toISOString(),
    }
    const sealed = seal.seal(JSON.stringify(carried))
    if (!(await keepBrought(database, { id, channel: known.row.key, sealed }))) {
      await this.handleHere(known, id, call)
      return undefined
    }
    bell.ring("brought")
    this.watchers.wake()
    // While nobody is there to answer, callers are not kept waiting: the call is kept, and that is what they hear.
    if (!this.isPresent(known.row.key)) return undefined
    const patience = kindOf(known.row.kind).patience ?? 8
    const answered = new Promise<InletAnswer | undefined>((resolve) => {
      const timer = setTimeout(() => (this.waiting.delete(id), resolve(undefined)), patience * 1000)
      this.waiting.set(id, (answer) => (clearTimeout(timer), this.waiting.delete(id), resolve(answer)))
    })
    return answered
  }

  private isPresent(channel: string): boolean {
    const asking = this.asking.get(channel)
    return asking !== undefined && (asking.open > 0 || performance.now() - asking.ended < 2000)
  }

  /** The other service's next calls; waits a while when there are none. Its asking keeps the arrangement alive. */
  async next(known: KnownChannel, by: string, seconds: number, gone: AbortSignal): Promise<CarriedCall[]> {
    const { key } = known.row
    const asking = this.asking.get(key) ?? { open: 0, ended: 0 }
    this.asking.set(key, asking)
    asking.open++
    try {
      return await this.upTo(known, by, seconds, gone)
    } finally {
      asking.open--
      // Who hung up is gone; who was given something is busy with it.
      asking.ended = gone.aborted ? -Infinity : performance.now()
    }
  }

  private async upTo(known: KnownChannel, by: string, seconds: number, gone: AbortSignal): Promise<CarriedCall[]> {
    const { database, channels, seal, bell } = this.parts
    const { key } = known.row
    const fresh = known.row.bringing === null
    await renewBringing(database, key, by, longestSilence)
    if (fresh) {
      await channels.refresh()
      bell.ring("channels")
      bell.ring("live")
    }
    for (const end = performance.now() + seconds * 1000; ;) {
      if (gone.aborted) return []
      const calls = await handOut(database, key, 20)
      if (calls.length > 0) return calls.map((call) => JSON.parse(seal.open(call.sealed)) as CarriedCall)
      const left = end - performance.now()
      if (left <= 0) return []
      await this.watchers.until(Math.min(left, 2000), gone)
    }
  }

  async answered(known: KnownChannel, id: string, answer: InletAnswer): Promise<boolean> {
    const { database, bell } = this.parts
    const taken = await takeBrought(database, known.row.key, id)
    this.waiting.get(id)?.(answer)
    bell.ring("live")
    return taken
  }

  /**
   * The other service goes: what it has not been given is handled here.
   *
   * @param all also what it was given and never confirmed, since it says that it has not taken it
   */
  async end(known: KnownChannel, all = false): Promise<number> {
    const { database, channels, bell } = this.parts
    await endBringing(database, known.row.key)
    await channels.refresh()
    bell.ring("channels")
    bell.ring("live")
    return this.takeBack(known, all)
  }

  /** Arrangements nobody has kept alive end by themselves. */
  async sweep(now: Date): Promise<void> {
    for (const known of this.parts.channels.all()) {
      const { bringing } = known.row
      if (bringing && Date.parse(bringing.until) <= now.getTime()) {
        this.parts.log.warn(
          { channel: known.row.key },
          `${bringing.by} has not fetched this channel's calls for ${longestSilence / 60} minutes; they are handled here again`,
        )
        await this.end(known)
      }
    }
  }

  /** How many calls wait for each channel, and how many were given out and never confirmed. */
  async counts(): Promise<Map<string, { waiting: number; handed: number }>> {
    return new Map((await broughtWaiting(this.parts.database)).map(({ channel, ...rest }) => [channel, rest]))
  }

  private async handleHere(known: KnownChannel, id: string, call: InboundCall): Promise<void> {
    const note = "the service that fetched this channel's calls went before it took this one"
    // The same id each time: should this break off in between, nothing is taken in twice.
    await this.parts.takeIn(known, `${id}b`, call, note)
    // Who made the call need not wait for the answer of the one that has gone.
    this.waiting.get(id)?.(undefined)
  }

  private async takeBack(known: KnownChannel, all: boolean): Promise<number> {
    const { database, seal } = this.parts
    let taken = 0
    for (;;) {
      const calls = await takeBack(database, known.row.key, all, 50)
      if (calls.length === 0) return taken
      for (const call of calls) {
        const { method, address, headers, body } = JSON.parse(seal.open(call.sealed)) as CarriedCall
        await this.handleHere(known, call.id, { method, address, headers, body: Buffer.from(body, "base64") })
      }
      await forgetBrought(
        database,
        calls.map((call) => call.id),
      )
      taken += calls.length
    }
  }
}
