import Joi from "joi"
import type { Leaving } from "../interview/question.ts"
import { storableJson } from "../message/graphemes.ts"
import { isNestedDeeper } from "../message/json.ts"
import { longestState } from "../message/longestState.ts"
import { personFields } from "../message/personFields.ts"
import { replyPartSchema } from "../message/reply.ts"
import { replyList } from "../message/replyList.ts"

/** What somebody elsewhere wants done with a turn: the same as a code handler returns. */
export interface ElsewhereOutcome {
  replies?: unknown[]
  state?: { [field: string]: unknown } | null
  contact?: { [field: string]: unknown }
  leave?: Leaving
}

/** What an endpoint's answer comes to. */
export type EndpointAnswer =
  | { is: "answer"; outcome: ElsewhereOutcome }
  /** The answer comes later, by the API. */
  | { is: "later" }
  /** Another try may bring an answer. @property after milliseconds that it asked to be left alone for */
  | { is: "again"; why: string; after?: number }
  /** The same would come again. @property over whether a limit of the day is reached */
  | { is: "unfit"; why: string; over?: true }

/** Bytes of an answer. */
export const longestAnswer = 1024 * 1024

/** How deep an answer may be nested. */
const deepest = 60

const leaving = Joi.alternatives(
  Joi.valid("person"),
  Joi.object({ route: Joi.string().max(200).required() }),
).description('"person", or the route that takes the message instead')

const reply = Joi.alternatives().conditional(Joi.string(), {
  then: Joi.string().min(1).max(200_000),
  otherwise: replyPartSchema,
})

/** What may be answered, by field. */
export const outcomeFields = {
  replies: Joi.alternatives()
    .conditional(Joi.array(), { then: Joi.array().items(reply).max(50), otherwise: reply })
    .description("what is said: parts as a code handler returns them, or plain texts; one, or a list"),
  state: Joi.object()
    .unknown(true)
    .allow(null)
    .custom((state: object | null, helpers) =>
      JSON.stringify(state).length <= longestState
        ? state
        : helpers.message({ custom: `{{#label}} has more than ${longestState / 1024} kB` }),
    )
    .description("the conversation's new state; left out, it stays"),
  contact: personFields.description("fields of the person to set; null removes one"),
  leave: leaving,
}

export const outcomeSchema = Joi.object(outcomeFields).messages({
  "object.unknown": "{{#label}} is no field of an answer; those are replies, state, contact and leave",
})

/** What is wrong with an answer, in words; nothing where it may be kept. */
export function outcomeFault(given: unknown): string | undefined {
  return outcomeSchema.validate(given).error?.message
}

/** Statuses of answers that another try may change. */
export const passing: ReadonlySet<number> = new Set([408, 425, 429, 500, 502, 503, 504])

/** Reads what an endpoint answered. Redirects have been followed before. */
export function readAnswer(
  { status, headers, body }: { status: number; headers: { [name: string]: string }; body: string },
  now: Date,
): EndpointAnswer {
  if (status === 202) return { is: "later" }
  if (passing.has(status)) {
    const after = retryAfterOf(headers["retry-after"], now)
    return { is: "again", why: `it answered ${status}`, ...(after === undefined ? {} : { after }) }
  }
  if (status < 200 || status > 299) return { is: "unfit", why: `it answered ${status}` }
  if (body.trim() === "") return { is: "answer", outcome: {} }
  const type = (headers["content-type"] ?? "").split(";")[0]!.trim().toLowerCase()
  if (type !== "application/json" && !/^application\/[\w.-]+\+json$/.test(type))
    return { is: "unfit", why: `it answered ${type === "" ? "without a content type" : type}, not application/json` }
  if (isNestedDeeper(body, deepest)) return { is: "unfit", why: `its JSON is nested more than ${deepest} deep` }
  let given: unknown
  try {
    given = JSON.parse(body)
  } catch {
    return { is: "unfit", why: "its JSON cannot be read: it may have been cut off" }
  }
  const fault = outcomeFault(given)
  if (fault !== undefined) return { is: "unfit", why: fault }
  const outcome = storableJson(given) as ElsewhereOutcome
  return { is: "answer", outcome: { ...outcome, replies: replyList(outcome.replies) } }
}

/** Milliseconds that a `Retry-After` asks for: seconds, or a date (RFC 9110, section 10.2.3). */
export function retryAfterOf(given: string | undefined, now: Date): number | undefined {
  if (given === undefined) return undefined
  if (/^\d{1,9}$/.test(given.trim())) return Number(given) * 1000
  const at = Date.parse(given)
  return Number.isNaN(at) ? undefined : Math.max(0, at - now.getTime())
}
