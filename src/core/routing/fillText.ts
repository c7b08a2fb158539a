import { IntlMessageFormat } from "intl-messageformat"
import { LRUCache } from "lru-cache"
import { DateTime } from "luxon"
import { escapeMarkup } from "../message/markup.ts"
import { nearest } from "../gateway/nearest.ts"
import type { Place } from "./template.ts"
import { letterOf, readTemplate } from "./template.ts"
import type { Texts, Written } from "./texts.ts"
import { variantsFor } from "./texts.ts"

const messageFields = [
  ...["event", "providerId", "place", "from", "text", "command", "choice", "media", "location", "contact", "contacts"],
  ...["form", "fields", "referral", "reaction", "replyTo", "quote", "forwarded", "people", "sentAt"],
]
const known: { [root: string]: readonly string[] | "anything" } = {
  contact: ["address", "name", "handle", "language", "bot", "fields", "mention"],
  message: messageFields,
  channel: ["key", "kind"],
  // What a bot remembers is its author's own.
  state: "anything",
}
const hourFields = ["next", "closes"]

/** What may be named in a text. */
export interface Nameable {
  /** That the route's phrases, patterns and commands fill. */
  slots: readonly string[] | "any"
  hours: readonly string[]
  texts: Texts
  /** Names that only some texts know. */
  also?: { [root: string]: readonly string[] | "anything" }
}

/** A value that is light markup already, and stays so. */
export class Marked {
  constructor(readonly markup: string) {}
}

interface PlaceFault {
  says: string
  remedy: string
}

/**
 * What is wrong with the places of a text that are to be filled in, in words: a name nobody knows would be filled with
 * nothing, and a person would read "Hello !".
 */
export function faultsOfPlaces(text: string, nameable: Nameable): PlaceFault[] {
  return readTemplate(text).flatMap((piece) => {
    if (typeof piece === "string") return []
    if ("wrong" in piece)
      return [{ says: piece.says, remedy: "Write it as {{contact.name}} or {{slots.day, date, long}}." }]
    return piece.named.flatMap(({ path }) => pathFault(path, nameable) ?? [])
  })
}

function pathFault(path: string, { slots, hours, texts, also = {} }: Nameable): PlaceFault | undefined {
  const [root = "", field, part] = path.split(".")
  const roots = {
    ...known,
    ...also,
    slots: slots === "any" ? ("anything" as const) : slots,
    texts: Object.keys(texts),
    hours,
  }
  const fields = Object.hasOwn(roots, root) ? roots[root as keyof typeof roots]! : undefined
  if (fields === undefined) {
    const near = nearest(root, Object.keys(roots))
    const such = near ? `Write {{${[near, ...path.split(".").slice(1)].join(".")}}}.` : undefined
    return {
      says: `nothing is known by the name in {{${path}}}`,
      remedy: such ?? "There are: contact, message, slots, state, channel, hours and texts, such as {{contact.name}}.",
    }
  }
  const named = field !== undefined && (fields === "anything" || fields.includes(field))
  if (named && (root !== "hours" || (part !== undefined && hourFields.includes(part)))) return undefined
  if (named)
    return {
      says: `{{${path}}} names nothing of the hours`,
      remedy: `Write {{hours.${field}.next}} or {{hours.${field}.closes}}.`,
    }
  const near = field !== undefined && fields !== "anything" ? nearest(field, [...fields]) : undefined
  const remedy = near
    ? `Write {{${root}.${near}}}.`
    : fields === "anything"
      ? `Name a field of it: {{${root}.topic}}.`
      : fields.length === 0
        ? {
            slots: "No phrase of this route fills a slot.",
            texts: "The bot has no texts.",
            hours: "The bot has no hours.",
          }[root]!
        : `Write one of: ${fields.map((name) => `{{${root}.${name}}}`).join(", ")}.`
  return { says: `{{${path}}} names nothing of ${root}`, remedy }
}

/** Names of the bot's texts that a text brings in. */
export function textsNamed(text: string): string[] {
  const paths = readTemplate(text).flatMap((piece) =>
    typeof piece === "string" || "wrong" in piece ? [] : piece.named.map(({ path }) => path),
  )
  return paths.filter((path) => path.startsWith("texts.")).map((path) => path.slice("texts.".length))
}

/** For whom a text is filled in, and with what. */
export interface Filling {
  values: { [name: string]: unknown }
  texts: Texts
  /** What the person speaks, and the bot's languages, the first of which is meant where nothing is known. */
  spoken: string | undefined
  languages: string[]
  country?: string | undefined
  /** IANA zone. */
  zone: string
  /** ISO 8601. */
  now: string
  /** How often this has been said in the conversation already: variants take turns. */
  times: number
  /** When the hours of a name begin and end. */
  opening: (name: string) => { next?: DateTime; closes?: DateTime } | undefined
}

/**
 * A text of `bot.yaml` for somebody: in the person's language, the variant whose turn it is, its places filled in. What is
 * filled in is made safe first, so that a name with a star in it does not turn the rest bold; what is not there becomes
 * nothing.
 *
 * @param notes where what could not be formatted is told
 */
export function fillText(written: Written, filling: Filling, notes: string[] = [], depth = 0): string {
  const { variants, language } = variantsFor(written, filling.spoken, filling.languages)
  const locale = localeFor(language, filling)
  return readTemplate(variants[filling.times % variants.length]!)
    .map((piece) => {
      if (typeof piece === "string") return piece
      return "wrong" in piece ? piece.wrong : filled(piece, locale, filling, notes, depth)
    })
    .join("")
}

/** Texts within texts; circles are refused when the bot is checked. */
const deepest = 10

function filled(place: Place, locale: string, filling: Filling, notes: string[], depth: number): string {
  const { path, named, format, source } = place
  const [root, name = ""] = path.split(".")
  if (root === "texts")
    return depth < deepest && Object.hasOwn(filling.texts, name)
      ? fillText(filling.texts[name]!, filling, notes, depth + 1)
      : ""
  const first = valueAt(path, filling)
  if (format === undefined || first === undefined || first === null || first === "")
    return plain(first, locale, filling)
  const values: { [letter: string]: unknown } = {}
  for (const [at, { path: other, type }] of named.entries()) {
    const value = valueAt(other, filling)
    const read = typed(value, type, filling)
    if (read === undefined && at === 0) {
      notes.push(`${source}: ${JSON.stringify(value)} is no ${type === "date" || type === "time" ? type : "number"}`)
      return plain(value, locale, filling)
    }
    const inserted = { path: other, named: [{ path: other }], source: other }
    values[letterOf(at)] = (type === undefined ? undefined : read) ?? filled(inserted, locale, filling, notes, depth)
  }
  try {
    return String(formatter(format, locale, filling.zone).format(values as { [letter: string]: string }))
  } catch (error) {
    notes.push(`${source}: ${(error as Error).message.split("\n")[0]}`)
    return plain(first, locale, filling)
  }
}

/** A value as a format of the type takes it; undefined where it is none. */
function typed(value: unknown, type: string | undefined, filling: Filling): Date | string | number | undefined {
  if (type === "date" || type === "time") return dateOf(value, filling)
  if (type === undefined || type === "select") return String(value as string)
  const number = typeof value === "string" && value.trim() === "" ? Number.NaN : Number(value)
  return Number.isNaN(number) ? undefined : number
}

const formatters = new LRUCache<string, IntlMessageFormat>({ max: 500 })

function formatter(format: string, locale: string, zone: string): IntlMessageFormat {
  const key = `${locale} ${zone} ${format}`
  let made = formatters.get(key)
  if (!made) {
    made = new IntlMessageFormat(format, locale, undefined, {
      ignoreTag: true,
      formatters: {
        getNumberFormat: (locales, options) => new Intl.NumberFormat(locales, options),
        getPluralRules: (locales, options) => new Intl.PluralRules(locales, options),
        getDateTimeFormat: (locales, options) => new Intl.DateTimeFormat(locales, { ...options, timeZone: zone }),
      },
    })
    formatters.set(key, made)
  }
  return made
}

function localeFor(language: string | undefined, { spoken, languages, country }: Filling): string {
  const [first = "en"] = languages
  const base = language ?? languages.find((code) => spoken?.toLowerCase().split("-")[0] === code) ?? first
  // A region of the person's own says how dates are written.
  const wished = spoken?.toLowerCase().startsWith(`${base.toLowerCase()}-`) ? spoken : base
  const full = wished.includes("-") || country === undefined ? wished : `${wished}-${country}`
  try {
    return Intl.getCanonicalLocales(full)[0] ?? "en"
  } catch {
    return base
  }
}

function valueAt(path: string, { values, opening }: Filling): unknown {
  const [root, name = "", part] = path.split(".")
  if (root === "hours") return opening(name)?.[part as "next" | "closes"]
  let value: unknown = values
  for (const key of path.split("."))
    value =
      typeof value === "object" && value !== null && Object.hasOwn(value, key)
        ? (value as { [key: string]: unknown })[key]
        : undefined
  return value
}

/** A value without a format: as it is, and a time of the bot's hours as people name one. */
function plain(value: unknown, locale: string, { zone, now }: Filling): string {
  if (value === undefined || value === null) return ""
  if (value instanceof Marked) return value.markup
  if (DateTime.isDateTime(value)) {
    const near = value.diff(DateTime.fromISO(now)).as("days") < 6
    const day: Intl.DateTimeFormatOptions = near
      ? { weekday: "long" }
      : { day: "numeric", month: "long", year: "numeric" }
    return value.toJSDate().toLocaleString(locale, { ...day, hour: "numeric", minute: "2-digit", timeZone: zone })
  }
  return escapeMarkup(typeof value === "object" ? JSON.stringify(value) : String(value as string | number))
}

/** What ISO 8601 says, or milliseconds; a date alone is the whole day in the bot's zone, a time alone is today's. */
function dateOf(value: unknown, { zone, now }: Filling): Date | undefined {
  if (DateTime.isDateTime(value)) return value.toJSDate()
  if (typeof value === "number") return new Date(value)
  if (typeof value !== "string") return undefined
  const text = /^\d\d:\d\d(:\d\d)?$/.test(value) ? `${DateTime.fromISO(now, { zone }).toISODate()}T${value}` : value
  const read = DateTime.fromISO(text, { zone })
  return read.isValid ? read.toJSDate() : undefined
}
