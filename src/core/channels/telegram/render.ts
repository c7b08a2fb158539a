import { cardWords, inWords, optionId, uploadOf } from "../options.ts"
import type { Channel, Rendered } from "../kind.ts"
import type { FormPart, PlaceAddress, Upload } from "../call.ts"
import type { MarkedText } from "../../message/markup.ts"
import { plainText, readMarkup } from "../../message/markup.ts"
import { shorten } from "../../message/graphemes.ts"
import type { Place } from "../../message/message.ts"
import type { Card, MediaItem, Option, ReplyPart } from "../../message/reply.ts"
import { joinMarked, splitMarked } from "../../message/split.ts"
import { call } from "./calls.ts"
import { toHtml } from "./html.ts"
import { limits } from "./limits.ts"

const chat: PlaceAddress = { place: "address", as: "number" }

/** Writes one part of a reply as calls of the Bot API, within its limits. */
export function render(part: ReplyPart, place: Place, _channel: Channel): Rendered {
  const out: Rendered = { calls: [], degraded: [], tokens: [] }
  const where = place.topic ? { chat_id: chat, message_thread_id: numeric(place.topic) } : { chat_id: chat }
  const draft: Draft = { out, where }
  switch (part.part) {
    case "text":
      sayText(draft, readMarkup(part.text), part.replyTo ? { reply_parameters: replyTo(part.replyTo) } : undefined)
      break
    case "choices":
      sayText(
        draft,
        withLongLabels(draft, readMarkup(part.text), part.choices),
        undefined,
        keyboard(draft, part.choices, part.perRow),
      )
      break
    case "media":
      sendMedia(draft, [part, ...(part.with ?? [])])
      break
    case "cards":
      for (const card of part.cards) sendCard(draft, card)
      break
    case "location":
      if (part.name) sayText(draft, plainText(part.name))
      send(draft, "sendLocation", { latitude: part.latitude, longitude: part.longitude })
      break
    case "contact":
      send(draft, "sendContact", { phone_number: part.phone, first_name: part.name })
      break
    case "template":
      sayText(draft, inWords(out, part))
      break
    case "reaction":
      out.calls.push(
        call(
          "setMessageReaction",
          { chat_id: chat, message_id: numeric(part.to), reaction: [{ type: "emoji", emoji: part.emoji }] },
          { speaks: false },
        ),
      )
      break
    case "typing":
      out.calls.push(call("sendChatAction", { ...where, action: "typing" }, { speaks: false }))
      break
    case "amend":
      amend(draft, part)
      break
    case "remove":
      out.calls.push(call("deleteMessage", { chat_id: chat, message_id: numeric(part.to) }, { speaks: false }))
      break
  }
  if (out.calls.length === 0) out.impossible ??= "there is nothing in it to say: the text is empty"
  return out
}

interface Draft {
  out: Rendered
  where: { [field: string]: unknown }
}

type Fields = { [field: string]: unknown }

function send(draft: Draft, method: string, fields: Fields): void {
  draft.out.calls.push(call(method, { ...draft.where, ...fields }, { speaks: true }))
}

/** A text in as many messages as it needs; an answer refers from the first, buttons hang on the last. */
function sayText(draft: Draft, text: MarkedText, first?: Fields, last?: Fields): void {
  const pieces = splitMarked(text, limits.text)
  pieces.forEach((piece, at) => {
    const fields: Fields = { ...draft.where, text: toHtml(piece), parse_mode: "HTML" }
    if (first && at === 0) Object.assign(fields, first)
    if (last && at === pieces.length - 1) Object.assign(fields, last)
    draft.out.calls.push(call("sendMessage", fields, { speaks: true }))
  })
}

/** Labels that a button would cut are written out beneath the text. */
function withLongLabels(draft: Draft, text: MarkedText, choices: Option[]): MarkedText {
  const long = choices.filter((choice) => choice.label.length > limits.label)
  if (long.length === 0) return text
  draft.out.degraded.push("labels too long for a button are written beneath the text")
  return joinMarked([text, plainText(long.map((choice) => `• ${choice.label}`).join("\n"))], "\n\n")
}

function keyboard(draft: Draft, choices: Option[], perRow?: number): Fields {
  if (choices.length === 0) return { reply_markup: { inline_keyboard: [] } }
  const short = choices.every((choice) => choice.label.length <= 14)
  const width = Math.min(perRow ?? (short ? 3 : 1), limits.buttonsPerRow)
  const buttons = choices.map((choice) => {
    const text = shorten(choice.label, limits.label)
    return choice.url
      ? { text, url: choice.url }
      : { text, callback_data: optionId(draft.out, choice, limits.choiceId) }
  })
  const rows = []
  for (let at = 0; at < buttons.length; at += width) rows.push(buttons.slice(at, at + width))
  return { reply_markup: { inline_keyboard: rows } }
}

const methods: Record<MediaItem["kind"], { method: string; field: string; caption: boolean; group?: string }> = {
  image: { method: "sendPhoto", field: "photo", caption: true, group: "seen" },
  video: { method: "sendVideo", field: "video", caption: true, group: "seen" },
  file: { method: "sendDocument", field: "document", caption: true, group: "file" },
  audio: { method: "sendAudio", field: "audio", caption: true, group: "audio" },
  voice: { method: "sendVoice", field: "voice", caption: true },
  sticker: { method: "sendSticker", field: "sticker", caption: false },
}

/** One piece by its own method; several of a sort as albums of up to ten. */
function sendMedia(draft: Draft, items: MediaItem[]): void {
  let at = 0
  while (at < items.length) {
    const group = methods[items[at]!.kind].group
    let end = at + 1
    while (end < items.length && end - at < limits.album && group && methods[items[end]!.kind].group === group) end++
    if (end - at > 1) sendAlbum(draft, items.slice(at, end))
    else sendOne(draft, items[at]!, items[at]!.caption ? readMarkup(items[at]!.caption!) : plainText(""), {})
    at = end
  }
}

function sendOne(draft: Draft, item: MediaItem, caption: MarkedText, last: Fields): void {
  const { method, field, caption: takesCaption } = methods[item.kind]
  const fits = takesCaption && caption.text.length <= limits.caption
  const words = fits && caption.text ? { caption: toHtml(caption), parse_mode: "HTML" } : {}
  const apart = !fits && caption.text !== ""
  const fields = { ...draft.where, ...words, ...(apart ? {} : last) }
  const upload = uploadOf(item)
  draft.out.calls.push(
    upload
      ? call(method, [...formFields(fields), filePart(field, upload)], { speaks: true, timeout: 60_000 })
      : call(method, { ...fields, [field]: item.url ?? item.ref }, { speaks: true }),
  )
  if (!apart) return
  draft.out.degraded.push("the caption is said as a message of its own")
  sayText(draft, caption, {}, last)
}

function sendAlbum(draft: Draft, items: MediaItem[]): void {
  const files: FormPart[] = []
  const afterwards: MarkedText[] = []
  const pieces = items.map((item, at) => {
    const caption = item.caption ? readMarkup(item.caption) : plainText("")
    const fits = caption.text.length <= limits.caption
    if (!fits) afterwards.push(caption)
    const name = `piece${at}`
    const upload = uploadOf(item)
    if (upload) files.push(filePart(name, upload))
    return {
      type: methods[item.kind].field,
      media: upload ? `attach://${name}` : (item.url ?? item.ref),
      ...(fits && caption.text ? { caption: toHtml(caption), parse_mode: "HTML" } : {}),
    }
  })
  const fields = { ...draft.where, media: pieces }
  draft.out.calls.push(
    files.length > 0
      ? call("sendMediaGroup", [...formFields(fields), ...files], { speaks: true, timeout: 60_000 })
      : call("sendMediaGroup", fields, { speaks: true }),
  )
  for (const caption of afterwards) {
    draft.out.degraded.push("a caption is said as a message of its own")
    sayText(draft, caption, {})
  }
}

/** Data of our own as a part of the form, under a name that the other fields use. */
function filePart(name: string, { data, mime, name: filename }: Upload): FormPart {
  return { name, data, filename, mime }
}

/** Multipart fields: what is no text is written as JSON, as the Bot API wants it. */
function formFields(fields: Fields): FormPart[] {
  return Object.entries(fields).map(([name, value]) => {
    if (value === chat) return { name, value: chat }
    return { name, value: typeof value === "string" ? value : JSON.stringify(value) }
  })
}

function sendCard(draft: Draft, card: Card): void {
  const words = withLongLabels(draft, cardWords(card), card.choices ?? [])
  const buttons = card.choices?.length ? keyboard(draft, card.choices) : {}
  if (card.picture) sendOne(draft, { kind: "image", url: card.picture }, words, buttons)
  else sayText(draft, words, {}, buttons)
}

function amend(draft: Draft, part: Extract<ReplyPart, { part: "amend" }>): void {
  const target = { chat_id: chat, message_id: numeric(part.to) }
  const buttons = part.choices ? keyboard(draft, part.choices) : {}
  if (part.text === undefined) {
    draft.out.calls.push(call("editMessageReplyMarkup", { ...target, ...buttons }, { speaks: false }))
    return
  }
  const [head, ...rest] = splitMarked(readMarkup(part.text), limits.text)
  if (head === undefined) return
  const edit = { ...target, text: toHtml(head), parse_mode: "HTML", ...buttons }
  draft.out.calls.push(call("editMessageText", edit, { speaks: false }))
  if (rest.length > 0) draft.out.degraded.push("what no longer fits the changed message is said after it")
  for (const piece of rest) sayText(draft, piece, {})
}

function replyTo(id: string): Fields {
  // Without this, a reply to a message that was deleted meanwhile would be refused and lost.
  return { message_id: numeric(id), allow_sending_without_reply: true }
}

/** Ids are text inside Wobbet; where the Bot API wants an integer they are written as one, if that is exact. */
export function numeric(id: string): number | string {
  const value = Number(id)
  return /^-?\d+$/.test(id) && Number.isSafeInteger(value) ? value : id
}
