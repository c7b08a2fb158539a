import type { Logger } from "pino"
import type { Verdict } from "../../core/channels/kind.ts"
import type { InboundCall } from "../../core/channels/call.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { nearMiss } from "../../core/signature/nearMiss.ts"
import { databaseFault } from "../../store/database.ts"
import type { Intake } from "../../store/intake.ts"
import { newId } from "../../store/ids.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import { GroupCommit } from "../groupCommit.ts"
import type { Seal } from "../seal.ts"
import { redactBody, redactCall } from "../seal.ts"

/**
 * Refused calls of one channel that are looked into and kept: so many at once, and then one in so many milliseconds.
 * The rest are counted. A flood of forged calls then costs a hash each, one search in ten seconds, and some 30 MB of
 * disk at most (`mostRefused` calls of `longestRefused` bytes, and hardly any is that long).
 */
const burst = 60
const refill = 10_000
/** Bytes of a refused call's body that are kept. */
export const longestRefused = 16 * 1024

/** Milliseconds between two searches, so that a burst of refused calls takes a small part of the processor only. */
const searchPause = 25

type Refused = Extract<Verdict, { genuine: false }>

interface Budget {
  left: number
  at: number
  /** Refused calls that were only counted since the last that was kept. */
  uncounted: number
}

/** Looks into refused calls, for the operator, after their callers have had their empty answer. */
export class Refusals {
  private readonly budgets = new Map<string, Budget>()
  /** Searches that wait for their turn; the first is due. */
  private readonly waiting: (() => Promise<void>)[] = []
  private readonly gatherer: GroupCommit<Intake, undefined>

  constructor(
    private readonly parts: {
      channels: Channels
      seal: Seal
      log: Logger
      keep: (intakes: Intake[]) => Promise<void>
    },
  ) {
    this.gatherer = new GroupCommit(
      async (intakes) => {
        await parts.keep(intakes)
        return intakes.map(() => undefined)
      },
      50,
      1,
    )
  }

  /** Never waited for, and never throws. */
  take(known: KnownChannel, call: InboundCall, verdict: Refused, answered: number, now: Date): void {
    const budget = this.budgetOf(known.row.key, now)
    if (budget.left < 1) {
      budget.uncounted++
      return
    }
    budget.left--
    const { uncounted } = budget
    budget.uncounted = 0
    this.waiting.push(() => this.look(known, call, verdict, answered, uncounted))
    if (this.waiting.length === 1) setImmediate(() => this.work())
  }

  /** Waits for what was refused to be on record. */
  async drained(): Promise<void> {
    while (this.waiting.length > 0) await new Promise((resolve) => setTimeout(resolve, searchPause))
    await this.gatherer.drained()
  }

  private work(): void {
    const [next] = this.waiting
    next?.().catch((error: unknown) => {
      if (databaseFault(error) !== "away") this.parts.log.error({ err: error }, "a refused call could not be kept")
    })
    this.waiting.shift()
    if (this.waiting.length > 0) setTimeout(() => this.work(), searchPause)
  }

  private budgetOf(channel: string, now: Date): Budget {
    let budget = this.budgets.get(channel)
    if (!budget) this.budgets.set(channel, (budget = { left: burst, at: now.getTime(), uncounted: 0 }))
    budget.left = Math.min(burst, budget.left + Math.max(0, now.getTime() - budget.at) / refill)
    budget.at = now.getTime()
    return budget
  }

  private async look(
    known: KnownChannel,
    call: InboundCall,
    verdict: Refused,
    answered: number,
    uncounted: number,
  ): Promise<void> {
    const { channels, seal } = this.parts
    // It may carry the secret of another channel.
    const secrets = channels.secrets().map((secret) => secret.value)
    const kept = redactCall(call, secrets, seal)
    const length = Math.max(call.body.length, Number(call.headers["content-length"] ?? 0) || 0)
    const notes = [
      ...(length > longestRefused ? [`only the first ${longestRefused} of its ${length} bytes are kept`] : []),
      ...(uncounted > 0
        ? [`${uncounted} more calls were refused before it; they came so fast that they were only counted`]
        : []),
    ]
    await this.gatherer.add({
      id: newId("itk"),
      channel: known.row.key,
      via: "webhook",
      method: call.method,
      address: kept.address,
      headers: kept.headers,
      body: kindOf(known.row.kind).secretInBody?.(known.channel)
        ? redactBody(call.body.subarray(0, longestRefused), secrets, seal)
        : Buffer.from(call.body.subarray(0, longestRefused)),
      verdict: withoutMark(explained(verdict, call, known, channels)),
      notes,
      answered,
      messages: [],
    })
  }
}

/** What is kept of a verdict: how early it was known matters to nobody later. */
function withoutMark({ byHead: _byHead, ...verdict }: Refused): Refused {
  return verdict
}

/** The verdict with the near miss that would have matched. */
function explained(verdict: Refused, call: InboundCall, known: KnownChannel, channels: Channels): Refused {
  if (verdict.near !== undefined) return verdict
  const proof = kindOf(known.row.kind).proof(call, known.channel)
  if (!proof) return verdict
  const miss = nearMiss(proof, call, known.channel, channels.secrets())
  return "near" in miss ? { ...verdict, near: miss.near, remedy: miss.remedy } : { ...verdict, tried: miss.tried }
}
