import type { Outcome } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { retryAfter, sendTries } from "../../core/delivery/retry.ts"
import type { Settlement } from "../../store/outbox.ts"
import { traceOf } from "../../store/statuses.ts"
import type { KnownChannel } from "../channels.ts"
import type { Begun } from "./call.ts"

/** What becomes of a message after one of its calls, and what else follows from the outcome. */
export interface Consequence {
  settlement: Partial<Settlement>
  /** The place is left alone for so many seconds. */
  hold?: number
  /** The place has this address now. */
  moveTo?: string
  /** The channel's keys no longer work. */
  lockOut?: { why: string; remedy: string; forState?: true }
}

/** Decides what an outcome means. Nothing is done here. */
export function consequenceOf(outcome: Outcome, begun: Begun, known: KnownChannel | undefined): Consequence {
  const tries = begun.tries + 1
  switch (outcome.outcome) {
    case "accepted":
      return { settlement: accepted(outcome, begun, known) }
    case "again":
      return again(outcome, tries)
    case "moved": {
      const reason = `the place moved again and again: ${outcome.why}`
      if (tries > 5) return { settlement: { parked: { cause: "refused", reason } } }
      return { settlement: { again: 0, tries }, moveTo: outcome.to }
    }
    case "refused": {
      // What is said in its place comes next.
      if (begun.calls[begun.call]?.mayFail && begun.call + 1 < begun.calls.length)
        return { settlement: { again: 0, nextCall: begun.call + 1, tries: 0 } }
      const { cause = "refused", why, remedy } = outcome
      return { settlement: { parked: { cause, reason: why, ...(remedy ? { remedy } : {}) } } }
    }
    case "unclear":
      return { settlement: unclear(outcome, tries, known) }
    case "lockedOut":
      return { settlement: { held: true }, lockOut: outcome }
  }
}

function accepted(
  { providerId }: Outcome & { outcome: "accepted" },
  begun: Begun,
  known: KnownChannel | undefined,
): Partial<Settlement> {
  const kind = known && kindOf(known.row.kind)
  const tells = kind?.abilities.tellsDelivery || kind?.abilities.amendsWhole || (known && kind?.tells?.(known.channel))
  const settlement: Partial<Settlement> = { providerId }
  if (providerId !== undefined && tells) settlement.trace = traceOf(begun.channel, providerId)
  if (begun.call + 1 === begun.calls.length || begun.calls[begun.call]!.ends) return settlement
  return Object.assign(settlement, { again: 0, nextCall: begun.call + 1, tries: 0 })
}

function again({ after, why }: Outcome & { outcome: "again" }, tries: number): Consequence {
  const hold = after === undefined ? {} : { hold: after }
  if (after !== undefined && tries < sendTries * 3) return { settlement: { again: after * 1000, tries }, ...hold }
  const wait = retryAfter(tries, sendTries, Math.random)
  if (wait !== undefined) return { settlement: { again: wait, tries }, ...hold }
  const reason = `tried ${tries} times, last: ${why}`
  const remedy = "Retry it when the provider works again, or drop it."
  return { settlement: { parked: { cause: "gave up", reason, remedy } }, ...hold }
}

function unclear(
  { why }: Outcome & { outcome: "unclear" },
  tries: number,
  known: KnownChannel | undefined,
): Partial<Settlement> {
  if (known?.row.settings.onDoubt === "resend" && tries < sendTries)
    return { again: retryAfter(tries, sendTries, Math.random) ?? 0, tries, doubted: true }
  const remedy =
    "Look whether the person has it: drop it if so, retry it if not. The setting onDoubt=resend decides this by itself."
  return { parked: { cause: "doubt", reason: `it may or may not have arrived: ${why}`, remedy } }
}
