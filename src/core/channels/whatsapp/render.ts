import { shorten } from "../../message/graphemes.ts"
import type { MarkedText } from "../../message/markup.ts"
import { plainText, readMarkup } from "../../message/markup.ts"
import type { Place } from "../../message/message.ts"
import type { MediaItem, Option, ReplyPart } from "../../message/reply.ts"
import { joinMarked } from "../../message/split.ts"
import type { WritingStyle } from "../../message/written.ts"
import { splitWritten, writeMarked } from "../../message/written.ts"
import type { Channel, Rendered } from "../kind.ts"
import { nothingRendered } from "../kind.ts"
import { cardWords, linkLine, numberedLines, optionId, uploadOf } from "../options.ts"
import { readCall, sendCall, toGroup } from "./calls.ts"
import { limits } from "./limits.ts"

const style: WritingStyle = {
  bold: ["*", "*"],
  italic: ["_", "_"],
  code: ["`", "`"],
  pre: ["```", "```"],
  quote: "> ",
}

/** Writes one part of a reply as calls of the Cloud API, within its limits. */
export function render(part: ReplyPart, place: Place, channel: Channel, offered = 0): Rendered {
  if (place.kind === "broadcast")
    return { ...nothingRendered(), impossible: "this is where the provider tells of templates: nobody reads there" }
  const rendered = renderFor(part, channel, offered)
  return place.kind === "group" ? { ...rendered, calls: rendered.calls.map(toGroup) } : rendered
}

function renderFor(part: ReplyPart, channel: Channel, offered: number): Rendered {
  const out = nothingRendered()
  const offer = (words: MarkedText, options: Option[], picture?: string, before = offered) =>
    offerChoices({
      out,
      words,
      options,
      picture,
      offered: before,
      button: String(channel.settings.listButton ?? "Options"),
    })
  switch (part.part) {
    case "text":
      sayText(out, readMarkup(part.text), part.replyTo)
      break
    case "choices":
      offer(readMarkup(part.text), part.choices)
      break
    case "media":
      for (const item of [part, ...(part.with ?? [])]) sendMedia(out, item)
      break
    case "cards": {
      let before = offered
      for (const card of part.cards) {
        if (card.choices?.length) offer(cardWords(card), card.choices, card.picture, before)
        else sayPicture(out, cardWords(card), card.picture)
        before += card.choices?.filter((choice) => !choice.url).length ?? 0
      }
      break
    }
    case "location":
      send(out, "location", {
        location: { latitude: part.latitude, longitude: part.longitude, ...(part.name ? { name: part.name } : {}) },
      })
      break
    case "contact":
      send(out, "contacts", {
        contacts: [
          {
            name: { formatted_name: part.name, first_name: part.name },
            phones: [{ phone: part.phone, type: "CELL" }],
          },
        ],
      })
      break
    case "template":
      send(out, "template", {
        template: {
          name: part.name,
          language: { code: part.language },
          ...(part.parameters?.length
            ? { components: [{ type: "body", parameters: part.parameters.map((text) => ({ type: "text", text })) }] }
            : {}),
        },
      })
      break
    case "reaction":
      out.calls.push({ ...sendCall("reaction", { reaction: { message_id: part.to, emoji: part.emoji } }) })
      break
    case "typing":
      if (part.to) out.calls.push(readCall(part.to, true))
      else out.leftOut = "WhatsApp shows typing only as an answer to a message"
      break
    case "amend":
      if (part.text === undefined) out.leftOut = "buttons cannot be taken away on WhatsApp"
      else {
        out.degraded.push("what was sent cannot be changed: the new words are said as a message of their own")
        if (part.choices?.length) offer(readMarkup(part.text), part.choices)
        else sayText(out, readMarkup(part.text), part.to)
      }
      break
    case "remove":
      out.leftOut = "what was sent cannot be taken back on WhatsApp"
      break
  }
  if (out.calls.length === 0 && !out.leftOut) out.impossible ??= "there is nothing in it to say: the text is empty"
  return out
}

function send(out: Rendered, type: string, content: { [field: string]: unknown }): void {
  out.calls.push(sendCall(type, content))
}

function sayText(out: Rendered, text: MarkedText, replyTo?: string): void {
  for (const [at, body] of splitWritten(text, limits.text, style).entries())
    sayBody(out, body, at === 0 ? replyTo : undefined)
}

function sayBody(out: Rendered, body: string, replyTo?: string): void {
  send(out, "text", {
    text: { body, preview_url: /https?:\/\//.test(body) },
    ...(replyTo ? { context: { message_id: replyTo } } : {}),
  })
}

interface Question {
  out: Rendered
  words: MarkedText
  options: Option[]
  picture: string | undefined
  /** How many options were offered before in the same reply. */
  offered: number
  /** What the button that opens a list says. */
  button: string
}

/** A question as buttons, else as a list, else numbered. A header picture goes with buttons only. */
function offerChoices({ out, words, options, picture, offered, button }: Question): void {
  const links = options.filter((option) => option.url !== undefined)
  const choices = options.filter((option) => option.url === undefined)
  if (choices.length === 0 && links.length === 1 && links[0]!.label.length <= limits.linkTitle && !picture) {
    sendLink(out, words, links[0]!)
    return
  }
  let text = words
  if (links.length > 0) {
    out.degraded.push("links among the options are written beneath the text")
    text = joinMarked([words, plainText(links.map(linkLine).join("\n"))], "\n")
  }
  if (choices.length === 0) return sayPicture(out, text, picture)
  // What a person cannot read to its end is no option: long labels go from buttons to a list, from there to numbers.
  const fit = (most: number) => distinct(choices.map((choice) => shorten(choice.label, most)))
  if (
    choices.length <= limits.buttons &&
    choices.every((choice) => choice.label.length <= limits.buttonTitle) &&
    fit(20)
  )
    return buttons(out, text, choices, picture)
  const rows = choices.every((choice) => choice.label.length <= limits.rowDescription) && fit(limits.rowTitle)
  if (choices.length <= limits.rows && rows) return list(out, text, choices, picture, button)
  out.degraded.push("the options are written as numbered lines: there are too many, or their labels are too long")
  const numbered = joinMarked([text, numberedLines(choices, offered)], "\n\n")
  sayPicture(out, numbered, picture)
}

function distinct(labels: string[]): boolean {
  return new Set(labels).size === labels.length && labels.every((label) => label.trim() !== "")
}

function buttons(out: Rendered, text: MarkedText, choices: Option[], picture: string | undefined): void {
  const body = lastBody(out, text, limits.buttonBody)
  send(out, "interactive", {
    interactive: {
      type: "button",
      ...(picture ? { header: { type: "image", image: { link: picture } } } : {}),
      body: { text: body },
      action: {
        buttons: choices.map((choice) => ({
          type: "reply",
          reply: { id: optionId(out, choice, limits.buttonId), title: choice.label },
        })),
      },
    },
  })
}

function list(out: Rendered, text: MarkedText, choices: Option[], picture: string | undefined, button: string): void {
  if (picture) send(out, "image", { image: { link: picture } })
  const body = lastBody(out, text, limits.listBody)
  out.degraded.push(
    choices.length > limits.buttons ? "more than 3 options: shown as a list" : "long labels: shown as a list",
  )
  send(out, "interactive", {
    interactive: {
      type: "list",
      body: { text: body },
      action: {
        button: shorten(button, limits.listButton),
        sections: [
          {
            rows: choices.map((choice) => ({
              id: optionId(out, choice, limits.rowId),
              title: shorten(choice.label, limits.rowTitle),
              ...(choice.label.length > limits.rowTitle ? { description: choice.label } : {}),
            })),
          },
        ],
      },
    },
  })
}

function sendLink(out: Rendered, words: MarkedText, link: Option): void {
  const body = lastBody(out, words, limits.buttonBody)
  send(out, "interactive", {
    interactive: {
      type: "cta_url",
      body: { text: body },
      action: { name: "cta_url", parameters: { display_text: link.label, url: link.url } },
    },
  })
}

/** What is too long for a message with buttons is said before it; its end stands with the buttons. */
function lastBody(out: Rendered, text: MarkedText, limit: number): string {
  const pieces = splitWritten(text, limit, style)
  if (pieces.length > 1) out.degraded.push("the text is longer than a message with buttons may be: it is said before")
  for (const piece of pieces.slice(0, -1)) sayBody(out, piece)
  return pieces.at(-1) ?? "…"
}

function sayPicture(out: Rendered, text: MarkedText, picture: string | undefined): void {
  if (picture) sendMedia(out, { kind: "image", url: picture }, text)
  else sayText(out, text)
}

const types: Record<MediaItem["kind"], { type: string; caption: boolean; named: boolean }> = {
  image: { type: "image", caption: true, named: false },
  video: { type: "video", caption: true, named: false },
  file: { type: "document", caption: true, named: true },
  audio: { type: "audio", caption: false, named: false },
  voice: { type: "audio", caption: false, named: false },
  sticker: { type: "sticker", caption: false, named: false },
}

function sendMedia(out: Rendered, item: MediaItem, words?: MarkedText): void {
  const { type, caption: takesCaption, named } = types[item.kind]
  const marked = words ?? (item.caption ? readMarkup(item.caption) : plainText(""))
  const caption = writeMarked(marked, style)
  const fits = takesCaption && caption.length <= limits.caption
  const upload = uploadOf(item)
  out.calls.push({
    ...sendCall(type, {
      [type]: {
        ...(upload ? { id: { upload: 0 } } : item.url ? { link: item.url } : { id: item.ref }),
        ...(fits && caption ? { caption } : {}),
        ...(named && item.name ? { filename: item.name } : {}),
      },
    }),
    ...(upload ? { uploads: [upload] } : {}),
  })
  if (fits || caption === "") return
  out.degraded.push("the caption is said as a message of its own")
  sayText(out, marked)
}
