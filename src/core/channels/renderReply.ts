import { storable, storableJson } from "../message/graphemes.ts"
import type { Place } from "../message/message.ts"
import type { ReplyPart } from "../message/reply.ts"
import { plainWords } from "../message/reply.ts"
import type { Channel, ChannelKind, Rendered } from "./kind.ts"
import type { Look } from "./looks.ts"
import { unknownExtras } from "./extras.ts"
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
    rendered.degraded.push(...unknownExtras(kind, part, channel).map((says) => `the extra ${says}`))
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

/** What the time a reply takes to render goes by. */
export interface Weight {
  /** Characters of text. */
  length: number
  /** Those among them that may be markup, or end a line. */
  marks: number
}

export function weightOf(value: unknown): Weight {
  const weight: Weight = { length: 0, marks: 0 }
  weigh(value, weight)
  return weight
}

function weigh(value: unknown, weight: Weight): void {
  if (typeof value === "string") {
    weight.length += value.length
    weight.marks += value.match(/[\n*_`[\]()<>\\~&!#+-]/g)?.length ?? 0
  } else if (typeof value === "object" && value !== null) {
    for (const name in value) {
      // Content in base64 is passed on as it is.
      if (name !== "data") weigh((value as { [name: string]: unknown })[name], weight)
    }
  }
}
