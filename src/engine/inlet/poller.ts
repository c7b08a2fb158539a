import { setTimeout as sleep } from "node:timers/promises"
import type { Logger } from "pino"
import type { Polling } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import { noteFetched } from "../../store/channels.ts"
import { LeaseLost } from "../../store/intake.ts"
import { giveUpLeases, takeLeases } from "../../store/leases.ts"
import type { Alerts } from "../sender/alerts.ts"
import type { Bell } from "../../store/bell.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Inlet } from "./inlet.ts"
import { perform } from "../calls/perform.ts"
import type { Repeated } from "../process/every.ts"
import { every } from "../process/every.ts"
import { wallClock } from "../process/wallClock.ts"

const leaseSeconds = 20
/** How long the provider may hold a poll open, in seconds. */
const holdSeconds = 20
/** Seconds before asking again where another program or a registered address is in the way. */
const conflictPause = 30
/** Milliseconds before a queue that was empty, and said so at once, is asked again. */
const emptyPause = 1000

/** Why a channel's polling stands still, in words. */
export interface PollTrouble {
  says: string
  remedy: string
  since: Date
}

interface Round {
  abort: AbortController
  offset: string | undefined
  /** Ends a pause early. */
  wake?: () => void
}

/** Asks for updates where a channel polls: one process a channel, the offset kept with the messages it brought. */
export class Poller {
  readonly troubles = new Map<string, PollTrouble>()
  private readonly rounds = new Map<string, Round>()
  private leasing: Repeated | undefined
  private stopping = false

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      inlet: Inlet
      alerts: Alerts
      bell: Bell
      log: Logger
      self: string
    },
  ) {}

  start(): void {
    const leasing = (this.leasing = every(
      2000,
      () => this.lease(),
      (error) => {
        if (databaseFault(error) !== "away")
          this.parts.log.error({ err: error }, "polling met a fault of its own; it is tried again")
      },
    ))
    this.parts.bell.on("channels", () => {
      // Whatever was in the way may be gone: somebody has just changed or connected a channel.
      for (const round of this.rounds.values()) round.wake?.()
      void leasing.now()
    })
    void leasing.now()
  }

  async stop(): Promise<void> {
    this.stopping = true
    for (const round of this.rounds.values()) round.abort.abort()
    await this.leasing?.stop()
    const end = performance.now() + 3000
    while (this.rounds.size > 0 && performance.now() < end) await sleep(20)
    await giveUpLeases(this.parts.database, this.parts.self, "poll").catch(() => undefined)
  }

  private async lease(): Promise<void> {
    if (this.stopping) return
    // While nothing can be sent, what waits is fetched all the same: it may say that all is well again.
    const polling = this.parts.channels
      .all()
      .filter((known) => known.row.state !== "paused" && pollingOf(known) !== undefined)
    const taken = await takeLeases(
      this.parts.database,
      "poll",
      polling.map(({ row }) => row.key),
      this.parts.self,
      leaseSeconds,
    )
    if (this.stopping) return
    const mine = new Map(taken.map((one) => [one.channel, one.offset]))
    for (const [key, round] of this.rounds) if (!mine.has(key)) round.abort.abort()
    for (const [key, offset] of mine) if (!this.rounds.has(key)) this.begin(key, offset ?? undefined)
    for (const key of this.troubles.keys()) if (!polling.some(({ row }) => row.key === key)) this.troubles.delete(key)
  }

  private begin(key: string, offset: string | undefined): void {
    const round: Round = { abort: new AbortController(), offset }
    this.rounds.set(key, round)
    void this.run(key, round)
      .catch((error: unknown) => {
        if (!(error instanceof LeaseLost) && databaseFault(error) !== "away")
          this.parts.log.error({ err: error, channel: key }, "polling was broken off; it begins again")
      })
      .finally(() => {
        this.rounds.delete(key)
        const known = this.parts.channels.get(key)
        if (!this.stopping && (!known || !pollingOf(known))) {
          void giveUpLeases(this.parts.database, this.parts.self, "poll", key).catch(() => undefined)
        }
      })
  }

  private async run(key: string, round: Round): Promise<void> {
    const { channels, inlet, self } = this.parts
    let failures = 0
    while (!round.abort.signal.aborted) {
      const known = channels.get(key)
      const polling = known && pollingOf(known)
      if (!known || known.row.state === "paused" || !polling) return
      const asked = performance.now()
      const answer = await perform(polling.ask(known.channel, round.offset, holdSeconds), known.channel, undefined, {
        signal: round.abort.signal,
      })
      if (round.abort.signal.aborted) return
      const read = polling.read(answer)
      if ("updates" in read) {
        failures = 0
        this.troubles.delete(key)
        if (polling.keeps !== undefined) await noteFetched(this.parts.database, key).catch(() => undefined)
        // A gateway that answers at once when nothing waits is not asked without a pause.
        if (read.empty && performance.now() - asked < 500) await pause(emptyPause, round)
        if (read.confirm) {
          if (read.updates.length === 0) continue
          await inlet.receivePolled(known, read.updates, { holder: self, next: round.offset ?? "" })
          for (const call of read.confirm) {
            const gone = await perform(call, known.channel, undefined)
            if ("failure" in gone || gone.status >= 300)
              this.report(
                key,
                `the gateway did not remove what was fetched (${"failure" in gone ? gone.failure : `answer ${gone.status}`})`,
                "It comes once more, and is not answered twice. See that the key may remove, too.",
              )
          }
          continue
        }
        if (read.next === undefined) continue
        await inlet.receivePolled(known, read.updates, { holder: self, next: read.next })
        round.offset = read.next
      } else if ("conflict" in read) {
        this.report(key, read.conflict, read.remedy)
        await pause(conflictPause * 1000, round)
      } else if (read.fault.outcome === "lockedOut") {
        if (known.row.state === "on") await this.parts.alerts.lockOut(key, read.fault)
        failures++
        await pause(Math.min(2 ** failures, longestPause) * 1000, round)
      } else {
        failures++
        if (failures >= 3) this.report(key, `polling fails: ${read.fault.why}`, "It is tried again every few seconds.")
        await pause((read.fault.after ?? Math.min(2 ** failures, 30)) * 1000, round)
      }
    }
  }

  /** Said once, not with every round. */
  private report(key: string, says: string, remedy: string): void {
    if (this.troubles.get(key)?.says !== says) this.parts.log.warn({ channel: key }, `${says}. ${remedy}`)
    if (!this.troubles.has(key) || this.troubles.get(key)!.says !== says)
      this.troubles.set(key, { says, remedy, since: wallClock("record") })
  }
}

function pollingOf({ row, channel }: KnownChannel): Polling | undefined {
  return kindOf(row.kind).polling?.(channel)
}

/** Seconds between two tries with a key that is refused. */
const longestPause = 300

/** Waits, unless the round ends or somebody wakes it. */
export async function pause(ms: number, round: Pick<Round, "abort" | "wake">): Promise<void> {
  const woken = new AbortController()
  round.wake = () => woken.abort()
  const { signal } = round.abort
  const end = () => woken.abort()
  signal.addEventListener("abort", end)
  await sleep(ms, undefined, { signal: woken.signal }).catch(() => undefined)
  signal.removeEventListener("abort", end)
  delete round.wake
}
