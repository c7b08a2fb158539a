import { storable, storableJson } from "../message/graphemes.ts"
import type { Place } from "../message/message.ts"
import type { ReplyPart } from "../message/reply.ts"
import { plainWords } from "../message/reply.ts"
import type { Channel, ChannelKind, Rendered } from "./kind.ts"
import type { Look } from "./looks.ts"
import { choicesOffered } from "./options.ts"
import { readSettings } from "./settings.ts"

/** A part of a reply, and what it becomes on a channel. */
export interface RenderedPart {
  part: ReplyPart
  rendered: Rendered
  /** What it says, in plain words. */
  words: string
}

/** Renders a reply part by part, up to the first that cannot be said. */
export function renderReply(kind: ChannelKind, parts: ReplyPart[], place: Place, channel: Channel): RenderedPart[] {
  const done: RenderedPart[] = []
  let offered = 0
  for (const given of parts) {
    const part = storableJson(given)
    const rendered = kind.render(part, place, channel, offered)
    done.push({ part, rendered, words: storable(plainWords(given)) })
    if (rendered.impossible) break
    if (!rendered.leftOut) offered += choicesOffered(part).length
  }
  return done
}

/** How a reply looks on a kind of channel; nothing of it is ever sent. */
export interface ReplyLook {
  kind: string
  provider: string
  title: string
  parts: { part: string; looks: Look[]; degraded: string[]; impossible?: string; leftOut?: string }[]
}

export function lookOn(kind: ChannelKind, replies: ReplyPart[]): ReplyLook {
  const channel: Channel = {
    key: "how-it-looks",
    kind: kind.kind,
    settings: readSettings(kind, kind.example ?? {}).value,
    secrets: {},
    publicBase: "https://bots.example",
  }
  let offered = 0
  const parts = replies.map((part) => {
    const place: Place = { address: "1", kind: "direct" }
    const { calls, degraded, impossible, leftOut } = kind.render(part, place, channel, offered)
    offered += choicesOffered(part).length
    return {
      part: part.part,
      looks: calls.map((call) => kind.looks(call)),
      degraded: [...new Set(degraded)],
      ...(impossible ? { impossible } : {}),
      ...(leftOut ? { leftOut } : {}),
    }
  })
  return { kind: kind.kind, provider: kind.provider, title: kind.title ?? kind.provider, parts }
}

/** Characters of text in a reply: what the time it takes to render goes by. */
export function weightOf(value: unknown): number {
  if (typeof value === "string") return value.length
  if (typeof value !== "object" || value === null) return 0
  let sum = 0
  for (const name in value) {
    // Content in base64 is passed on as it is.
    if (name !== "data") sum += weightOf((value as { [name: string]: unknown })[name])
  }
  return sum
}
