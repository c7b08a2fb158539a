import Joi from "joi"
import { readMarkup } from "./markup.ts"
import type { MediaKind } from "./message.ts"
import { mediaKinds } from "./message.ts"

/** A reply is what a handler wants said, in parts, before a channel renders it. Texts are light markup. */
export type ReplyPart =
  | ({ part: "text"; text: string; replyTo?: string } & Along)
  | ({ part: "choices"; text: string; choices: Option[]; perRow?: number } & Along)
  | ({ part: "media"; with?: MediaItem[] } & MediaItem & Along)
  | ({ part: "cards"; cards: Card[] } & Along)
  | ({ part: "location"; latitude: number; longitude: number; name?: string } & Along)
  | ({ part: "contact"; name: string; phone: string } & Along)
  | { part: "template"; name: string; language: string; parameters?: string[]; text?: string }
  | { part: "reaction"; to: string; emoji: string }
  | { part: "typing"; to?: string }
  | { part: "amend"; to: string; text?: string; choices?: Option[] }
  | { part: "remove"; to: string }

/** What is said along with a part, where the channel's gateway takes it: by the names its profile gives. */
interface Along {
  extra?: { [name: string]: string }
}

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

const id = Joi.string().max(500)
const words = Joi.string().max(200_000)

const option = Joi.object({
  id: Joi.string().max(2000).required().description("what comes back when it is chosen; unique in its question"),
  label: Joi.string().max(2000).pattern(/\S/, "words").required().description("what the person reads"),
  url: Joi.string()
    .uri({ scheme: ["http", "https", "tg"] })
    .description("an address that opens instead; nothing comes back then"),
})

const mediaKeys = {
  kind: Joi.valid(...mediaKinds)
    .required()
    .description("what it is"),
  url: Joi.string()
    .uri({ scheme: ["http", "https"] })
    .description("where it lies; one of url, ref and data"),
  ref: Joi.string().max(2000).description("the provider's own reference, or kept: and the hash of what a person sent"),
  data: Joi.string().base64().description("the content itself, as base64"),
  mime: Joi.string().max(200).description("its type, such as image/png, where the address does not tell"),
  name: Joi.string().max(500).description("the name a file is offered under"),
  caption: words.description("words beneath it, in light markup"),
}

const part = (name: ReplyPart["part"], keys: Joi.SchemaMap) => Joi.object({ part: Joi.valid(name).required(), ...keys })

const along = {
  extra: Joi.object()
    .pattern(/^[a-z][A-Za-z0-9]*$/, Joi.string().allow("").max(2000))
    .max(20)
    .description("what is said along, by the names the channel's profile gives, such as which SIM sends it"),
}

/** What each part of a reply holds. */
export const replyShapes: Record<ReplyPart["part"], Joi.ObjectSchema> = {
  text: part("text", {
    text: words.required().description("the words, in light markup; long ones are sent in several messages"),
    replyTo: id.description("the provider's id of the message this one answers"),
    ...along,
  }),
  choices: part("choices", {
    text: words.required().description("the question, in light markup"),
    choices: Joi.array().items(option).unique("id").min(1).max(100).required().description("the options, 1 to 100"),
    perRow: Joi.number().integer().min(1).max(8).description("buttons beside each other, where the channel has rows"),
    ...along,
  }),
  media: part("media", {
    ...mediaKeys,
    with: Joi.array()
      .items(Joi.object(mediaKeys).xor("url", "ref", "data"))
      .max(50)
      .description("more of them, shown together where the channel can"),
    ...along,
  }).xor("url", "ref", "data"),
  cards: part("cards", {
    cards: Joi.array()
      .items(
        Joi.object({
          title: words.required().description("the first line"),
          subtitle: words.description("what stands beneath, in light markup"),
          picture: Joi.string()
            .uri({ scheme: ["http", "https"] })
            .description("where its picture lies"),
          choices: Joi.array().items(option).unique("id").max(100).description("its options"),
        }),
      )
      .min(1)
      .max(50)
      .required()
      .description("1 to 50 cards, beside each other where the channel can"),
    ...along,
  }),
  location: part("location", {
    latitude: Joi.number().min(-90).max(90).required().description("degrees north"),
    longitude: Joi.number().min(-180).max(180).required().description("degrees east"),
    name: words.description("what is there"),
    ...along,
  }),
  contact: part("contact", {
    name: words.required().description("whose card it is"),
    phone: Joi.string().max(64).required().description("the telephone number, with its country code"),
    ...along,
  }),
  template: part("template", {
    name: Joi.string().max(512).required().description("the template's name at the provider"),
    language: Joi.string().max(50).required().description("the language it was approved in, such as en_GB"),
    parameters: Joi.array()
      .items(Joi.string().allow("").max(5000))
      .max(100)
      .description("what is filled into its places, in their order"),
    text: words.description("its words, for channels without templates; {{1}} is the first parameter"),
  }),
  reaction: part("reaction", {
    to: id.required().description("the provider's id of the message that is reacted to"),
    emoji: Joi.string().max(100).required().description("one emoji"),
  }),
  typing: part("typing", { to: id.description("the provider's id of the message that is being answered") }),
  amend: part("amend", {
    to: id.required().description("the provider's id of the message of ours that is changed"),
    text: words.description("its new words; left out, they stay"),
    choices: Joi.array()
      .items(option)
      .unique("id")
      .max(100)
      .description("its new options; an empty list takes them away"),
  }).or("text", "choices"),
  remove: part("remove", {
    to: id.required().description("the provider's id of the message of ours that is taken back"),
  }),
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
