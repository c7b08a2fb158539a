import Joi from "joi"
import { getCountries } from "libphonenumber-js/min"
import { languages } from "../phrase/languages.ts"
import { PhraseError, readPhrase, shownPhrase } from "../phrase/read.ts"
import { isZone } from "../phrase/spans.ts"
import { conditionSchema } from "./condition.ts"

import { duration, list, oneOrMore } from "./parts.ts"

import { momentsSaid } from "../interview/words.ts"
import { applicationSchema, noticeSchema } from "../notice/notice.ts"
import { relaySchema } from "../relay/relay.ts"
import { modelSchema } from "../model/model.ts"
import { textNames, writtenText } from "./texts.ts"
import type { HandlersKnown } from "./bot.ts"

const phrase = Joi.string().custom((source: string, helpers) => {
  try {
    readPhrase(source)
    return source
  } catch (error) {
    return helpers.message({ custom: "{#says}" }, phraseFault(source, error))
  }
})

const condition = conditionSchema(phrase)

function handlerSchema(kinds: HandlersKnown["kinds"]): Joi.Schema {
  const says = `a handler is the name of a file under handlers/, or a mapping with ${Object.keys(kinds).join(" or ")}`
  const file = Joi.string()
    .pattern(/^[A-Za-z0-9_-]+$/)
    .message(says)
  const mapping = Joi.object().unknown(true)
  const unknown = Joi.any().custom((_value, helpers) => helpers.message({ custom: "{#says}" }, { says }))
  return Object.entries(kinds)
    .reduce(
      (so, [kind, schema]) => so.conditional(mapping.keys({ [kind]: Joi.exist() }), { then: schema }),
      Joi.alternatives(),
    )
    .conditional(mapping, { then: unknown, otherwise: file })
}

const account = Joi.object({
  name: Joi.string().max(64),
  about: Joi.string().max(139),
  description: Joi.string().max(512),
  commands: Joi.array()
    .items(
      Joi.object({
        command: Joi.string()
          .pattern(/^[a-z0-9_]{1,32}$/)
          .message("a command is 1 to 32 small letters, digits and underscores, such as book")
          .required(),
        says: Joi.string().max(256).required(),
      }),
    )
    .unique("command")
    .max(30),
  picture: Joi.string().max(200),
}).min(1)

const ruleName = /^[a-z][A-Za-z0-9]*$/

const rules = Joi.object()
  .pattern(
    ruleName,
    Joi.alternatives(
      Joi.string(),
      Joi.object()
        .pattern(Joi.string().max(200), Joi.alternatives(Joi.string(), Joi.array().items(Joi.string()).min(1)))
        .min(1),
    ),
  )
  .max(500)

const language = oneOrMore(
  Joi.valid(...Object.keys(languages)).messages({
    "any.only": `a language is one of ${Object.keys(languages).join(", ")}`,
  }),
)

const zone = Joi.string().custom((value: string, helpers) =>
  isZone(value)
    ? value
    : helpers.message({ custom: "{#says}" }, { says: `"${value}" is no time zone; write one such as Europe/Lisbon` }),
)

const days = Joi.object().pattern(Joi.string().max(60), oneOrMore(Joi.string().max(200)))

const hours = Joi.object()
  .pattern(
    ruleName,
    Joi.object({
      zone,
      open: days.required(),
      closed: oneOrMore(Joi.string().max(200)).custom((value: string | string[]) => list(value)),
      other: days,
    }),
  )
  .max(50)

const groupRule = Joi.valid("always", "addressed", "never")
const groupRules = Joi.object().pattern(Joi.string(), groupRule)

const groups = Joi.when(Joi.object(), {
  then: Joi.object({ otherwise: groupRule.default("addressed"), channels: groupRules, places: groupRules }),
  otherwise: groupRule,
})

/** Names of secrets. */
export const secretName = Joi.string()
  .pattern(/^[A-Z][A-Z0-9_]{0,63}$/)
  .message("a secret's name is capital letters, digits and underscores, such as FARES_KEY")

const wordsOfOwn = oneOrMore(Joi.string().min(1).max(60)).custom((value: string | string[]) => list(value))

const interviews = Joi.object({
  within: duration,
  remind: Joi.alternatives(
    Joi.valid(false).custom(() => 0),
    duration,
  ),
  tries: Joi.number().integer().min(1).max(20),
  cancel: wordsOfOwn,
  back: wordsOfOwn,
  texts: Joi.object(Object.fromEntries(momentsSaid.map((moment) => [moment, writtenText]))),
}).min(1)

const unrouted = (handler: Joi.Schema) =>
  Joi.when(Joi.array(), {
    then: Joi.array()
      .items(
        Joi.object({
          place: oneOrMore(Joi.valid("direct", "group", "broadcast")),
          language: oneOrMore(Joi.string()),
          handler: handler.required(),
        }),
      )
      .min(1),
    otherwise: handler,
  })

/** What `bot.yaml` may hold. */
export const botSchema = (kinds: HandlersKnown["kinds"]) => withHandlers(handlerSchema(kinds))

const withHandlers = (handler: Joi.Schema) =>
  Joi.object({
    bot: Joi.string()
      .pattern(/^[a-z0-9][a-z0-9-]*$/)
      .message("a bot's name is small letters, digits and hyphens, such as tern-point-ferry")
      .required(),
    gather: duration.default(0),
    turnsPerMinute: Joi.number().integer().min(1).default(30),
    deadline: duration.default(10_000),
    zone: zone.default("UTC"),
    language: language.default(["en"]),
    country: Joi.valid(...getCountries()),
    rules,
    hours,
    texts: textNames,
    groups: groups.default({ otherwise: "addressed" }),
    interviews,
    giveBack: duration,
    models: Joi.object()
      .pattern(/^[a-z][A-Za-z0-9-]*$/, modelSchema(secretName, duration))
      .max(50),
    also: Joi.array()
      .items(
        Joi.object({
          name: Joi.string().max(200).required(),
          when: condition.required(),
          relay: relaySchema.required(),
        }),
      )
      .unique("name")
      .max(100),
    notices: Joi.array().items(noticeSchema).max(500),
    applications: Joi.object()
      .pattern(/^[a-z][a-z0-9-]{0,62}$/, applicationSchema(secretName))
      .max(50),
    desk: Joi.object({
      channel: Joi.string().max(63).required(),
      place: Joi.string().max(200).required(),
      command: Joi.string()
        .pattern(/^[a-z0-9_-]{1,32}$/)
        .message("a command is small letters and digits, such as waiting")
        .default("waiting"),
    }),
    quiet: oneOrMore(Joi.string().max(200)).custom((value: string | string[]) => list(value)),
    only: Joi.object({ places: oneOrMore(Joi.string()), channels: oneOrMore(Joi.string()) }).min(1),
    routes: Joi.array()
      .items(
        Joi.object({
          name: Joi.string().required(),
          when: condition.required(),
          handler: handler.required(),
          deadline: duration,
          tries: Joi.number().integer().min(1).max(20),
          secrets: oneOrMore(secretName).custom((value: string | string[]) => list(value)),
        }),
      )
      .unique("name")
      .default([]),
    unrouted: unrouted(handler),
    account,
  })

/** What is wrong with a phrase, by what reading it threw. */
export function phraseFault(source: string, error: unknown): { says: string; remedy?: string } {
  if (!(error instanceof PhraseError)) throw error
  if (error.rewritten === undefined)
    return { says: `the phrase "${shownPhrase(source)}" cannot be read: ${error.message}` }
  const remedy = `Write "${error.rewritten}". ${rewriteRemedy}`
  return { says: `the phrase "${shownPhrase(source)}" is of an earlier form`, remedy }
}

/** For what is of an earlier form. */
export const rewriteRemedy = '"wobbet bot check <folder> --rewrite" changes the file.'
