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
  const before = by === undefined ? "" : `**${escapeMarkup(by.slice(0, 100))}**: `
  const { media = [], location, contact } = message
  const answers = replyTo === undefined ? {} : { replyTo }
  if (media.length > 0) {
    const words = before + escapeMarkup(message.text ?? media[0]!.caption ?? "")
    const items = media.flatMap((item, n) => {
      const hash = kept.find((one) => one.n === n)?.hash
      if (!hash) return []
      const { kind, mime, name } = item
      return [{ kind, ref: `kept:${hash}`, ...(mime ? { mime } : {}), ...(name ? { name } : {}) }]
    })
    const missing = kept.filter(({ hash }) => !hash).map(({ why }) => `(${why ?? "it could not be fetched"})`)
    const [first, ...others] = items
    const caption = [words, ...missing].join(" ").trim()
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
  return [{ part: "text", text: before + escapeMarkup(wordsOf(message)), ...answers }]
}
