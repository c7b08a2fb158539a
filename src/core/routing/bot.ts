import Joi from "joi"
import { isAlias, isMap, isScalar, isSeq } from "yaml"
import type { Presence } from "../channels/presence.ts"
import { readYaml } from "../message/yaml.ts"
import { messageEvents, mediaKinds } from "../message/message.ts"
import { getCountries } from "libphonenumber-js/min"
import { languages } from "../phrase/languages.ts"
import type { Phrase } from "../phrase/read.ts"
import { PhraseError, readPhrase } from "../phrase/read.ts"
import type { Rules } from "../phrase/rules.ts"
import { countOf, RuleBook, RuleError, slotsOf } from "../phrase/rules.ts"
import { isZone } from "../phrase/spans.ts"
import { readDuration } from "./duration.ts"
import { faultsOfPlaces } from "./fillText.ts"
import { quotedInLine, unquotedPhrases } from "./quoting.ts"

/** A bot folder's `bot.yaml`, read and checked. */
export interface Bot {
  bot: string
  /** Milliseconds in which what one person sends belongs together. */
  gather: number
  /** More turns than this a minute by one person wait, or are set aside where others stand behind them. */
  turnsPerMinute: number
  /** Milliseconds a code handler may take. */
  deadline: number
  /** Whose dates and times are meant: an IANA zone. */
  zone: string
  /** In which dates, times and numbers are written, by their codes. */
  language: string[]
  /** The country of telephone numbers without a code of their own, such as GB. */
  country?: string
  rules?: Rules
  routes: Route[]
  unrouted?: HandlerName
  /** What people see of the bot at its providers; `connect` sets it. */
  account?: Presence
}

export interface Route {
  name: string
  when: Condition
  handler: HandlerName
}

/** A code handler's name (its file under `handlers/`), or what a handler of another kind needs, under that kind's name. */
export type HandlerName = string | { [name: string]: unknown }

/** What the handlers of a bot may be. */
export interface HandlersKnown {
  /** Names of the code handlers there are. */
  files: ReadonlySet<string>
  /** By the name of each other kind what may be written for it, that name among it. */
  kinds: { [kind: string]: Joi.ObjectSchema }
  /** Rules that stand in files of their own. */
  rules?: Rules
}

/** Several keys in one condition must all be met. */
export interface Condition {
  phrase?: string | string[]
  command?: string | string[]
  choice?: string | string[]
  event?: string | string[]
  media?: string | string[]
  channel?: string | string[]
  kind?: string | string[]
  place?: string | string[]
  language?: string | string[]
  mentioned?: boolean
  state?: { [field: string]: unknown }
  fields?: { [field: string]: unknown }
  any?: Condition[]
  all?: Condition[]
  not?: Condition
}

/** What is wrong with a bot folder, where, and what to write instead. Lines and columns count from 1. */
export interface Fault {
  file: string
  line?: number
  column?: number
  says: string
  remedy?: string
}

export type BotReading = { bot: Bot } | { faults: Fault[] }

const oneOrMore = (item: Joi.Schema) => Joi.alternatives(item, Joi.array().items(item).min(1))
const names = oneOrMore(Joi.string())

const phrase = Joi.string().custom((source: string, helpers) => {
  try {
    readPhrase(source)
    return source
  } catch (error) {
    return helpers.message({ custom: "{#says}" }, phraseFault(source, error))
  }
})

const condition: Joi.ObjectSchema = Joi.object({
  phrase: oneOrMore(phrase),
  command: oneOrMore(
    Joi.string()
      .pattern(/^[A-Za-z0-9_]+$/)
      .message("a command is written without its slash, such as: command: book"),
  ),
  choice: names,
  event: oneOrMore(Joi.valid(...messageEvents)),
  media: oneOrMore(Joi.valid("any", ...mediaKinds)),
  channel: names,
  kind: names,
  place: oneOrMore(Joi.valid("direct", "group", "broadcast")),
  language: names,
  mentioned: Joi.boolean(),
  state: Joi.object().unknown(true).min(1),
  fields: Joi.object().unknown(true).min(1),
  any: Joi.array().items(Joi.link("#condition")).min(1),
  all: Joi.array().items(Joi.link("#condition")).min(1),
  not: Joi.link("#condition"),
})
  .min(1)
  .id("condition")

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

const duration = Joi.alternatives(Joi.number().min(0), Joi.string()).custom((value: number | string, helpers) => {
  const ms = readDuration(value)
  return (
    ms ??
    helpers.message({ custom: "{#says}" }, { says: `"${value}" is not a length of time; write 500ms, 1s, 2m or 1h` })
  )
})

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

/** Parts that all phrases of a bot may come to, their rules written out. */
const mostParts = 500_000

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

const schema = (handler: Joi.Schema) =>
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
    routes: Joi.array()
      .items(Joi.object({ name: Joi.string().required(), when: condition.required(), handler: handler.required() }))
      .unique("name")
      .default([]),
    unrouted: handler,
    account,
  })

/** Reads `bot.yaml`. */
export function readBot(source: string, file: string, known: HandlersKnown): BotReading {
  const handlers = known.files
  const read = readYaml(source)
  const { lines } = read
  if ("faults" in read) {
    const written = source.split("\n")
    const told = read.faults.map(({ at, ...words }) => {
      const { line, col } = lines.linePos(at)
      const place = { file, line: Math.max(1, line), column: Math.max(1, col) }
      const quoted = quotedInLine(written[place.line - 1] ?? "")
      return { quoted: quoted !== undefined, fault: { ...place, ...(quoted ?? words) } }
    })
    // A bracket that YAML takes for its own upsets every line behind it.
    const unquoted = told.filter(({ quoted }) => quoted).map(({ fault }) => fault)
    if (unquoted.length === 0) return { faults: told.map(({ fault }) => fault) }
    return { faults: unquoted.filter(({ line }, at) => line !== unquoted[at - 1]?.line) }
  }
  const { document } = read
  const faults: Fault[] = []

  const where = (path: (string | number)[]): { line?: number; column?: number } => {
    const offset = offsetOf(document.contents, path)
    if (offset === undefined) return {}
    const { line, col } = lines.linePos(offset)
    return { line, column: col }
  }
  for (const { at, says, remedy } of unquotedPhrases(document, source)) {
    const { line, col } = lines.linePos(at)
    faults.push({ file, line, column: col, says, remedy })
  }
  if (faults.length > 0) return { faults }
  const { value, error } = schema(handlerSchema(known.kinds)).validate(read.value ?? {}, { abortEarly: false })
  const details = error?.details ?? []
  for (const detail of details) {
    if (!isRenamed(detail, details)) faults.push({ file, ...where(detail.path), ...inWords(detail) })
  }
  if (faults.length > 0) return { faults }

  const bot = value as Bot
  const ofFiles = known.rules ?? {}
  for (const name of Object.keys(bot.rules ?? {}))
    if (Object.hasOwn(ofFiles, name)) {
      const remedy = "Remove it here, or remove the file."
      faults.push({ file, ...where(["rules", name]), says: `the rule ${name} has a file of its own too`, remedy })
    }
  if (Object.keys(ofFiles).length > 0) bot.rules = { ...bot.rules, ...ofFiles }
  bot.language = [bot.language].flat()
  const book = rulesOf(bot, (path, says) => faults.push({ file, ...where(["rules", ...path]), says }))
  if (!book) return { faults }
  let parts = 0
  for (const [path, source] of phrasesIn(bot)) {
    const read = resolvedPhrase(book, source)
    if ("says" in read) {
      faults.push({ file, ...where(path), ...read })
      continue
    }
    parts += countOf(read)
    if (parts > mostParts) {
      const says = `the bot's phrases up to "${source}" come to more than ${mostParts} parts`
      faults.push({ file, ...where(path), says, remedy: "Refer to large rules from fewer phrases." })
      break
    }
  }
  const named: [HandlerName | undefined, (string | number)[]][] = [
    ...bot.routes.map((route, at): [HandlerName, (string | number)[]] => [route.handler, ["routes", at, "handler"]]),
    [bot.unrouted, ["unrouted"]],
  ]
  for (const [handler, path] of named) {
    if (typeof handler !== "string" || handlers.has(handler)) continue
    const remedy = handlers.size > 0 ? `There are: ${[...handlers].join(", ")}.` : `Make handlers/${handler}.ts.`
    faults.push({ file, ...where(path), says: `there is no handler "${handler}"`, remedy })
  }
  // What its slots are is not known of a phrase with a fault.
  if (faults.length > 0) return { faults }
  named.forEach(([handler, path], at) => {
    if (typeof handler !== "object" || typeof handler.text !== "string") return
    const slots = bot.routes[at] ? slotsIn(bot.routes[at].when, book) : []
    for (const fault of faultsOfPlaces(handler.text, slots))
      faults.push({ file, ...where([...path, "text"]), ...fault })
  })
  return faults.length > 0 ? { faults } : { bot }
}

/** A bot's rules, read; undefined where one is at fault. */
function rulesOf(bot: Bot, fault: (path: string[], says: string) => void): RuleBook | undefined {
  try {
    const book = new RuleBook(bot.rules)
    for (const name of book.names) book.resolved({ is: "rule", rule: name, slot: name, at: 0 })
    return book
  } catch (error) {
    if (error instanceof RuleError) fault(error.path, error.message)
    else if (error instanceof PhraseError) fault([], error.message)
    else throw error
    return undefined
  }
}

/** A phrase, its rules written out; or what is wrong with it. */
function resolvedPhrase(book: RuleBook, source: string): Phrase | { says: string; remedy?: string } {
  try {
    return book.resolved(readPhrase(source))
  } catch (error) {
    return phraseFault(source, error)
  }
}

/** What is wrong with a phrase, by what reading it threw. */
function phraseFault(source: string, error: unknown): { says: string; remedy?: string } {
  if (!(error instanceof PhraseError)) throw error
  if (error.rewritten === undefined) return { says: `the phrase "${source}" cannot be read: ${error.message}` }
  const remedy = `Write "${error.rewritten}". ${rewriteRemedy}`
  return { says: `the phrase "${source}" is of an earlier form`, remedy }
}

/** Every phrase of a bot's routes, and the path to it. */
function phrasesIn(bot: Bot): [path: (string | number)[], source: string][] {
  const inside = (condition: Condition, path: (string | number)[]): [(string | number)[], string][] => [
    ...(typeof condition.phrase === "string"
      ? [[[...path, "phrase"], condition.phrase] as [(string | number)[], string]]
      : (condition.phrase ?? []).map((one, at): [(string | number)[], string] => [[...path, "phrase", at], one])),
    ...(["any", "all"] as const).flatMap((name) =>
      (condition[name] ?? []).flatMap((one, at) => inside(one, [...path, name, at])),
    ),
    ...(condition.not ? inside(condition.not, [...path, "not"]) : []),
  ]
  return bot.routes.flatMap((route, at) => inside(route.when, ["routes", at, "when"]))
}

/** The slots that may be filled where a condition is met. */
function slotsIn(met: Condition, book: RuleBook): string[] {
  const phrases = [met.phrase ?? []].flat().flatMap((source) => slotsOf(book.resolved(readPhrase(source))))
  const args = met.command === undefined ? [] : ["args"]
  const inner = [...(met.any ?? []), ...(met.all ?? [])].flatMap((one) => slotsIn(one, book))
  return [...new Set([...phrases, ...args, ...inner])]
}

/** Where the value at a path begins in the source; for something missing, where its parent does. */
function offsetOf(node: unknown, path: (string | number)[]): number | undefined {
  const [head, ...rest] = path
  const here = hasRange(node) ? node.range[0] : undefined
  if (head === undefined || isAlias(node)) return here
  if (isMap(node)) {
    const pair = node.items.find((item) => (isScalar(item.key) ? item.key.value : item.key) === head)
    if (!pair) return here
    if (rest.length === 0 && hasRange(pair.key)) return pair.key.range[0]
    return offsetOf(pair.value, rest) ?? here
  }
  if (isSeq(node)) return offsetOf(node.items[head as number], rest) ?? here
  return here
}

function hasRange(node: unknown): node is { range: [number, number, number] } {
  return typeof node === "object" && node !== null && Array.isArray((node as { range?: unknown }).range)
}

/** Whether a `when` is missing because it stands there under its earlier name. */
function isRenamed({ type, path }: Joi.ValidationErrorItem, all: Joi.ValidationErrorItem[]): boolean {
  const [, at, name] = path
  return type === "any.required" && name === "when" && all.some((one) => one.path[1] === at && one.path[2] === "meets")
}

function inWords(detail: Joi.ValidationErrorItem): { says: string; remedy?: string } {
  const name = detail.path.at(-1)
  switch (detail.type) {
    case "object.unknown": {
      if (name === "meets" && detail.path.length === 3)
        return { says: '"meets" is named "when" now', remedy: `Write "when". ${rewriteRemedy}` }
      const inCondition = detail.path.includes("when")
      const known = inCondition ? conditionNames : detail.path[0] === "routes" ? ["name", "when", "handler"] : topNames
      return { says: `"${name}" is not known here`, remedy: `Write one of: ${known.join(", ")}.` }
    }
    case "any.required":
      return {
        says: `"${name}" is missing`,
        remedy: detail.path[0] === "routes" ? "A route has name, when and handler." : `Add "${name}: …".`,
      }
    case "any.only":
    case "alternatives.types": {
      const known = ((detail.context?.valids ?? detail.context?.types) as unknown[]).filter(
        (valid) => valid !== "array",
      )
      return { says: `"${detail.context?.value}" is not known here`, remedy: `Write one of: ${known.join(", ")}.` }
    }
    case "array.unique":
      return {
        says: `two routes have the name "${(detail.context?.value as Route).name}"`,
        remedy: "Give each route a name of its own.",
      }
    case "object.min":
      return { says: "the condition is empty", remedy: `Write one of: ${conditionNames.join(", ")}.` }
    case "custom":
      return {
        says: String(detail.context?.says ?? detail.message),
        ...(typeof detail.context?.remedy === "string" ? { remedy: detail.context.remedy } : {}),
      }
    default:
      return { says: detail.message.replace(`"${String(detail.context?.label)}"`, `"${name}"`) }
  }
}

/** For what is of an earlier form. */
const rewriteRemedy = '"wobbet bot check <folder> --rewrite" changes the file.'
const topNames =
  "bot, gather, turnsPerMinute, deadline, zone, language, country, rules, routes, unrouted, account".split(", ")
const conditionNames =
  "phrase, command, choice, event, media, channel, kind, place, language, mentioned, state, fields, any, all, not".split(
    ", ",
  )
