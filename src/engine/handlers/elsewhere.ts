import Joi from "joi"
import { duration } from "../../core/routing/parts.ts"
import { fillText } from "../../core/routing/fillText.ts"
import type { Written } from "../../core/routing/texts.ts"
import { writtenText } from "../../core/routing/texts.ts"
import type { WaitAnswer } from "../../store/waits.ts"
import type { HandlerAnswer, HandlerGiven, HandlerKind, ReadyRelease, TurnInput } from "./handler.ts"
import { fillingOf } from "./text.ts"

/** What every handler that asks somebody elsewhere may say. */
export interface AsksElsewhere {
  /** Milliseconds the answer is waited for. */
  within: number
  /** Said where none comes. */
  fallback?: Written
  /** Said once where it does not come at once. */
  meanwhile?: Written
  /** Messages of before that are sent along. */
  history: number
}

/** Milliseconds: as long as nobody says otherwise, and at most. */
const usualWithin = 10 * 60_000
const longestWithin = 24 * 3_600_000

export const elsewhereKeys = {
  within: duration.default(usualWithin).custom((value: number, helpers) => {
    if (value >= 100 && value <= longestWithin) return value
    return helpers.message({ custom: "{#says}" }, { says: "within is from 100ms to 24h" })
  }),
  fallback: writtenText,
  meanwhile: writtenText,
  history: Joi.number().integer().min(0).max(100).default(0),
}

/** What came back for a turn, or that nothing did: its outcome, or what is said instead. */
export function cameBack(
  asks: AsksElsewhere,
  came: WaitAnswer,
  turn: TurnInput,
  release: ReadyRelease,
  given: HandlerGiven,
): HandlerAnswer {
  if ("outcome" in came) return { outcome: came.outcome, log: [], masked: came.masked ?? [] }
  return fallbackOf(asks, came.fails, turn, release, given) ?? { outcome: {}, log: [], fails: came.fails }
}

function fallbackOf(
  { fallback }: AsksElsewhere,
  why: string,
  turn: TurnInput,
  { table }: ReadyRelease,
  given: HandlerGiven,
): HandlerAnswer | undefined {
  if (fallback === undefined) return undefined
  const log: string[] = []
  const text = fillText(fallback, fillingOf(turn, table, given), log)
  return { outcome: { replies: [{ part: "text", text }] }, log, instead: why }
}

/** The fallback as the contract asks for it. */
export const insteadOf: NonNullable<HandlerKind["insteadOf"]> = (written, ...rest) =>
  fallbackOf(written as unknown as AsksElsewhere, ...rest)

/** The early text of a turn that waits. */
export function meanwhileOf(
  { meanwhile }: AsksElsewhere,
  turn: TurnInput,
  { table }: ReadyRelease,
  given: HandlerGiven,
): string | undefined {
  return meanwhile === undefined ? undefined : fillText(meanwhile, fillingOf(turn, table, given), [])
}
