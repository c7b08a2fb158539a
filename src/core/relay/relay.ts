import Joi from "joi"
import { escapeMarkup } from "../message/markup.ts"
import type { Message } from "../message/message.ts"
import type { ReplyPart } from "../message/reply.ts"
import { wordsOf } from "../message/words.ts"

/** Where what is said goes on to. */
export interface Relay {
  to: { channel: string; place: string }[]
  /** Whether who said it, and where, stands before it. */
  names: boolean
  /** Whether each conversation has a thread of its own there, where the channel has threads. */
  threads: boolean
}

const place = Joi.object({ channel: Joi.string().max(63).required(), place: Joi.string().max(200).required() })

export const relaySchema = Joi.object({
  to: Joi.alternatives()
    .conditional(Joi.array(), { then: Joi.array().items(place).min(1).max(20), otherwise: place })
    .custom((value: object | object[]) => [value].flat())
    .required(),
  names: Joi.boolean().default(true),
  threads: Joi.boolean().default(false),
})

/** What of a message is relayed. */
export type RelayWhat = "said" | "edited" | "deleted"

/** What a message is to its relays; nothing for what is none, such as somebody joining, or what a bot says. */
export function relayWhat({ event, from }: Message): RelayWhat | undefined {
  // What a bot says may be a relay's: it goes no further, however many there are.
  if (from?.bot) return undefined
  if (event === "edited" || event === "deleted") return event
  return ["text", "media", "location", "contact", "command", "choice", "form"].includes(event) ? "said" : undefined
}

/** Media of a message, as far as they are kept. */
export interface KeptMedia {
  n: number
  hash: string | null
  why: string | null
}

/**
 * A message as it is said elsewhere: text, media, location and contact as they are, everything else in words. What people
 * wrote stays as they wrote it.
 *
 * @param by who said it, where that is to stand before it
 * @param replyTo the provider's id, over there, of what it answers
 */
export function relayedParts(
  message: Message,
  { by, replyTo, kept }: { by?: string | undefined; replyTo?: string | undefined; kept: KeptMedia[] },
): ReplyPart[] {
  const before = by === undefined ? "" : `**${escapeMarkup(oneLine(by))}**: `
  const said = (words: string) => (by === undefined ? escapeMarkup(words) : before + quotedLines(words))
  const { media = [], location, contact } = message
  const answers = replyTo === undefined ? {} : { replyTo }
  if (media.length > 0) {
    const words = said(message.text ?? media[0]!.caption ?? "")
    const items = media.flatMap((item, n) => {
      const hash = kept.find((one) => one.n === n)?.hash
      if (!hash) return []
      const { kind, mime, name } = item
      return [{ kind, ref: `kept:${hash}`, ...(mime ? { mime } : {}), ...(name ? { name } : {}) }]
    })
    const missing = kept.filter(({ hash }) => !hash).map(({ why }) => `(${why ?? "it could not be fetched"})`)
    const [first, ...others] = items
    const caption = [words, ...missing].join(words.includes("\n") ? "\n\n" : " ").trim()
    if (!first) return [{ part: "text", text: `${caption} ${escapeMarkup(wordsOf(message))}`.trim(), ...answers }]
    return [
      {
        part: "media",
        ...first,
        ...(caption === "" ? {} : { caption }),
        ...(others.length > 0 ? { with: others } : {}),
      },
    ]
  }
  if (location)
    return [
      ...(before === "" ? [] : [{ part: "text" as const, text: `${before}📍`, ...answers }]),
      {
        part: "location",
        latitude: location.latitude,
        longitude: location.longitude,
        ...(location.name ? { name: location.name } : {}),
      },
    ]
  if (contact?.phone) {
    const { name, phone } = contact
    return [
      ...(before === "" ? [] : [{ part: "text" as const, text: `${before}☎`, ...answers }]),
      { part: "contact", name, phone },
    ]
  }
  return [{ part: "text", text: said(wordsOf(message)), ...answers }]
}

/** A name as it stands before words: on one line, without characters that change how the line reads. */
function oneLine(name: string): string {
  return name
    .replace(/[\p{Cc}\p{Zl}\p{Zp}\p{Bidi_Control}\s]+/gu, " ")
    .trim()
    .slice(0, 100)
    .toWellFormed()
}

/**
 * Words behind the name of who said them. Several lines stand in a quote: none of them can look like a line that begins
 * with somebody else's name.
 */
function quotedLines(words: string): string {
  const lines = words.split(/\r\n|[\n\r\v\f\u0085\u2028\u2029]/)
  if (lines.length === 1) return escapeMarkup(words)
  return `\n${lines.map((line) => `> ${escapeMarkup(line)}`).join("\n")}`
}

/** A copy that was shown lately. */
export interface ShownCopy {
  /** The words of the message. */
  words: string
  /** Those of the copy, with the name before them where names are shown. */
  copied: string
  names: boolean
}

/** Letters and digits of a copy below which others may say the same by chance. */
const tooShort = 8

/**
 * Looks for what was just relayed within words that are to be relayed now. A program at the far side may say again what
 * it was shown, with a name before it, and a place that is shown that would hear it for ever.
 *
 * @returns `copy` where a whole copy is in it, with the name that stood before it; without names, `again` as how
 *   many earlier words are in it that grew one from the other
 */
export function repeats(words: string, shown: ShownCopy[]): { copy: boolean; again: number } {
  const said = lettersOf(words.slice(0, longestSaid))
  // Searching for one text in another may take as long as both multiplied: stretches of a length are looked up instead.
  const stretches = new Set(Array.from({ length: Math.max(0, said.length - stretch + 1) }, (_, at) => cut(said, at)))
  const isIn = (text: string) => {
    const letters = lettersOf(text.slice(0, longestCompared))
    if (letters.length < tooShort || letters.length > said.length) return undefined
    if (letters.length < stretch) return said.includes(letters) ? letters : undefined
    for (let at = 0; at < letters.length; at += stretch / 2)
      if (!stretches.has(cut(letters, Math.min(at, letters.length - stretch)))) return undefined
    return letters
  }
  return {
    copy: shown.some(({ copied, names }) => names && isIn(copied) !== undefined),
    again: grown(shown.flatMap(({ words: before, names }) => (names ? [] : [isIn(before)]))),
  }
}

/** How many of some words have grown one from the other: what somebody sums up has each, and none within another. */
function grown(all: (string | undefined)[]): number {
  const known = new Set(all.filter((one) => one !== undefined))
  let [last, count] = ["", 0]
  for (const one of [...known].sort((a, b) => a.length - b.length))
    if (one.includes(last)) [last, count] = [one, count + 1]
  return count
}

/** Letters of a stretch: in two texts that have all of them in common, one is in the other. */
const stretch = 16
const cut = (letters: string, at: number) => letters.slice(at, at + stretch)

/** Without spaces, marks and markup, which change on the way. */
function lettersOf(text: string): string {
  return text
    .normalize("NFC")
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, "")
}

/** Characters of an earlier message, and of this one, that are compared. */
const longestCompared = 500
const longestSaid = 3000
