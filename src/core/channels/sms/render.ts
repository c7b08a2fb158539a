import { segmentWords } from "../../delivery/segments.ts"
import type { MarkedText } from "../../message/markup.ts"
import { plainText, readMarkup } from "../../message/markup.ts"
import type { Place } from "../../message/message.ts"
import type { Card, MediaItem, Option, ReplyPart } from "../../message/reply.ts"
import { joinMarked } from "../../message/split.ts"
import { plainStyle, splitWritten } from "../../message/written.ts"
import type { Channel, FormField, HeaderValue, OutgoingCall, Rendered } from "../kind.ts"
import { nothingRendered } from "../kind.ts"
import { cardWords, choicesOffered, linkLine, inWords, numberedLines } from "../options.ts"
import { fillTemplate } from "./fields.ts"
import type { Profile } from "./profile.ts"
import { profileOf } from "./shipped.ts"

/** Writes one part of a reply as plain words, and as what the channel's gateway wants to be called with. */
export function render(part: ReplyPart, _place: Place, channel: Channel, offered = 0): Rendered {
  const out = nothingRendered()
  const draft: Draft = { out, channel, profile: profileOf(channel) }
  switch (part.part) {
    case "text":
      say(draft, readMarkup(part.text))
      break
    case "choices":
      offer(draft, readMarkup(part.text), part.choices, offered)
      break
    case "media":
      for (const item of [part, ...(part.with ?? [])]) sendMedia(draft, item)
      break
    case "cards": {
      let before = offered
      for (const card of part.cards) {
        sendCard(draft, card, before)
        before += choicesOffered({ part: "cards", cards: [card] }).length
      }
      break
    }
    case "location":
    case "contact":
    case "template":
    case "reaction":
      say(draft, inWords(out, part))
      break
    case "typing":
      out.leftOut = "SMS shows no typing"
      break
    case "amend":
      if (part.text === undefined) out.leftOut = "an SMS has no buttons to take away"
      else {
        out.degraded.push("what was sent cannot be changed: the new words are said as a message of their own")
        offer(draft, readMarkup(part.text), part.choices ?? [], offered)
      }
      break
    case "remove":
      out.leftOut = "an SMS cannot be taken back"
      break
  }
  if (out.calls.length === 0 && !out.leftOut) out.impossible ??= "there is nothing in it to say: the text is empty"
  return out
}

interface Draft {
  out: Rendered
  channel: Channel
  profile: Profile
}

function say(draft: Draft, text: MarkedText, media?: string): void {
  const pieces = splitWritten(text, draft.profile.outbound.longest, plainStyle)
  if (pieces.length === 0 && media !== undefined) pieces.push("")
  pieces.forEach((piece, at) => draft.out.calls.push(sendCall(draft, piece, at === 0 ? media : undefined)))
}

function offer(draft: Draft, words: MarkedText, options: Option[], offered: number, media?: string): void {
  const choices = options.filter((one) => one.url === undefined)
  const links = options.filter((one) => one.url !== undefined)
  const parts = [words]
  if (links.length > 0) parts.push(plainText(links.map(linkLine).join("\n")))
  if (choices.length > 0) {
    draft.out.degraded.push("the options are written as numbered lines")
    parts.push(numberedLines(choices, offered))
  }
  say(draft, joinMarked(parts, "\n"), media)
}

function sendMedia(draft: Draft, item: MediaItem): void {
  const caption = item.caption ? readMarkup(item.caption) : plainText("")
  const address = item.url ?? (item.ref && /^https?:\/\//.test(item.ref) ? item.ref : undefined)
  if (address === undefined) {
    if (caption.text.trim() === "") {
      draft.out.impossible = "a gateway fetches media from an address, and this has none"
      return
    }
    draft.out.degraded.push("the media has no address a gateway could fetch it from: only its caption is said")
    return say(draft, caption)
  }
  if (draft.profile.outbound.media) return say(draft, caption, address)
  draft.out.degraded.push("this gateway takes no media: its address is said")
  say(draft, caption.text.trim() ? joinMarked([caption, plainText(address)], "\n") : plainText(address))
}

function sendCard(draft: Draft, card: Card, offered: number): void {
  const takes = draft.profile.outbound.media !== undefined
  const words = card.picture && !takes ? joinMarked([cardWords(card), plainText(card.picture)], "\n") : cardWords(card)
  offer(draft, words, card.choices ?? [], offered, takes ? card.picture : undefined)
}

/** What a placeholder stands for: words of ours now, names of what is filled in at the socket. */
function filled(template: string, draft: Draft, text: string, media: string | undefined): unknown {
  const { channel, profile } = draft
  const form = fillTemplate(profile.outbound.numberForm ?? "plus", channel.settings) === "digits" ? "digits" : "text"
  const number = String(channel.settings.number ?? "")
  const own: { [name: string]: string } = {
    number: form === "digits" ? number.replace(/^\+/, "") : number,
    text,
    media: media ?? "",
    inlet: `${channel.publicBase ?? ""}/in/${channel.key}`,
  }
  const named = template.replace("{addressPrefix}", String(channel.settings.addressPrefix ?? ""))
  const to = /^(\w+:)?\{to\}$/.exec(named)
  if (to) return { place: "address", as: form, ...(to[1] ? { prefix: to[1] } : {}) }
  if (template === "{mark}") return { mark: "call" }
  const secret = /^\{(\w+)\}$/.exec(template)?.[1]
  if (secret !== undefined && Object.hasOwn(profile.secrets, secret)) return { secret }
  return named.replace(/\{(\w+)\}/g, (_whole, name: string) =>
    Object.hasOwn(own, name) ? own[name]! : fillTemplate(`{${name}}`, channel.settings),
  )
}

function filledDeep(value: unknown, draft: Draft, text: string, media: string | undefined): unknown {
  if (typeof value === "string") return filled(value, draft, text, media)
  if (Array.isArray(value)) return value.map((one) => filledDeep(one, draft, text, media))
  if (typeof value !== "object" || value === null) return value
  return Object.fromEntries(
    Object.entries(value).map(([name, one]) => [
      fillTemplate(name, draft.channel.settings),
      filledDeep(one, draft, text, media),
    ]),
  )
}

function sendCall(draft: Draft, text: string, media: string | undefined): OutgoingCall {
  const { channel, profile } = draft
  const { outbound } = profile
  const content = media === undefined ? outbound.send : { ...outbound.send, ...outbound.media }
  const sent = filledDeep(content, draft, text, media) as { [name: string]: unknown }
  return {
    name: `${outbound.name} (${segmentWords(text)})`,
    method: outbound.method,
    address: addressOf(outbound.address, channel),
    ...headersOf(outbound.authorization),
    body:
      outbound.body === "json"
        ? { json: sent }
        : {
            fields: Object.entries(sent)
              .filter(([, value]) => value !== "")
              .map(([name, value]) => ({ name, value: value as FormField["value"] })),
          },
    speaks: true,
  }
}

/** The settings' values are names in the call, so that an address that is changed counts at once. */
export function addressOf(template: string, channel: Channel): OutgoingCall["address"] {
  return template.split(/(\{\w+\})/).flatMap((piece): OutgoingCall["address"] => {
    const name = /^\{(\w+)\}$/.exec(piece)?.[1]
    if (name === undefined) return piece === "" ? [] : [piece]
    if (name === "sender") return [encodeURIComponent(`tel:${String(channel.settings.number ?? "")}`)]
    return [{ setting: name }]
  })
}

export function headersOf(authorization: Profile["outbound"]["authorization"]): {
  headers?: { [name: string]: HeaderValue }
} {
  if (authorization === undefined) return {}
  if ("bearer" in authorization) return { headers: { authorization: ["Bearer ", { secret: authorization.bearer }] } }
  const [user, password] = authorization.basic
  return { headers: { authorization: { basic: [{ setting: user }, { secret: password }] } } }
}
