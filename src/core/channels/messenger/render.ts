import type { MarkedText } from "../../message/markup.ts"
import { plainText, readMarkup } from "../../message/markup.ts"
import type { Place } from "../../message/message.ts"
import type { Card, MediaItem, Option, ReplyPart } from "../../message/reply.ts"
import { joinMarked } from "../../message/split.ts"
import { plainStyle, splitWritten, writeMarked } from "../../message/written.ts"
import type { Channel, Rendered } from "../kind.ts"
import { nothingRendered } from "../kind.ts"
import { cardWords, choicesOffered, linkLine, inWords, numberedLines, optionId, uploadOf } from "../options.ts"
import { actionCall, sendCall } from "./calls.ts"
import { limits } from "./limits.ts"

/** Writes one part of a reply as calls of the Send API, within its limits. */
export function render(part: ReplyPart, _place: Place, _channel: Channel, offered = 0): Rendered {
  const out = nothingRendered()
  switch (part.part) {
    case "text":
      sayText(out, readMarkup(part.text))
      break
    case "choices":
      offer(out, readMarkup(part.text), part.choices, offered)
      break
    case "media":
      for (const item of [part, ...(part.with ?? [])]) sendMedia(out, item)
      break
    case "cards":
      sendCards(out, part.cards, offered)
      break
    case "location":
    case "contact":
    case "template":
    case "reaction":
      sayText(out, inWords(out, part))
      break
    case "typing":
      out.calls.push(actionCall("typing_on"))
      break
    case "amend":
      if (part.text === undefined) out.leftOut = "buttons cannot be taken away on Messenger"
      else {
        out.degraded.push("what was sent cannot be changed: the new words are said as a message of their own")
        if (part.choices?.length) offer(out, readMarkup(part.text), part.choices, offered)
        else sayText(out, readMarkup(part.text))
      }
      break
    case "remove":
      out.leftOut = "what was sent cannot be taken back on Messenger"
      break
  }
  if (out.calls.length === 0 && !out.leftOut) out.impossible ??= "there is nothing in it to say: the text is empty"
  return out
}

function sayText(out: Rendered, text: MarkedText, last: { [field: string]: unknown } = {}): void {
  const pieces = splitWritten(text, limits.text, plainStyle)
  pieces.forEach((piece, at) =>
    out.calls.push(sendCall("message", { text: piece, ...(at === pieces.length - 1 ? last : {}) })),
  )
}

/** A question with quick replies, with buttons where links are among them, else numbered. */
function offer(out: Rendered, words: MarkedText, options: Option[], offered: number): void {
  const choices = options.filter((option) => option.url === undefined)
  const links = options.filter((option) => option.url !== undefined)
  const short = options.every((option) => option.label.length <= limits.buttonTitle && option.label.trim() !== "")
  const distinct = new Set(options.map((option) => option.label)).size === options.length
  if (links.length > 0 && options.length <= limits.buttons && short) return withButtons(out, words, options)
  let text = words
  if (links.length > 0) {
    out.degraded.push("links among the options are written beneath the text")
    text = joinMarked([words, plainText(links.map(linkLine).join("\n"))], "\n")
  }
  if (choices.length === 0) return sayText(out, text)
  if (choices.length > limits.quickReplies || !short || !distinct) {
    out.degraded.push("the options are written as numbered lines: there are too many, or their labels are too long")
    return sayText(out, joinMarked([text, numberedLines(choices, offered)], "\n\n"))
  }
  sayText(out, text.text.trim() === "" ? plainText("…") : text, {
    quick_replies: choices.map((choice) => ({
      content_type: "text",
      title: choice.label,
      payload: optionId(out, choice, limits.payload),
    })),
  })
}

function withButtons(out: Rendered, words: MarkedText, options: Option[]): void {
  const pieces = splitWritten(words, limits.buttonText, plainStyle)
  if (pieces.length > 1) out.degraded.push("the text is longer than a message with buttons may be: it is said before")
  for (const piece of pieces.slice(0, -1)) out.calls.push(sendCall("message", { text: piece }))
  const payload = {
    template_type: "button",
    text: pieces.at(-1) ?? "…",
    buttons: options.map((option) => buttonOf(out, option)),
  }
  out.calls.push(sendCall("buttons", { attachment: { type: "template", payload } }))
}

function buttonOf(out: Rendered, option: Option): { [field: string]: unknown } {
  if (option.url !== undefined) return { type: "web_url", title: option.label, url: option.url }
  return { type: "postback", title: option.label, payload: optionId(out, option, limits.payload) }
}

const types: Record<MediaItem["kind"], string> = {
  image: "image",
  video: "video",
  audio: "audio",
  voice: "audio",
  file: "file",
  sticker: "image",
}

function sendMedia(out: Rendered, item: MediaItem): void {
  const upload = uploadOf(item)
  const payload = upload
    ? { attachment_id: { upload: 0 } }
    : item.url
      ? { url: item.url, is_reusable: true }
      : { attachment_id: item.ref }
  out.calls.push({
    ...sendCall(types[item.kind], { attachment: { type: types[item.kind], payload } }),
    ...(upload ? { uploads: [upload] } : {}),
  })
  if (!item.caption) return
  out.degraded.push("the caption is said as a message of its own")
  sayText(out, readMarkup(item.caption))
}

/** Cards that fit go side by side, ten at a time; one that does not is said as picture, words and question. */
function sendCards(out: Rendered, cards: Card[], offered: number): void {
  let row: { [field: string]: unknown }[] = []
  const flush = () => {
    if (row.length === 0) return
    const payload = { template_type: "generic", elements: row }
    out.calls.push(sendCall("cards", { attachment: { type: "template", payload } }))
    row = []
  }
  let before = offered
  for (const card of cards) {
    const element = elementOf(out, card)
    if (element) {
      row.push(element)
      if (row.length === limits.elements) flush()
    } else {
      flush()
      out.degraded.push("a card that does not fit into the provider's is said as picture, words and question")
      if (card.picture) sendMedia(out, { kind: "image", url: card.picture })
      if (card.choices?.length) offer(out, cardWords(card), card.choices, before)
      else sayText(out, cardWords(card))
    }
    before += choicesOffered({ part: "cards", cards: [card] }).length
  }
  flush()
}

function elementOf(out: Rendered, card: Card): { [field: string]: unknown } | undefined {
  const subtitle = card.subtitle ? writeMarked(readMarkup(card.subtitle), plainStyle) : ""
  const options = card.choices ?? []
  const fits =
    card.title.length <= limits.elementTitle &&
    card.title.trim() !== "" &&
    subtitle.length <= limits.elementSubtitle &&
    options.length <= limits.buttons &&
    options.every((option) => option.label.length <= limits.buttonTitle && option.label.trim() !== "")
  // The provider wants something beside the title.
  if (!fits || (subtitle.trim() === "" && !card.picture && options.length === 0)) return undefined
  return {
    title: card.title,
    ...(subtitle.trim() ? { subtitle } : {}),
    ...(card.picture ? { image_url: card.picture } : {}),
    ...(options.length > 0 ? { buttons: options.map((option) => buttonOf(out, option)) } : {}),
  }
}
