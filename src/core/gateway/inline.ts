import type { Channel, Inline } from "../channels/kind.ts"
import type { ReplyPart } from "../message/reply.ts"
import { contentOf } from "./content.ts"
import { textAt } from "./fields.ts"
import { profileOf } from "./shipped.ts"

export function inline(channel: Channel): Inline | undefined {
  const { inline, inbound } = profileOf(channel)
  if (!inline || !inbound) return undefined
  return {
    within: inline.within,
    field(call, where) {
      const content = contentOf(call, inbound.body)
      return "unreadable" in content ? undefined : textAt(content, where, channel.settings)
    },
  }
}

/**
 * A gateway that takes one answer inside its call, and no other, gets the texts of a reply as one: the second would
 * always come too late. Other parts stay what they are.
 */
export function joined(parts: ReplyPart[], channel: Channel): ReplyPart[] {
  const { inline, outbound } = profileOf(channel)
  if (!inline || (outbound && inline.late === "api")) return parts
  const out: ReplyPart[] = []
  for (const part of parts) {
    const before = out.at(-1)
    if (before?.part === "text" && (part.part === "text" || part.part === "choices"))
      out[out.length - 1] = { ...part, text: `${before.text}\n\n${part.text}` }
    else out.push(part)
  }
  return out
}
