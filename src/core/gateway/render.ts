import type { MarkedText } from "../message/markup.ts"
import { plainText, readMarkup } from "../message/markup.ts"
import type { Place } from "../message/message.ts"
import type { Card, MediaItem, Option, ReplyPart } from "../message/reply.ts"
import { joinMarked } from "../message/split.ts"
import { plainStyle, splitWritten } from "../message/written.ts"
import type { Channel, Rendered } from "../channels/kind.ts"
import { nothingRendered } from "../channels/kind.ts"
import { cardWords, choicesOffered, linkLine, inWords, numberedLines } from "../channels/options.ts"
import type { Profile } from "./profile.ts"
import type { Values } from "./calls.ts"
import { callOf } from "./calls.ts"
import { cannot } from "./can.ts"
import type { Said } from "./send.ts"
import { longestOf, sayCall, takesMedia } from "./send.ts"
import { profileOf } from "./shipped.ts"

/**
 * Writes one part of a reply as plain words, and as what the channel's gateway wants to be called with.
 *
 * @param name what people call such a message, as in "an SMS"
 * @param note what stands behind a call's name, such as how many segments it takes
 */
export function render(
  part: ReplyPart,
  place: Place,
  channel: Channel,
  offered: number,
  { name, note }: { name: string; note?: (text: string) => string },
): Rendered {
  const out = nothingRendered()
  const extra = "extra" in part && part.extra ? { extra: part.extra } : {}
  const replyTo = part.part === "text" && part.replyTo !== undefined ? { replyTo: part.replyTo } : {}
  const no = cannot(channel).send
  if (no) {
    out.leftOut = no
    return out
  }
  const draft: Draft = { out, place, channel, profile: profileOf(channel), note, along: { ...extra, ...replyTo } }
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
    case "reaction":
      if (act(draft, "react", { id: part.to, emoji: part.emoji })) break
      say(draft, inWords(out, part))
      break
    case "location":
    case "contact":
    case "template":
      say(draft, inWords(out, part))
      break
    case "typing":
      if (!act(draft, "typing", {})) out.leftOut = `${name} shows no typing`
      break
    case "amend":
      if (amended(draft, part, offered)) break
      if (part.text === undefined) out.leftOut = `${name} has no buttons to take away`
      else {
        out.degraded.push("what was sent cannot be changed: the new words are said as a message of their own")
        offer(draft, readMarkup(part.text), part.choices ?? [], offered)
      }
      break
    case "remove":
      if (!act(draft, "remove", { id: part.to })) out.leftOut = `${name} cannot be taken back`
      break
  }
  if (out.calls.length === 0 && !out.leftOut) out.impossible ??= "there is nothing in it to say: the text is empty"
  return out
}

interface Draft {
  out: Rendered
  place: Place
  channel: Channel
  profile: Profile
  note: ((text: string) => string) | undefined
  /** What else is said with the first message of the part. */
  along: Pick<Said, "extra" | "replyTo">
}

/** Describes one of the profile's further calls; gives false where it has none such. */
function act(draft: Draft, what: "amend" | "remove" | "react" | "typing", values: Values): boolean {
  const { channel, profile, out } = draft
  const calling = profile.outbound?.[what]
  if (!calling) return false
  out.calls.push(callOf(calling, channel, { name: what, values, speaks: what === "react" }))
  return true
}

/** New words for a message in its place, where the gateway can do that and they fit into one. */
function amended(draft: Draft, part: Extract<ReplyPart, { part: "amend" }>, offered: number): boolean {
  if (!draft.profile.outbound?.amend || part.text === undefined) return false
  const choices = (part.choices ?? []).filter((option) => option.url === undefined)
  const words = [readMarkup(part.text), ...(choices.length > 0 ? [numberedLines(choices, offered)] : [])]
  const pieces = splitWritten(joinMarked(words, "\n"), longestOf(draft.profile), plainStyle)
  if (pieces.length !== 1) return false
  return act(draft, "amend", { id: part.to, text: pieces[0]! })
}

function say(draft: Draft, text: MarkedText, media?: string): void {
  const { channel, place, profile, note } = draft
  const pieces = splitWritten(text, longestOf(profile), plainStyle)
  if (pieces.length === 0 && media !== undefined) pieces.push("")
  pieces.forEach((piece, at) => {
    const attached = at === 0 && media !== undefined ? { media } : {}
    const named = note ? { note: note(piece) } : {}
    const { extra, replyTo } = draft.along
    const along = {
      ...(extra ? { extra } : {}),
      ...(replyTo !== undefined && draft.out.calls.length === 0 ? { replyTo } : {}),
    }
    draft.out.calls.push(sayCall({ text: piece, to: place.address, ...along, ...attached, ...named }, channel))
  })
}

function offer(draft: Draft, words: MarkedText, options: Option[], offered: number, media?: string): void {
  const choices = options.filter((option) => option.url === undefined)
  const links = options.filter((option) => option.url !== undefined)
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
  if (takesMedia(draft.profile)) return say(draft, caption, address)
  draft.out.degraded.push("this gateway takes no media: its address is said")
  say(draft, caption.text.trim() ? joinMarked([caption, plainText(address)], "\n") : plainText(address))
}

function sendCard(draft: Draft, card: Card, offered: number): void {
  const takes = takesMedia(draft.profile)
  const words = card.picture && !takes ? joinMarked([cardWords(card), plainText(card.picture)], "\n") : cardWords(card)
  offer(draft, words, card.choices ?? [], offered, takes ? card.picture : undefined)
}
