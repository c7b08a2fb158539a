import Joi from "joi"
import { readMarkup } from "./markup.ts"
import type { MediaKind } from "./message.ts"
import { mediaKinds } from "./message.ts"

/** A reply is what a handler wants said, in parts, before a channel renders it. Texts are light markup. */
export type ReplyPart =
  | { part: "text"; text: string; replyTo?: string }
  | { part: "choices"; text: string; choices: Option[]; perRow?: number }
  | ({ part: "media"; with?: MediaItem[] } & MediaItem)
  | { part: "cards"; cards: Card[] }
  | { part: "location"; latitude: number; longitude: number; name?: string }
  | { part: "contact"; name: string; phone: string }
  | { part: "template"; name: string; language: string; parameters?: string[]; text?: string }
  | { part: "reaction"; to: string; emoji: string }
  | { part: "typing"; to?: string }
  | { part: "amend"; to: string; text?: string; choices?: Option[] }
  | { part: "remove"; to: string }

/** A picture, sound or file: from an address, by the provider's own reference, or as base64 data. */
export interface MediaItem {
  kind: MediaKind
  url?: string
  ref?: string
  data?: string
  mime?: string
  name?: string
  caption?: string
}

/** One option of a question: a choice that comes back by its id, or a link that opens. */
export interface Option {
  id: string
  label: string
  url?: string
}

export interface Card {
  title: string
  subtitle?: string
  picture?: string
  choices?: Option[]
}

const option = Joi.object({
  id: Joi.string().max(2000).required(),
  label: Joi.string().max(2000).pattern(/\S/, "words").required(),
  url: Joi.string().uri({ scheme: ["http", "https", "tg"] }),
})
const words = Joi.string().max(200_000)

const mediaKeys = {
  kind: Joi.valid(...mediaKinds).required(),
  url: Joi.string().uri({ scheme: ["http", "https"] }),
  ref: Joi.string().max(2000),
  data: Joi.string().base64(),
  mime: Joi.string().max(200),
  name: Joi.string().max(500),
  caption: words,
}

const part = (name: ReplyPart["part"], keys: Joi.SchemaMap) => Joi.object({ part: Joi.valid(name).required(), ...keys })

/** What each part of a reply holds. */
export const replyShapes: Record<ReplyPart["part"], Joi.ObjectSchema> = {
  text: part("text", { text: words.required(), replyTo: Joi.string().max(500) }),
  choices: part("choices", {
    text: words.required(),
    choices: Joi.array().items(option).unique("id").min(1).max(100).required(),
    perRow: Joi.number().integer().min(1).max(8),
  }),
  media: part("media", {
    ...mediaKeys,
    with: Joi.array()
      .items(Joi.object(mediaKeys).xor("url", "ref", "data"))
      .max(50),
  }).xor("url", "ref", "data"),
  cards: part("cards", {
    cards: Joi.array()
      .items(
        Joi.object({
          title: words.required(),
          subtitle: words,
          picture: Joi.string().uri({ scheme: ["http", "https"] }),
          choices: Joi.array().items(option).unique("id").max(100),
        }),
      )
      .min(1)
      .max(50)
      .required(),
  }),
  location: part("location", {
    latitude: Joi.number().min(-90).max(90).required(),
    longitude: Joi.number().min(-180).max(180).required(),
    name: words,
  }),
  contact: part("contact", { name: words.required(), phone: Joi.string().max(64).required() }),
  template: part("template", {
    name: Joi.string().max(512).required(),
    language: Joi.string().max(50).required(),
    parameters: Joi.array().items(Joi.string().allow("").max(5000)).max(100),
    text: words,
  }),
  reaction: part("reaction", { to: Joi.string().max(500).required(), emoji: Joi.string().max(100).required() }),
  typing: part("typing", { to: Joi.string().max(500) }),
  amend: part("amend", {
    to: Joi.string().max(500).required(),
    text: words,
    choices: Joi.array().items(option).unique("id").max(100),
  }).or("text", "choices"),
  remove: part("remove", { to: Joi.string().max(500).required() }),
}

export const replyPartWords =
  "one part of a reply: text, choices, media, cards, location, contact, template, reaction, typing, amend or remove"

/** Checks one reply part of any origin: a handler, the API, a person. */
export const replyPartSchema = Joi.object({ part: Joi.valid(...Object.keys(replyShapes)).required() })
  .unknown(true)
  .custom((value: { part: ReplyPart["part"] }, helpers) => {
    const { error, value: clean } = replyShapes[value.part].validate(value)
    if (error) return helpers.message({ custom: "{#says}" }, { says: `the ${value.part} part: ${error.message}` })
    return clean
  })
  .description(replyPartWords)

export const replySchema = Joi.array().items(replyPartSchema).max(50)

/** The first thing wrong with a list of reply parts, in words, or nothing. */
export function replyFault(parts: unknown): string | undefined {
  // Most replies are a few words and nothing else; the schema would take as long as everything else in their turn.
  if (Array.isArray(parts) && parts.length <= 50 && parts.every(isPlainText)) return undefined
  return replySchema.validate(parts).error?.message
}

function isPlainText(part: unknown): boolean {
  if (typeof part !== "object" || part === null) return false
  const { part: name, text } = part as { part?: unknown; text?: unknown }
  return (
    name === "text" && typeof text === "string" && text !== "" && text.length <= 4000 && Object.keys(part).length === 2
  )
}

/** What a person reading a reply part would read, in one line of plain words; used in lists and search. */
export function plainWords(part: ReplyPart): string {
  switch (part.part) {
    case "text":
    case "choices":
      return readMarkup(part.text).text
    case "media":
      return part.caption ? readMarkup(part.caption).text : `(${part.kind})`
    case "cards":
      return part.cards
        .map((card) => [card.title, card.subtitle && readMarkup(card.subtitle).text].filter(Boolean).join(": "))
        .join(" · ")
    case "location":
      return part.name ?? `(location ${part.latitude}, ${part.longitude})`
    case "contact":
      return `${part.name} ${part.phone}`
    case "template":
      return part.text ? readMarkup(part.text).text : `(template ${part.name})`
    case "reaction":
      return part.emoji
    case "typing":
      return "(typing)"
    case "amend":
      return part.text ? readMarkup(part.text).text : "(buttons changed)"
    case "remove":
      return "(taken back)"
  }
}
