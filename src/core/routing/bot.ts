import Joi from "joi"
import { isAlias, isMap, isScalar, isSeq } from "yaml"
import type { Presence } from "../channels/presence.ts"
import { readYaml } from "../message/yaml.ts"
import { messageEvents, mediaKinds } from "../message/message.ts"
import { PhraseError, readPhrase, slotsOf } from "../phrase/read.ts"
import { readDuration } from "./duration.ts"
import { faultsOfPlaces } from "./fillText.ts"

/** A bot folder's `bot.yaml`, read and checked. */
export interface Bot {
  bot: string
  /** Milliseconds in which what one person sends belongs together. */
  gather: number
  /** More turns than this a minute by one person wait, or are set aside where others stand behind them. */
  turnsPerMinute: number
  /** Milliseconds a code handler may take. */
  deadline: number
  routes: Route[]
  unrouted?: HandlerName
  /** What people see of the bot at its providers; `connect` sets it. */
  account?: Presence
}

export interface Route {
  name: string
  meets: Condition
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
    if (!(error instanceof PhraseError)) throw error
    return helpers.message({ custom: "{#says}" }, { says: `the phrase "${source}" cannot be read: ${error.message}` })
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

const schema = (handler: Joi.Schema) =>
  Joi.object({
    bot: Joi.string()
      .pattern(/^[a-z0-9][a-z0-9-]*$/)
      .message("a bot's name is small letters, digits and hyphens, such as tern-point-ferry")
      .required(),
    gather: duration.default(0),
    turnsPerMinute: Joi.number().integer().min(1).default(30),
    deadline: duration.default(10_000),
    routes: Joi.array()
      .items(Joi.object({ name: Joi.string().required(), meets: condition.required(), handler: handler.required() }))
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
  if ("faults" in read)
    return {
      faults: read.faults.map(({ at, ...words }) => {
        const { line, col } = lines.linePos(at)
        return { file, line: Math.max(1, line), column: Math.max(1, col), ...words }
      }),
    }
  const { document } = read
  const faults: Fault[] = []

  const where = (path: (string | number)[]): { line?: number; column?: number } => {
    const offset = offsetOf(document.contents, path)
    if (offset === undefined) return {}
    const { line, col } = lines.linePos(offset)
    return { line, column: col }
  }
  const { value, error } = schema(handlerSchema(known.kinds)).validate(read.value ?? {}, { abortEarly: false })
  for (const detail of error?.details ?? []) faults.push({ file, ...where(detail.path), ...inWords(detail) })
  if (faults.length > 0) return { faults }

  const bot = value as Bot
  const named: [HandlerName | undefined, (string | number)[]][] = [
    ...bot.routes.map((route, at): [HandlerName, (string | number)[]] => [route.handler, ["routes", at, "handler"]]),
    [bot.unrouted, ["unrouted"]],
  ]
  for (const [handler, path] of named) {
    if (typeof handler !== "string" || handlers.has(handler)) continue
    const remedy = handlers.size > 0 ? `There are: ${[...handlers].join(", ")}.` : `Make handlers/${handler}.ts.`
    faults.push({ file, ...where(path), says: `there is no handler "${handler}"`, remedy })
  }
  named.forEach(([handler, path], at) => {
    if (typeof handler !== "object" || typeof handler.text !== "string") return
    const slots = bot.routes[at] ? slotsIn(bot.routes[at].meets) : []
    for (const fault of faultsOfPlaces(handler.text, slots))
      faults.push({ file, ...where([...path, "text"]), ...fault })
  })
  return faults.length > 0 ? { faults } : { bot }
}

/** The slots that may be filled where a condition is met. */
function slotsIn(met: Condition): string[] {
  const phrases = [met.phrase ?? []].flat().flatMap((source) => slotsOf(readPhrase(source)))
  const args = met.command === undefined ? [] : ["args"]
  return [...new Set([...phrases, ...args, ...[...(met.any ?? []), ...(met.all ?? [])].flatMap(slotsIn)])]
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

function inWords(detail: Joi.ValidationErrorItem): { says: string; remedy?: string } {
  const name = detail.path.at(-1)
  switch (detail.type) {
    case "object.unknown": {
      const inCondition = detail.path.includes("meets")
      const known = inCondition ? conditionNames : detail.path[0] === "routes" ? ["name", "meets", "handler"] : topNames
      return { says: `"${name}" is not known here`, remedy: `Write one of: ${known.join(", ")}.` }
    }
    case "any.required":
      return {
        says: `"${name}" is missing`,
        remedy: detail.path[0] === "routes" ? "A route has name, meets and handler." : `Add "${name}: …".`,
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
    default:
      return { says: detail.message.replace(`"${String(detail.context?.label)}"`, `"${name}"`) }
  }
}

const topNames = ["bot", "gather", "turnsPerMinute", "deadline", "routes", "unrouted"]
const conditionNames =
  "phrase, command, choice, event, media, channel, kind, place, language, mentioned, state, fields, any, all, not".split(
    ", ",
  )
