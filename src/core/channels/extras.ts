import type { ReplyPart } from "../message/reply.ts"
import type { Channel, ChannelKind } from "./kind.ts"

/** Extras of a part that mean nothing on a channel, each with what is right, in words. */
export function unknownExtras(kind: ChannelKind, part: ReplyPart, channel: Channel): string[] {
  const given = "extra" in part && part.extra ? Object.keys(part.extra) : []
  if (given.length === 0) return []
  const known = kind.further?.(channel).extras ?? []
  const there = known.map(({ name, says }) => `${name} (${says})`).join(", ")
  return given
    .filter((name) => !known.some((one) => one.name === name))
    .map((name) => `"${name}" means nothing on this channel: ${there ? `it takes ${there}` : "it takes no extras"}`)
}
