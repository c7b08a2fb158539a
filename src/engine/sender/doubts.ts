import { setTimeout as pause } from "node:timers/promises"
import type { Doubts as LookUps, Outcome } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Database } from "../../store/database.ts"
import { proofsOf, traceOfMark } from "../../store/statuses.ts"
import { perform } from "../calls/perform.ts"
import type { KnownChannel } from "../channels.ts"
import type { Begun } from "./call.ts"
import { markOf } from "./call.ts"
import { wallClock } from "../process/wallClock.ts"

/** Milliseconds between two looks for proofs while there is a fresh doubt, and when all have waited for a while. */
const lookEvery = { fresh: 250, old: 1000 }
/** Milliseconds after which a doubt is no longer fresh. */
const freshFor = 2000
/** Milliseconds between two questions to a provider about one message. */
const askEvery = 1500
/** Questions under way to one channel's provider at once. */
const mostQuestions = 4
/** Milliseconds for which a provider that gave no answer is asked nothing more. */
const darkFor = 2000

type Proof = { providerId?: string }

/** Milliseconds before its doubt began within which a message may have arrived. */
const lookBack = 60_000

interface Waiting {
  since: number
  until: number
  done: (proof: Proof | undefined) => void
}

/**
 * Doubts that may still be settled: an echo or a status of the provider proves that a message arrived, or the provider
 * is asked. However many there are, one statement in a quarter of a second looks for the proofs of all of them, and a
 * provider that is dark is asked a few times and not for each.
 */
export class Doubts {
  /** By the trace of the call's mark. */
  private readonly waiting = new Map<string, Waiting>()
  private readonly questions = new Map<string, { open: number; darkUntil: number; line: (() => void)[] }>()
  private looking = false
  private stopping = false

  constructor(private readonly database: Database) {}

  /** What a doubtful call turned out to be, if that came to light within the time its kind says. */
  async settled(begun: Begun, known: KnownChannel): Promise<Outcome | undefined> {
    const { abilities, doubts } = kindOf(known.row.kind)
    const call = begun.calls[begun.call]
    const asks = doubts && call && doubts.covers(call, known.channel)
    const seconds = abilities.settlesDoubt ?? (asks ? doubts.within : undefined)
    if (seconds === undefined) return undefined
    if (asks) return this.lookedUp(doubts, begun, known, seconds)
    const proof = await this.proofOf(traceOfMark(begun.channel, markOf(begun)), seconds)
    return proof && { outcome: "accepted", ...proof }
  }

  /** Waits for nothing more. */
  stop(): void {
    this.stopping = true
    for (const { done } of this.waiting.values()) done(undefined)
    this.waiting.clear()
  }

  private proofOf(trace: string, seconds: number): Promise<Proof | undefined> {
    const since = performance.now()
    return new Promise((done) => {
      if (this.stopping) return done(undefined)
      this.waiting.set(trace, { since, until: since + seconds * 1000, done })
      if (!this.looking) void this.look()
    })
  }

  private async look(): Promise<void> {
    this.looking = true
    try {
      while (this.waiting.size > 0) {
        // Where the database does not answer there is no proof for now; the next look asks again.
        const none = new Map<string, Proof>()
        const proofs = await proofsOf(this.database, [...this.waiting.keys()]).catch(() => none)
        const now = performance.now()
        let fresh = false
        for (const [trace, { since, until, done }] of this.waiting) {
          const proof = proofs.get(trace)
          fresh ||= now - since < freshFor
          if (!proof && now < until) continue
          this.waiting.delete(trace)
          done(proof)
        }
        if (this.waiting.size > 0) await pause(fresh ? lookEvery.fresh : lookEvery.old)
      }
    } finally {
      this.looking = false
    }
  }

  /**
   * Asks the provider whether it has the message. What surely never arrived is simply sent again: not before the provider
   * has looked back far enough by its own clock, for ours may be wrong.
   */
  private async lookedUp(
    lookUps: LookUps,
    begun: Begun,
    known: KnownChannel,
    seconds: number,
  ): Promise<Outcome | undefined> {
    let since = wallClock("record").getTime() - lookBack
    const began = performance.now()
    for (const end = began + seconds * 1000; ;) {
      await pause(askEvery)
      const { found, at } = await this.asked(lookUps, begun, known, new Date(since))
      const wanted = at === undefined ? undefined : at - (performance.now() - began) - lookBack
      const isCovered = !lookUps.looksBack || (wanted !== undefined && since <= wanted)
      since = Math.min(since, wanted ?? since)
      if (found.arrived === "yes") return { outcome: "accepted", providerId: found.providerId }
      if (this.stopping) return undefined
      // Only in the end: what was under way when the connection broke may still be on its way in.
      if (performance.now() < end) continue
      return found.arrived === "no" && isCovered
        ? { outcome: "again", why: "the answer was lost, and the provider does not have the message", after: 0 }
        : undefined
    }
  }

  private async asked(
    lookUps: LookUps,
    begun: Begun,
    known: KnownChannel,
    since: Date,
  ): Promise<{ found: ReturnType<LookUps["read"]>; at?: number | undefined }> {
    const { key } = known.row
    let questions = this.questions.get(key)
    if (!questions) this.questions.set(key, (questions = { open: 0, darkUntil: 0, line: [] }))
    const { line } = questions
    if (questions.open >= mostQuestions) await new Promise<void>((resolve) => line.push(resolve))
    if (performance.now() < questions.darkUntil) {
      line.shift()?.()
      return { found: { arrived: "unknown" } }
    }
    questions.open++
    try {
      const answer = await perform(lookUps.ask(begun.place, since, known.channel), known.channel, begun.place.address, {
        mark: markOf(begun),
      })
      if ("failure" in answer) questions.darkUntil = performance.now() + darkFor
      const found = lookUps.read(answer, markOf(begun), known.channel)
      return { found, at: "failure" in answer ? undefined : saidAt(answer.headers.date) }
    } finally {
      questions.open--
      line.shift()?.()
    }
  }
}

/** What a provider's own clock says, by the header that every answer has (RFC 9110, 6.6.1), as milliseconds. */
function saidAt(date: string | undefined): number | undefined {
  const at = Date.parse(date ?? "")
  return Number.isNaN(at) ? undefined : at
}
