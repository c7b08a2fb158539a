import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import type { DueTimer, TimerFate } from "../../store/timers.ts"
import { takeDueTimers } from "../../store/timers.ts"
import type { Releases } from "../handlers/releases.ts"
import type { Errands } from "../process/errands.ts"
import type { Repeated } from "../process/every.ts"
import { wallClock } from "../process/wallClock.ts"

/** Milliseconds after somebody wrote in which what the bot says is an answer, whatever the hour. */
const stillAnswered = 15 * 60_000
/** Times taken at once. */
const most = 100

/** Puts times that are over into the lines of their conversations. */
export class Timers {
  private repeated: Repeated | undefined

  constructor(private readonly parts: { database: Database; releases: Releases; bell: Bell; errands: Errands }) {}

  start(): void {
    const failed = "times that are over could not be taken; they are taken again"
    this.repeated = this.parts.errands.whenDue("timers", () => this.look(), failed)
  }

  async stop(): Promise<void> {
    await this.repeated?.stop()
  }

  private async look(): Promise<void> {
    const { database, bell } = this.parts
    for (;;) {
      const joined = await takeDueTimers(database, most, (timer) => this.fateOf(timer, wallClock("calendar")))
      if (joined === 0) return
      if (FAULTS_BUILT) await faultPoint("timer: in line")
      bell.ring("work")
      bell.ring("live")
      if (joined < most) return
    }
  }

  /** A time that is over in hours in which the bot is quiet is waited for until they end. */
  private async fateOf({ unwanted, release, silent }: DueTimer, now: Date): Promise<TimerFate> {
    // It takes its place in the line all the same, so that it is on record.
    if (unwanted) return { does: "join", dropped: true }
    if (silent !== null && silent < stillAnswered) return { does: "join" }
    const until = await this.parts.releases.with(release, async (ready) => ready?.table.quietUntil(now.toISOString()))
    return until === undefined ? { does: "join" } : { does: "wait", until: new Date(until) }
  }
}
