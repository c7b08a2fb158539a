import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import type { LeasedWait } from "../../store/waits.ts"
import { leaseWaits, releaseLease } from "../../store/waits.ts"
import { Watchers } from "../process/watchers.ts"
import { Trouble } from "../trouble.ts"
import { newLease } from "./newLease.ts"
import { wallClock } from "../process/wallClock.ts"

/** Workers that may wait at once, in one process. */
const mostAsking = 500

/** What a worker asks of a queue. */
export interface LeaseAsked {
  queue: string
  /** Who asks. */
  by: string
  /** Turns at most. */
  most: number
  /** Seconds to wait where there is none. */
  wait: number
  /** Seconds for which they are lent. */
  seconds: number
  bot?: string | undefined
  lane?: string | undefined
}

/** Lends turns that wait at queues to workers, who may wait for the next. */
export class Lending {
  private readonly watchers = new Watchers()
  private asking = 0
  private stopping = false

  constructor(private readonly parts: { database: Database; bell: Bell }) {
    parts.bell.on("queues", () => this.watchers.wake())
  }

  /** Whoever waits is told that there is nothing, and asks another process. */
  stop(): void {
    this.stopping = true
    this.watchers.wake()
  }

  async lease(asked: LeaseAsked, gone: AbortSignal): Promise<LeasedWait[]> {
    if (this.asking >= mostAsking)
      throw new Trouble(
        "too-many",
        `More than ${mostAsking} workers wait here already.`,
        "Ask again soon.",
        undefined,
        1,
      )
    this.asking++
    try {
      return await this.upTo(asked, gone)
    } finally {
      this.asking--
    }
  }

  private async upTo(
    { queue, by, most, wait, seconds, bot, lane }: LeaseAsked,
    gone: AbortSignal,
  ): Promise<LeasedWait[]> {
    const { database } = this.parts
    for (const end = performance.now() + wait * 1000; ;) {
      if (gone.aborted || this.stopping) return []
      const leases = Array.from({ length: most }, newLease)
      const taken = await leaseWaits(database, {
        ...{ kind: "queue", place: queue, by, seconds, count: most, leases },
        bot,
        lane,
      })
      if (taken.length > 0 && gone.aborted) return this.takeBack(taken)
      const left = end - performance.now()
      if (taken.length > 0 || left <= 0) return taken
      await this.watchers.until(Math.min(left, 1000), gone)
    }
  }

  /** Whoever asked has hung up. */
  private async takeBack(taken: LeasedWait[]): Promise<LeasedWait[]> {
    for (const { lease, place } of taken) {
      const call = { to: place, at: wallClock("record").toISOString(), came: "leased by somebody who had hung up" }
      await releaseLease(this.parts.database, lease, [call], 0)
    }
    return []
  }
}
