import Joi from "joi"
import { readDuration } from "../routing/duration.ts"
import type { Profile } from "../gateway/profile.ts"
import type { ChannelKind } from "./kind.ts"

const duration = Joi.alternatives(Joi.number().min(0), Joi.string()).custom((value: number | string, helpers) => {
  if (readDuration(value) === undefined)
    return helpers.message(
      { custom: "{#says}" },
      { says: `"${value}" is not a length of time; write 500ms, 1s, 2m, 1h or 1d` },
    )
  return value
})

/** What every channel can be told, whatever its kind. */
const common = {
  publicUrl: Joi.string()
    .uri({ scheme: ["http", "https"] })
    .description("where the provider reaches this service, when it differs from the service's own"),
  onDoubt: Joi.valid("resend", "park")
    .default("park")
    .description("what to do when a reply may or may not have arrived"),
  repeats: Joi.boolean().description(
    "whether a call that is refused comes again; the kind knows, unless something stands in between",
  ),
  perSecond: Joi.number().positive().max(10_000).description("messages a second, in all"),
  perDay: Joi.number().integer().positive().description("messages a day, in all (UTC)"),
  pauseBetween: Joi.array()
    .ordered(Joi.number().min(0).required(), Joi.number().min(0).required())
    .description("seconds between two messages, from and to"),
  gather: duration.description("what one person sends within this is one turn"),
  answerWithin: duration.description("older messages are parked as too late"),
  answerBots: Joi.boolean().default(false).description("whether other bots' messages are answered"),
  alertTo: Joi.string()
    .pattern(/^(cnv_\w+|https?:\/\/\S+|[a-z0-9][a-z0-9-]*:\S+)$/)
    .message("alertTo is a conversation (cnv_… or channel:address) or an http address")
    .description("who is told when the channel needs a person"),
  mediaLimit: Joi.number()
    .positive()
    .max(100)
    .default(25)
    .description("megabytes of one picture, sound or file that is fetched and kept"),
  mediaPerDay: Joi.number()
    .positive()
    .default(1000)
    .description("megabytes of pictures, sounds and files that are kept in a day (UTC)"),
  mediaTypes: Joi.string()
    .pattern(/^[\w.+*-]+\/[\w.+*-]+(,\s*[\w.+*-]+\/[\w.+*-]+)*$/)
    .message("mediaTypes are written as image/*, application/pdf")
    .description("sorts of media that are kept; everything but web pages and programs when left out"),
  fetchFrom: Joi.string()
    .pattern(/^[0-9a-fA-F.:/, ]+$/)
    .message("fetchFrom names addresses or networks such as 10.0.0.0/8, 192.168.1.5")
    .description("private networks that media may be fetched from; none when left out"),
  keyHosts: Joi.string()
    .pattern(/^https?:\/\/[^\s/?#@,]+(,\s*https?:\/\/[^\s/?#@,]+)*$/)
    .message("keyHosts names origins such as https://files.gateway.example, with commas between")
    .description("origins besides apiBase's to which the channel's keys may go, such as where media lie"),
  bot: Joi.string().description("the bot that answers, when there are several"),
  lane: Joi.string().description("the lane it follows; live when left out"),
}

/** Whether every channel has a setting, whatever its kind. */
export function isCommonSetting(name: string): boolean {
  return Object.hasOwn(common, name)
}

export function settingsSchema(
  kind: ChannelKind,
  given: { [name: string]: unknown } = {},
  profile?: Profile,
): Joi.ObjectSchema {
  return (kind.schemasFor?.(given, profile).settings ?? kind.settings)
    .keys(common)
    .custom((value: { pauseBetween?: [number, number] }, helpers) => {
      const [from, to] = value.pauseBetween ?? [0, 0]
      return from <= to
        ? value
        : helpers.message({ custom: "pauseBetween is two numbers of seconds, the smaller first" })
    })
}

export interface SettingsReading {
  value: { [name: string]: unknown }
  /** @property missing whether it is not there, rather than wrong */
  fault?: { field: string; says: string; missing: boolean }
}

/** Checks settings and fills in defaults. Text such as "true" or "2,5" from a command line is read as what it means. */
export function readSettings(
  kind: ChannelKind,
  given: { [name: string]: unknown },
  profile?: Profile,
): SettingsReading {
  const read = Object.fromEntries(
    Object.entries(given)
      .filter(([, value]) => value !== "")
      .map(([name, value]) => [
        name,
        name === "pauseBetween" && typeof value === "string" ? value.split(/[,–-]/).map(Number) : value,
      ]),
  )
  return reading(settingsSchema(kind, read, profile).validate(read, { convert: true, abortEarly: false }))
}

export function readSecrets(
  kind: ChannelKind,
  given: { [name: string]: unknown },
  settings: { [name: string]: unknown } = {},
  profile?: Profile,
): SettingsReading {
  return reading((kind.schemasFor?.(settings, profile).secrets ?? kind.secrets).validate(given, { abortEarly: false }))
}

function reading(result: Joi.ValidationResult): SettingsReading {
  const details = result.error?.details ?? []
  const [first] = details
  if (!first) return { value: result.value as SettingsReading["value"] }
  const says = [...new Set(details.map(wordsOf))].join("; ")
  const missing = details.every(({ type }) => type === "any.required" || type === "object.missing")
  return { value: {}, fault: { field: first.path.join("."), says, missing } }
}

function wordsOf({ type, path, message, context }: Joi.ValidationErrorItem): string {
  const field = path.join(".")
  if (type === "object.unknown") return `"${field}" is not known here`
  if (type === "any.required") return `"${field}"`
  if (type === "object.missing") return `one of ${(context?.peers as string[]).join(", ")} is needed`
  // The value itself stays out of the sentence: it may be a secret.
  return message.replace(/ with value ".*?"/, "")
}
