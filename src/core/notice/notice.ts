import Joi from "joi"
import { duration, list, oneOrMore } from "../routing/parts.ts"
import type { Written } from "../routing/texts.ts"
import { writtenText } from "../routing/texts.ts"

/** What an application's event is told to whom, as `notices:` in `bot.yaml` says it. */
export interface NoticeRule {
  /** The event's type. */
  on: string
  tell: Told[]
  text: Written
  choices?: { id: string; label: Written; url?: string }[]
  /** People the text names, by the field of the event that says who. */
  people?: { [name: string]: string }
  /** The field of contacts by which people of the application are known. */
  match: string
  /** Names of hours in which nothing of it is said; none for false, and the bot's own where it says nothing. */
  quiet?: string[]
  /** Milliseconds in which several for one place become one. */
  gather: number
  /** Said of several; without it, their texts stand one below the other. */
  many?: Written
}

/** Whom an event is told: people by a field of the event, by tag or by id; or a place. */
export interface Told {
  person?: string
  tag?: string
  contact?: string
  place?: string
  /** On this channel alone; of a place, its own. */
  channel?: string
}

const channel = Joi.string().max(63)
const told = Joi.object({
  person: Joi.string().max(200),
  tag: Joi.string().max(100),
  contact: Joi.string().max(200),
  place: Joi.string().max(200),
  channel: channel.when("place", { is: Joi.exist(), then: Joi.required() }),
})
  .xor("person", "tag", "contact", "place")
  .messages({
    "object.missing": "tell names person, tag, contact or place",
    "object.xor": "tell names one of person, tag, contact and place",
  })

/** Names of events: words with dots between them. */
export const eventType = Joi.string()
  .pattern(/^[A-Za-z0-9][A-Za-z0-9._/-]{0,199}$/)
  .message("an event's type is letters, digits, dots and hyphens, such as claim.reassigned")

export const noticeSchema = Joi.object({
  on: eventType.required(),
  tell: oneOrMore(told)
    .required()
    .custom((value: Told | Told[]) => list(value)),
  text: writtenText.required(),
  choices: Joi.array()
    .items(
      Joi.object({
        id: Joi.string().max(500).required(),
        label: writtenText.required(),
        url: Joi.string().uri({ scheme: ["http", "https"] }),
      }),
    )
    .min(1)
    .max(20),
  people: Joi.object().pattern(/^[a-z][A-Za-z0-9]*$/, Joi.string().max(200)),
  match: Joi.string().max(100).default("email"),
  quiet: Joi.alternatives(Joi.valid(false), oneOrMore(Joi.string().max(200))).custom(
    (value: false | string | string[]) => (value === false ? [] : list(value)),
  ),
  gather: duration.default(0),
  many: writtenText,
})

/** An application that posts its own JSON to an inlet of its own. */
export interface Application {
  /** Name of the secret it signs with, or says as a word. */
  secret: string
  /** Where in its JSON the event's type stands; and its id, and what it is about. */
  type: string
  id?: string
  data?: string
}

export const applicationSchema = (secretName: Joi.Schema) =>
  Joi.object({
    secret: secretName.required(),
    type: Joi.string().max(200).default("type"),
    id: Joi.string().max(200),
    data: Joi.string().max(200),
  })

/** Something that happened in an application. */
export interface NoticeEvent {
  type: string
  /** Tells it apart from every other of its source: the same one twice is one. */
  key?: string
  source?: string
  data: { [field: string]: unknown }
}

/** What stands at a path such as `claim.owner`; undefined where nothing does. */
export function valueIn(data: unknown, path: string): unknown {
  return path
    .split(".")
    .reduce<unknown>(
      (value, key) =>
        typeof value === "object" && value !== null && Object.hasOwn(value, key)
          ? (value as { [key: string]: unknown })[key]
          : undefined,
      data,
    )
}

/** The people a field of an event names, as it names them. */
export function namedIn(data: { [field: string]: unknown }, path: string): string[] {
  return [valueIn(data, path)]
    .flat()
    .filter((one) => (typeof one === "string" && one.trim() !== "") || typeof one === "number")
    .map((one) => String(one as string | number).slice(0, 300))
}

/** A CloudEvents 1.0 event in structured JSON mode. */
export const cloudEventSchema = Joi.object({
  specversion: Joi.valid("1.0").required(),
  id: Joi.string().min(1).max(500).required(),
  source: Joi.string().min(1).max(1000).required(),
  type: eventType.required(),
  datacontenttype: Joi.string().max(200),
  time: Joi.string().isoDate(),
  data: Joi.object().unknown(true).default({}),
}).unknown(true)
