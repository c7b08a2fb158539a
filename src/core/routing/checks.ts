import { isDeepStrictEqual } from "node:util"
import type { Message } from "../message/message.ts"
import { fold } from "../phrase/words.ts"
import type { Attachment, Condition, PlaceWanted } from "./condition.ts"
import type { Finding } from "./finding.ts"
import { depends, met, missed } from "./finding.ts"
import { lengthInWords } from "./duration.ts"
import type { OpeningHours } from "./hours.ts"
import { list } from "./parts.ts"
import type { Pattern } from "./pattern.ts"
import type { Situation } from "./situation.ts"
import { sizeInWords } from "./size.ts"

/** A situation, and what a bot has ready to look at it. */
export interface Look extends Situation {
  /** The route whose condition is checked. */
  route: string
  patterns: ReadonlyMap<string, Pattern>
  hours: ReadonlyMap<string, OpeningHours>
}

/** The conditions that are about one thing each; the others are about phrases, or made of conditions. */
export type Plain = Exclude<keyof Condition, "phrase" | "any" | "all" | "not">

/** How each condition is checked: what is wanted, and where. */
export const checks: { [name in Plain]: (wanted: NonNullable<Condition[name]>, look: Look) => Finding } = {
  pattern(wanted, { message, messages = [], patterns }) {
    const texts = [message, ...messages].flatMap(({ text }) => text ?? [])
    if (texts.length === 0) return missed("there is no text to look for the pattern in")
    for (const source of list(wanted))
      for (const text of texts) {
        const slots = patterns.get(source)!.find(text)
        if (slots) return met(`the pattern "${source}"`, slots)
      }
    return missed(`the pattern "${list(wanted).join('" or "')}" is not in the text`)
  },

  command(wanted, { message }) {
    const names = list(wanted).map((name) => name.toLowerCase())
    const said = message.command?.name
    if (said === undefined) return missed(`no command was given (wants /${names.join(" or /")})`)
    if (!names.includes(said)) return missed(`the command is /${said}, not /${names.join(" or /")}`)
    return met(`the command /${said}`, message.command?.args ? { args: message.command.args } : {})
  },

  choice(wanted, { message }) {
    const ids = choiceIds(message)
    if (ids.length === 0) return missed(`nothing was chosen (wants ${list(wanted).join(" or ")})`)
    const hit = ids.find((id) => list(wanted).some((option) => fitsChoice(option, id)))
    return hit === undefined
      ? missed(`the choice is "${ids.join(", ")}", not "${list(wanted).join('" or "')}"`)
      : met(`the choice "${hit}"`)
  },

  event: (wanted, { message }) => oneOf("event", message.event, list(wanted)),

  media(wanted, { message }) {
    const kinds = (message.media ?? []).map(({ kind }) => kind as string)
    if (kinds.length === 0) return missed(`nothing is attached (wants ${list(wanted).join(" or ")})`)
    if (list(wanted).includes("any")) return met(`media ${kinds[0]}`)
    const hit = kinds.find((kind) => list(wanted).includes(kind))
    return hit
      ? met(`media ${hit}`)
      : missed(`what is attached is ${kinds.join(", ")}, not ${list(wanted).join(" or ")}`)
  },

  attachment(wanted, { message }) {
    const attached = message.media ?? []
    if (attached.length === 0) return missed("nothing is attached")
    const faults = attached.map((media) => attachmentFault(wanted, media))
    const hit = faults.indexOf(undefined)
    if (hit < 0) return missed(faults.join("; "))
    const { mime, kind, size } = attached[hit]!
    return met(`attached is ${mime ?? kind}${size === undefined ? "" : ` of ${sizeInWords(size)}`}`)
  },

  channel(wanted, { channel }) {
    if (!channel) return depends(`depends on the channel: wants ${list(wanted).join(" or ")}`)
    return oneOf("channel", channel.key, list(wanted))
  },

  kind(wanted, { channel }) {
    if (!channel) return depends(`depends on the channel: wants one of the kind ${list(wanted).join(" or ")}`)
    return oneOf("kind", channel.kind, list(wanted))
  },

  place(wanted, look) {
    const { kind } = look.message.place
    if (typeof wanted === "string" || Array.isArray(wanted)) return oneOf("place", kind, list(wanted))
    if (wanted.kind !== undefined && !list(wanted.kind).includes(kind)) return oneOf("place", kind, list(wanted.kind))
    return placeIs(wanted, look)
  },

  language(wanted, { message, supposed }) {
    if (!message.from && supposed)
      return depends(`depends on the person: wants the language ${list(wanted).join(" or ")}`)
    const spoken = message.from?.language ?? ""
    return list(wanted).some((code) => speaks(spoken, code))
      ? met(`language ${spoken}`)
      : missed(`the person's language is ${spoken || "not known"}, not ${list(wanted).join(" or ")}`)
  },

  mentioned(wanted, { message }) {
    const is = message.mentionsBot === true
    const says = is ? "the bot is mentioned" : "the bot is not mentioned"
    return is === wanted ? met(says) : missed(says)
  },

  from(wanted, { message, supposed }) {
    const { from } = message
    const speakers = list(wanted)
    if (!from)
      return supposed
        ? depends(`depends on the person: wants ${speakers.join(" or ")}`)
        : missed("nobody is named as its author")
    if (speakers.includes(from.bot ? "bot" : "person")) return met(from.bot ? "a bot said it" : "a person said it")
    if (speakers.includes("admin") && from.admin) return met("an administrator of the place said it")
    if (!speakers.includes("admin")) return missed(from.bot ? "a bot said it" : "a person said it, no bot")
    return missed(
      from.admin === undefined
        ? "whether an administrator of the place said it is not known"
        : "no administrator of the place said it",
    )
  },

  contact(wanted, { message, facts, supposed }) {
    const { tag, ...fields } = wanted
    const { from } = message
    if (!from && !facts?.contact)
      return supposed
        ? depends(`depends on the person: wants ${Object.keys(wanted).join(", ")}`)
        : missed("nobody is named as its author")
    const tags = facts?.contact?.tags ?? []
    if (tag !== undefined && !list(tag as string | string[]).some((one) => tags.includes(one)))
      return missed(
        `the person has ${tags.length > 0 ? `the tags ${tags.join(", ")}` : "no tag"}, not ${list(tag as string).join(" or ")}`,
      )
    const known = { ...facts?.contact?.fields, ...from }
    const finding = Object.keys(fields).length > 0 ? values("contact", known, fields) : met("")
    if (!finding.met || tag === undefined) return finding
    return met(["the person's tags", finding.why].filter(Boolean).join(", "))
  },

  may(wanted, { message, facts, supposed }) {
    if (!message.from && !facts?.contact)
      return supposed ? depends("depends on the person's tags") : missed("nobody is named as its author")
    const tags = facts?.contact?.tags ?? []
    const tag = list(wanted).find((one) => tags.includes(one))
    if (tag !== undefined) return met(`whoever has the tag ${tag} may`)
    return missed(`only whoever has the tag ${list(wanted).join(" or ")} may, and this person has not`)
  },

  state: (wanted, { state }) => values("state", state, wanted),

  fields(wanted, { message }) {
    // On a command line and in YAML a number is a number; a gateway's field is text.
    const asText = (value: unknown): unknown => (Array.isArray(value) ? value.map(asText) : String(value))
    const texts = Object.entries(wanted).map(([name, value]) => [name, asText(value)])
    return values("fields", message.fields ?? {}, Object.fromEntries(texts) as { [field: string]: unknown })
  },

  during(wanted, look) {
    const open = list(wanted).find((name) => look.hours.get(name)!.at(timeOf(look)).open)
    return open === undefined ? missed(closedNow(list(wanted), look)) : met(`within the hours ${open}`)
  },

  outside(wanted, look) {
    const open = list(wanted).find((name) => look.hours.get(name)!.at(timeOf(look)).open)
    return open === undefined ? met(closedNow(list(wanted), look)) : missed(`it is within the hours ${open}`)
  },

  said(wanted, { facts, route, supposed }) {
    const wants = typeof wanted === "number" ? { least: wanted, most: wanted } : wanted
    if (!facts?.taken && supposed) return depends("depends on how often the route has answered in the conversation")
    const times = facts?.taken?.[route] ?? 0
    const so = `the route has taken ${times} ${times === 1 ? "message" : "messages"} of this conversation already`
    return times >= (wants.least ?? 0) && times <= (wants.most ?? Infinity) ? met(so) : missed(so)
  },

  silent(wanted, { facts, supposed }) {
    const silent = facts?.silent
    if (silent === undefined)
      return supposed
        ? depends(`depends on whether the conversation was silent for ${lengthInWords(wanted)}`)
        : missed("how long the conversation was silent is not known")
    if (silent === null) return met("nothing was said in the conversation before")
    const so = `the conversation was silent for ${lengthInWords(silent)}`
    return silent >= wanted ? met(so) : missed(`${so}, not for ${lengthInWords(wanted)}`)
  },
}

/** When it was said. */
function timeOf({ message, now }: Look): string {
  return message.sentAt ?? now
}

function closedNow(names: string[], look: Look): string {
  const [first] = names
  const { next } = look.hours.get(first!)!.at(timeOf(look))
  return `outside the hours ${names.join(" and ")}${next ? `, which begin ${next.toFormat("ccc d LLL HH:mm")}` : ""}`
}

function attachmentFault(
  wanted: Attachment,
  { mime, kind, size }: NonNullable<Message["media"]>[number],
): string | undefined {
  const types = list(wanted.type)
  const fits = (type: string) => (type.endsWith("/*") ? mime?.startsWith(type.slice(0, -1)) : mime === type)
  if (types.length > 0 && !types.some(fits))
    return `what is attached is ${mime ?? `a ${kind} of unknown type`}, not ${types.join(" or ")}`
  if (wanted.most === undefined && wanted.least === undefined) return undefined
  if (size === undefined) return "how large the attachment is is not known"
  if (size > (wanted.most ?? Infinity))
    return `the attachment has ${sizeInWords(size)}, more than ${sizeInWords(wanted.most!)}`
  if (size < (wanted.least ?? 0))
    return `the attachment has ${sizeInWords(size)}, less than ${sizeInWords(wanted.least!)}`
  return undefined
}

function placeIs({ is }: PlaceWanted, { message, facts, supposed }: Look): Finding {
  const { place } = message
  const hit = list(is).find((wanted) => isPlace(wanted, message, facts?.placeTags))
  if (hit !== undefined) return met(`the place ${hit}`)
  if (supposed && place.address === "") return depends(`depends on the place: wants ${list(is).join(" or ")}`)
  return missed(`the place is ${place.title ?? place.address}, not ${list(is).join(" or ")}`)
}

/** Whether a place is meant: by its provider's id, its title or one of its tags. */
export function isPlace(wanted: string, { place }: Message, tags: string[] = []): boolean {
  if (place.address === wanted || tags.includes(wanted)) return true
  return place.title !== undefined && fold(place.title) === fold(wanted)
}

/** Whether a language is the one meant: `pt` is also `pt-BR`. */
export function speaks(spoken: string, code: string): boolean {
  const [is, wanted] = [spoken.toLowerCase().replace("_", "-"), code.toLowerCase()]
  return is === wanted || is.startsWith(`${wanted}-`)
}

/** Whether each of the values is there, under its name. */
function values(of: string, there: { [field: string]: unknown }, wanted: { [field: string]: unknown }): Finding {
  const fields = Object.entries(wanted)
  const at = (field: string) => (Object.hasOwn(there, field) ? there[field] : undefined)
  const wrong = fields.find(([field, value]) => !fitsValue(at(field), value))
  if (!wrong) return met(`${of} ${fields.map(([field]) => field).join(", ")}`)
  const found = at(wrong[0])
  return missed(
    `${of}.${wrong[0]} is ${found === undefined ? "not set" : JSON.stringify(found)}, not ${JSON.stringify(wrong[1])}`,
  )
}

function fitsValue(is: unknown, wanted: unknown): boolean {
  return Array.isArray(wanted) && !Array.isArray(is)
    ? wanted.some((option) => isDeepStrictEqual(is, option))
    : isDeepStrictEqual(is ?? null, wanted)
}

function oneOf(name: string, is: string, wanted: string[]): Finding {
  return wanted.includes(is) ? met(`${name} ${is}`) : missed(`the ${name} is ${is}, not ${wanted.join(" or ")}`)
}

export function choiceIds(message: Message): string[] {
  return message.choice ? (message.choice.ids ?? [message.choice.id]) : []
}

/** `day:*` takes every choice that begins with `day:`. */
export function fitsChoice(wanted: string, id: string): boolean {
  return wanted.endsWith("*") ? id.startsWith(wanted.slice(0, -1)) : wanted === id
}
