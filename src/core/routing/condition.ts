import Joi from "joi"
import { mediaKinds, messageEvents } from "../message/message.ts"
import { duration, oneOrMore } from "./parts.ts"
import { patternFault } from "./pattern.ts"
import { readSize } from "./size.ts"

/** Several keys in one condition must all be met. */
export interface Condition {
  phrase?: string | string[]
  /** Regular expressions; their named groups are slots. */
  pattern?: string | string[]
  command?: string | string[]
  choice?: string | string[]
  event?: string | string[]
  media?: string | string[]
  attachment?: Attachment
  channel?: string | string[]
  kind?: string | string[]
  place?: PlaceKind | PlaceKind[] | PlaceWanted
  language?: string | string[]
  mentioned?: boolean
  from?: Speaker | Speaker[]
  contact?: { [field: string]: unknown }
  /** Tags, of which whoever says it has one. */
  may?: string | string[]
  state?: { [field: string]: unknown }
  fields?: { [field: string]: unknown }
  /** Names of hours, of which one is open. */
  during?: string | string[]
  /** Names of hours, of which none is open. */
  outside?: string | string[]
  /** How many messages of this conversation the route has taken already. */
  said?: number | { least?: number; most?: number }
  /** Milliseconds for which nothing had been said in the conversation. */
  silent?: number
  any?: Condition[]
  all?: Condition[]
  not?: Condition
}

export type PlaceKind = "direct" | "group" | "broadcast"
export type Speaker = "person" | "bot" | "admin"

/** Places by their provider's id, their title or one of their tags. */
export interface PlaceWanted {
  is: string | string[]
  kind?: PlaceKind | PlaceKind[]
}

/** @property most and least, in bytes */
export interface Attachment {
  /** MIME types, such as `image/*`. */
  type?: string | string[]
  least?: number
  most?: number
}

const names = oneOrMore(Joi.string())
const placeKinds = oneOrMore(Joi.valid("direct", "group", "broadcast"))
const count = Joi.number().integer().min(0)

const pattern = Joi.string().custom((source: string, helpers) => {
  const says = patternFault(source)
  return says === undefined ? source : helpers.message({ custom: "{#says}" }, { says })
})

const size = Joi.alternatives(Joi.number().min(0), Joi.string()).custom((value: number | string, helpers) => {
  const says = `"${value}" is not a size; write 500kB or 5MB`
  return readSize(value) ?? helpers.message({ custom: "{#says}" }, { says })
})

/** @param phrase how a phrase is checked */
export function conditionSchema(phrase: Joi.Schema): Joi.ObjectSchema {
  const keys: { [name in keyof Condition]-?: Joi.Schema } = {
    phrase: oneOrMore(phrase),
    pattern: oneOrMore(pattern),
    command: oneOrMore(
      Joi.string()
        .pattern(/^[A-Za-z0-9_]+$/)
        .message("a command is written without its slash, such as: command: book"),
    ),
    choice: names,
    // What happens to an interview is no route's business.
    event: oneOrMore(Joi.valid(...messageEvents.filter((event) => event !== "interview"))),
    media: oneOrMore(Joi.valid("any", ...mediaKinds)),
    attachment: Joi.object({
      type: oneOrMore(
        Joi.string()
          .pattern(/^[a-z]+\/(\*|[a-z0-9][a-z0-9.+-]*)$/)
          .message("a type is written as image/* or application/pdf"),
      ),
      least: size,
      most: size,
    }).min(1),
    channel: names,
    kind: names,
    place: Joi.when(Joi.object(), {
      then: Joi.object({ is: names.required(), kind: placeKinds }),
      otherwise: placeKinds,
    }),
    language: names,
    mentioned: Joi.boolean(),
    from: oneOrMore(Joi.valid("person", "bot", "admin")),
    contact: Joi.object().unknown(true).min(1),
    may: names,
    state: Joi.object().unknown(true).min(1),
    fields: Joi.object().unknown(true).min(1),
    during: names,
    outside: names,
    said: Joi.when(Joi.object(), { then: Joi.object({ least: count, most: count }).min(1), otherwise: count }),
    silent: duration,
    any: Joi.array().items(Joi.link("#condition")).min(1),
    all: Joi.array().items(Joi.link("#condition")).min(1),
    not: Joi.link("#condition"),
  }
  return Joi.object(keys).min(1).id("condition")
}

export const conditionNames = [
  ...["phrase", "pattern", "command", "choice", "event", "media", "attachment", "channel", "kind", "place", "language"],
  ...[
    "mentioned",
    "from",
    "contact",
    "may",
    "state",
    "fields",
    "during",
    "outside",
    "said",
    "silent",
    "any",
    "all",
    "not",
  ],
]

/** The conditions directly within one. */
export function inner(condition: Condition): Condition[] {
  return [...(condition.any ?? []), ...(condition.all ?? []), ...(condition.not ? [condition.not] : [])]
}

/** A condition and all within it, with the path to each. */
export function* everyCondition(
  condition: Condition,
  path: (string | number)[] = [],
): Generator<[Condition, (string | number)[]]> {
  yield [condition, path]
  for (const name of ["any", "all"] as const)
    for (const [at, one] of (condition[name] ?? []).entries()) yield* everyCondition(one, [...path, name, at])
  if (condition.not) yield* everyCondition(condition.not, [...path, "not"])
}
