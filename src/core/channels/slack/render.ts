import { shorten } from "../../message/graphemes.ts"
import type { MarkedText } from "../../message/markup.ts"
import { plainText, readMarkup } from "../../message/markup.ts"
import type { Place } from "../../message/message.ts"
import type { Card, MediaItem, Option, ReplyPart } from "../../message/reply.ts"
import { joinMarked } from "../../message/split.ts"
import type { WritingStyle } from "../../message/written.ts"
import { sameAddress, splitWritten, writeMarked } from "../../message/written.ts"
import type { Channel, Rendered } from "../kind.ts"
import type { OutgoingCall } from "../call.ts"
import { nothingRendered } from "../kind.ts"
import { cardWords, linkLine, inWords, numberedLines, optionId, uploadOf } from "../options.ts"
import { call } from "./calls.ts"
import { nameOf } from "./emoji.ts"
import { limits } from "./limits.ts"
import { escapeText } from "./text.ts"

const style: WritingStyle = {
  escape: escapeText,
  bold: ["*", "*"],
  italic: ["_", "_"],
  code: ["`", "`"],
  pre: ["```", "```"],
  quote: "> ",
  mention: (address) => (/^[UW][A-Z0-9]+$/.test(address) ? `<@${address}>` : undefined),
  link: (label, url) => {
    const address = url.replace(/[<>|]/g, encodeURIComponent)
    return sameAddress(label, url) ? `<${address}>` : `<${address}|${label.replaceAll("|", "¦")}>`
  },
}

type Block = { [field: string]: unknown }

/** Writes one part of a reply as calls of the Web API, within its limits. */
export function render(part: ReplyPart, place: Place, _channel: Channel, offered = 0): Rendered {
  const out = nothingRendered()
  const draft: Draft = { out, place }
  switch (part.part) {
    case "text":
      sayText(draft, readMarkup(part.text))
      break
    case "choices":
      say(draft, offer(draft, readMarkup(part.text), part.choices, offered))
      break
    case "media":
      for (const item of [part, ...(part.with ?? [])]) sendMedia(draft, item)
      break
    case "cards": {
      let before = offered
      for (const card of part.cards) {
        sendCard(draft, card, before)
        before += card.choices?.filter((choice) => !choice.url).length ?? 0
      }
      break
    }
    case "location":
    case "contact":
    case "template":
      sayText(draft, inWords(out, part))
      break
    case "reaction": {
      const name = nameOf(part.emoji)
      if (name) out.calls.push(call("reactions.add", { channel: where, timestamp: part.to, name }, false))
      else sayText(draft, inWords(out, part))
      break
    }
    case "typing":
      out.leftOut = "bots cannot show typing on Slack"
      break
    case "amend":
      amend(draft, part, offered)
      break
    case "remove":
      out.calls.push(call("chat.delete", { channel: where, ts: part.to }, false))
      break
  }
  if (out.calls.length === 0 && !out.leftOut) out.impossible ??= "there is nothing in it to say: the text is empty"
  return out
}

interface Draft {
  out: Rendered
  place: Place
}

const where = { place: "address", as: "text" }

/** One post: what notifications show, and the layout where there is one. */
interface Post {
  text: string
  blocks?: Block[]
}

/** Where a slash command left an address to answer at, it is used: the bot need not be in that channel. */
function say(draft: Draft, posts: Post[]): void {
  for (const { text, blocks } of posts) {
    const content = { text, ...(blocks ? { blocks } : {}) }
    const { respondAt, topic } = draft.place
    if (respondAt !== undefined && draft.out.calls.length < limits.responses) {
      draft.out.calls.push({ ...respond(respondAt), body: { json: { ...content, response_type: "in_channel" } } })
      continue
    }
    draft.out.calls.push(
      call(
        "chat.postMessage",
        {
          channel: where,
          ...content,
          ...(topic ? { thread_ts: topic } : {}),
          metadata: { event_type: "wobbet_reply", event_payload: { call: { mark: "call" } } },
        },
        true,
      ),
    )
  }
}

function respond(address: string): OutgoingCall {
  return { name: "response_url", method: "POST", address: [address], speaks: true }
}

function sayText(draft: Draft, text: MarkedText): void {
  say(
    draft,
    splitWritten(text, limits.text, style).map((piece) => ({ text: piece })),
  )
}

/** A question as posts: what is too long for a layout comes before it. */
function offer(draft: Draft, words: MarkedText, options: Option[], offered: number, picture?: string): Post[] {
  const { out } = draft
  const long = options.some(
    (option) =>
      option.label.length > limits.buttonText || option.label.trim() === "" || (option.url?.length ?? 0) > limits.url,
  )
  const choices = options.filter((option) => option.url === undefined)
  const links = options.filter((option) => option.url !== undefined)
  if (options.length <= limits.elements && !long) {
    const elements = options.map((option, n): Block => ({
      type: "button",
      text: { type: "plain_text", text: option.label },
      action_id: `choice-${n}`,
      ...(option.url ? { url: option.url } : { value: optionId(out, option, limits.buttonValue) }),
    }))
    return laidOut(draft, words, elements.length > 0 ? [{ type: "actions", elements }] : [], picture)
  }
  const rest = links.length > 0 ? joinMarked([words, plainText(links.map(linkLine).join("\n"))], "\n") : words
  if (choices.length <= limits.selectOptions && !long && choices.length > 0) {
    out.degraded.push("more than 25 options: shown as a menu")
    const select: Block = {
      type: "static_select",
      action_id: "choice",
      placeholder: { type: "plain_text", text: "…" },
      options: choices.map((choice) => ({
        text: { type: "plain_text", text: choice.label },
        value: optionId(out, choice, limits.optionValue),
      })),
    }
    return laidOut(draft, rest, [{ type: "actions", elements: [select] }], picture)
  }
  out.degraded.push("the options are written as numbered lines: there are too many, or their labels are too long")
  const numbered = choices.length > 0 ? joinMarked([rest, numberedLines(choices, offered)], "\n\n") : rest
  return laidOut(draft, numbered, [], picture)
}

function laidOut(draft: Draft, words: MarkedText, below: Block[], picture: string | undefined): Post[] {
  const pieces = splitWritten(words, limits.section, style)
  if (pieces.length === 0 && below.length > 0) pieces.push("…")
  if (pieces.length > 1 && below.length > 0)
    draft.out.degraded.push("the text is longer than a layout may be: it is said before")
  const image = {
    accessory: { type: "image", image_url: picture, alt_text: shorten(words.text, limits.alt) || "picture" },
  }
  return pieces.map((text, at): Post => {
    const last = at === pieces.length - 1
    if (!last || (below.length === 0 && picture === undefined)) return { text }
    const section = { type: "section", text: { type: "mrkdwn", text }, ...(picture ? image : {}) }
    return { text, blocks: [section, ...below] }
  })
}

function sendCard(draft: Draft, card: Card, offered: number): void {
  const picture = card.picture !== undefined && card.picture.length <= limits.url ? card.picture : undefined
  say(draft, offer(draft, cardWords(card), card.choices ?? [], offered, picture))
}

function sendMedia(draft: Draft, item: MediaItem): void {
  const { out, place } = draft
  const caption = item.caption ? readMarkup(item.caption) : plainText("")
  const upload = uploadOf(item)
  if (upload) {
    const [first, ...rest] = splitWritten(caption, limits.text, style)
    out.calls.push({
      ...call(
        "files.completeUploadExternal",
        {
          files: [{ id: { upload: 0 }, title: upload.name }],
          channel_id: where,
          ...(first ? { initial_comment: first } : {}),
          ...(place.topic ? { thread_ts: place.topic } : {}),
        },
        true,
      ),
      uploads: [upload],
    })
    say(
      draft,
      rest.map((text) => ({ text })),
    )
    return
  }
  const address = item.url ?? item.ref ?? ""
  if (item.kind === "image" && item.url !== undefined && item.url.length <= limits.url) {
    const pieces = splitWritten(caption, limits.section, style)
    const image: Block = {
      type: "image",
      image_url: item.url,
      alt_text: shorten(caption.text || item.name || "picture", limits.alt),
    }
    const [first] = pieces
    const blocks = first ? [{ type: "section", text: { type: "mrkdwn", text: first } }, image] : [image]
    say(draft, [{ text: first ?? item.name ?? "picture", blocks }, ...pieces.slice(1).map((text) => ({ text }))])
    return
  }
  out.degraded.push("the file is said as a link")
  const link = `<${address.replace(/[<>|]/g, encodeURIComponent)}|${escapeText(item.name ?? item.kind).replaceAll("|", "¦")}>`
  const words = writeMarked(caption, style)
  if (words.length + link.length < limits.text) say(draft, [{ text: words ? `${words}\n${link}` : link }])
  else {
    sayText(draft, caption)
    say(draft, [{ text: link }])
  }
}

function amend(draft: Draft, part: Extract<ReplyPart, { part: "amend" }>, offered: number): void {
  const { out } = draft
  if (part.text === undefined) {
    out.leftOut = "Slack changes a message only as a whole, and its words are not known"
    return
  }
  const words = readMarkup(part.text)
  const posts = part.choices?.length
    ? offer(draft, words, part.choices, offered)
    : splitWritten(words, limits.text, style).map((text): Post => ({ text }))
  const [first, ...rest] = posts
  if (first === undefined) return
  out.calls.push(
    call("chat.update", { channel: where, ts: part.to, text: first.text, blocks: first.blocks ?? [] }, false),
  )
  if (rest.length > 0) out.degraded.push("what no longer fits the changed message is said after it")
  say(draft, rest)
}
