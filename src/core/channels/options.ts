import { choiceToken } from "./choiceTokens.ts"
import type { Rendered } from "./kind.ts"
import type { Upload } from "./call.ts"
import type { MarkedText } from "../message/markup.ts"
import { plainText, readMarkup } from "../message/markup.ts"
import type { Card, MediaItem, Option, ReplyPart } from "../message/reply.ts"
import { joinMarked } from "../message/split.ts"

/** Options as numbered lines, for kinds without buttons or where there are too many; links stand with their address. */
export function numberedLines(options: Option[], offered: number): MarkedText {
  let n = offered
  return plainText(options.map((option) => (option.url ? linkLine(option) : `${++n}. ${option.label}`)).join("\n"))
}

export function linkLine(option: Option): string {
  return `${option.label}: ${option.url}`
}

/** The id a provider gets for an option: itself, or a short token that is resolved when it comes back. */
export function optionId(out: Rendered, option: Option, bytes: number): string {
  const { token, swapped } = choiceToken(option.id, bytes)
  if (swapped) out.tokens.push({ token, id: option.id, label: option.label })
  return token
}

/** The options of a reply part that come back as choices, in the order they are offered. */
export function choicesOffered(part: ReplyPart): { id: string; label: string }[] {
  const options =
    part.part === "choices"
      ? part.choices
      : part.part === "cards"
        ? part.cards.flatMap((card) => card.choices ?? [])
        : part.part === "amend"
          ? (part.choices ?? [])
          : []
  return options.filter((option) => option.url === undefined).map(({ id, label }) => ({ id, label }))
}

/** A card's words: its title in bold, its subtitle beneath. */
export function cardWords(card: Card): MarkedText {
  const title: MarkedText = { text: card.title, spans: [{ kind: "bold", start: 0, end: card.title.length }] }
  return card.subtitle ? joinMarked([title, readMarkup(card.subtitle)], "\n") : title
}

function fillTemplate(text: string, parameters: string[]): string {
  return text.replace(/\{\{(\d+)\}\}/g, (whole, at: string) => parameters[Number(at) - 1] ?? whole)
}

/** A place on the map as an address anybody can open (RFC 5870 is known to few phones). */
function mapLink(latitude: number, longitude: number): string {
  return `https://www.openstreetmap.org/?mlat=${latitude}&mlon=${longitude}`
}

function locationWords(part: { latitude: number; longitude: number; name?: string }): MarkedText {
  const where = `${part.latitude}, ${part.longitude}`
  return plainText([part.name, where, mapLink(part.latitude, part.longitude)].filter(Boolean).join("\n"))
}

/** Data of our own, to be brought to the provider before it can be named in a call. */
export function uploadOf(item: MediaItem): Upload | undefined {
  if (item.data === undefined) return undefined
  const mime = item.mime ?? "application/octet-stream"
  return { data: item.data, mime, name: item.name ?? `${item.kind}.${mime.split(/[/;+]/)[1] ?? "bin"}` }
}

/** A part that a kind has no form for, as plain words; what was done instead is said. Nothing when there are no words. */
export function inWords(
  out: Rendered,
  part: Extract<ReplyPart, { part: "location" | "contact" | "template" | "reaction" }>,
): MarkedText {
  switch (part.part) {
    case "location":
      out.degraded.push("the location is said in words, with a link to a map")
      return locationWords(part)
    case "contact":
      out.degraded.push("the contact is said in words")
      return plainText(`${part.name}\n${part.phone}`)
    case "reaction":
      out.degraded.push("the reaction is said as a message")
      return plainText(part.emoji)
    case "template":
      if (part.text === undefined) {
        out.impossible = "this kind of channel has no templates, and the template part has no text to say instead"
        return plainText("")
      }
      out.degraded.push(`the template "${part.name}" is said as plain text`)
      return readMarkup(fillTemplate(part.text, part.parameters ?? []))
  }
}
