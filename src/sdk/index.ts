import type { Card, MediaItem, Option, ReplyPart } from "../core/message/reply.ts"

import { mentionOf } from "../core/message/mention.ts"
import type { Handler, Turn } from "./turn.ts"

export type { Handler, Outcome, Person, Said, State, Turn } from "./turn.ts"
export type { Message, Media, Place, Sender, Choice } from "../core/message/message.ts"
export type { Card, MediaItem, Option, ReplyPart } from "../core/message/reply.ts"
export { answer, ask, expect, interview, leave, once, pause, remember, tell } from "./interview.ts"
export type {
  Asking,
  InterviewHandler,
  InterviewOptions,
  InterviewTurn,
  Leaving,
  Part,
  Step,
  WayOut,
  When,
} from "./interview.ts"

/** Marks a function as the handler of its file: `export default handler(async ({ message, slots }) => …)`. */
export function handler(answer: Handler): Handler {
  return answer
}

/**
 * The value of one of the bot's secrets, which the route lists (`secrets: [NAME]`). Throws where it does not. A value that
 * turns up in a reply, a state, a log or an error is masked.
 */
export function secret(name: string): string {
  return asked("wobbet.secret", name)
}

/** A text of the folder's own `files/`, as it travels with the release: `file("persona.txt")`. */
export function file(name: string): string {
  return asked("wobbet.file", name)
}

/** What the host has for handlers; it is there once they are loaded. */
function asked(what: string, name: string): string {
  const ask = (globalThis as { [key: symbol]: unknown })[Symbol.for(what)]
  if (typeof ask !== "function") throw new Error("This is only there while a turn is handled.")
  return (ask as (name: string) => string)(name)
}

/** Words, in light markup: bold, italic, code, links, lists and quotes. */
export function text(words: string, options: { replyTo?: string } = {}): ReplyPart {
  return { part: "text", text: words, ...options }
}

/** A question with options to pick from; an option is its label, or an id and a label. */
export function choices(words: string, options: (Option | string)[], layout: { perRow?: number } = {}): ReplyPart {
  return { part: "choices", text: words, choices: options.map(toOption), ...layout }
}

/** A picture, sound or file; several of them are shown together where the channel can. */
export function media(first: MediaItem, ...more: MediaItem[]): ReplyPart {
  for (const item of [first, ...more]) takes("media", item, mediaFields)
  return { part: "media", ...first, ...(more.length > 0 ? { with: more } : {}) }
}

export function cards(...list: Card[]): ReplyPart {
  for (const card of list) {
    takes("a card", card, cardFields)
    for (const choice of card.choices ?? []) takes("a card's choice", choice, optionFields)
  }
  return { part: "cards", cards: list }
}

/**
 * Says something along with a part, where the channel's gateway takes it: by the names its profile gives under `extra`,
 * such as which SIM sends it.
 */
export function extra<Part extends ReplyPart>(
  part: Part,
  along: { [name: string]: string },
): Part & { extra: { [name: string]: string } } {
  return { ...part, extra: along }
}

export function location(latitude: number, longitude: number, name?: string): ReplyPart {
  return { part: "location", latitude, longitude, ...(name ? { name } : {}) }
}

export function contact(name: string, phone: string): ReplyPart {
  return { part: "contact", name, phone }
}

/** A text the provider approved beforehand; `text` is said where there are no such. */
export function template(
  name: string,
  language: string,
  options: { parameters?: string[]; text?: string } = {},
): ReplyPart {
  return { part: "template", name, language, ...options }
}

export function reaction(to: string, emoji: string): ReplyPart {
  return { part: "reaction", to, emoji }
}

export function typing(): ReplyPart {
  return { part: "typing" }
}

/** Changes something said before: its words, or its choices (an empty list takes them away). */
export function amend(to: string, change: { text?: string; choices?: (Option | string)[] }): ReplyPart {
  return {
    part: "amend",
    to,
    ...(change.text !== undefined ? { text: change.text } : {}),
    ...(change.choices ? { choices: change.choices.map(toOption) } : {}),
  }
}

export function remove(to: string): ReplyPart {
  return { part: "remove", to }
}

function toOption(option: Option | string): Option {
  if (typeof option === "string") return { id: option, label: option }
  takes("an option", option, optionFields)
  return option
}

const optionFields = ["id", "label", "url"]
const cardFields = ["title", "subtitle", "picture", "choices"]
const mediaFields = ["kind", "url", "ref", "data", "mime", "name", "caption"]

/** A field that a part does not have is a mistake that would be noticed only by who reads the reply: said here, at its line. */
function takes(what: string, given: unknown, fields: string[]): void {
  if (typeof given !== "object" || given === null)
    throw new TypeError(`${what} is a mapping with ${fields.join(", ")}.`)
  const wrong = Object.keys(given).find((name) => !fields.includes(name))
  if (wrong !== undefined) throw new TypeError(`"${wrong}" is no field of ${what}, which takes ${fields.join(", ")}.`)
}

/**
 * Names somebody in a text, as the channel it is said on does: a mention, a link to them, or their name. By a contact's id,
 * or by an address on that channel.
 */
export function mention(who: string, name: string): string {
  return mentionOf(who, name)
}

/** What a tool's function is told besides what it is called with. */
export type ToolTurn = Omit<Turn, "slots">

/** Something a model may use: `tools/crossings.ts`, named under a handler's `tools:`. */
export interface Tool {
  /** What it is for, as the model reads it. */
  description: string
  /** A JSON Schema of what it is called with; without one it takes nothing. What does not fit is told to the model. */
  parameters?: object
  /** What it gives, as JSON; what it throws is told to the model. */
  run(given: never, turn: ToolTurn): unknown
}

/** Marks the tool of its file: `export default tool({ description: "…", parameters: { … }, run: ({ to }) => … })`. */
export function tool<Given = { [name: string]: unknown }>(
  written: Omit<Tool, "run"> & { run(given: Given, turn: ToolTurn): unknown },
): Tool {
  return written as Tool
}
