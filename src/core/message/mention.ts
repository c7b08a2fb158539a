import { escapeMarkup } from "./escapeMarkup.ts"
import type { ReplyPart } from "./reply.ts"

/**
 * A mention in light markup: a link to `mention:` and a contact's id, or an address on the channel it is said on. What it
 * becomes is the channel's: a real mention, a link to the person, or the name alone.
 */
export function mentionOf(who: string, name: string): string {
  return `[${escapeMarkup(name)}](mention:${encodeURIComponent(who)})`
}

const mention = /\[((?:[^[\]\\]|\\.)*)\]\(mention:([^)\s]{1,500})\)/g

/** Whom a reply mentions. */
export function mentionedIn(parts: ReplyPart[]): string[] {
  const found = new Set<string>()
  for (const part of parts)
    for (const text of textsOf(part)) for (const [, , who] of text.matchAll(mention)) found.add(decoded(who!))
  return [...found]
}

/** The same reply with each mention as the channel says it. @param say gives nothing where only the name can be said */
export function withMentionsAs(
  parts: ReplyPart[],
  say: (who: string, label: string) => string | undefined,
): ReplyPart[] {
  const replaced = (text: string) =>
    text.replace(mention, (_all, label: string, who: string) => say(decoded(who), label) ?? label)
  return parts.map((part) => {
    const changed = { ...part } as { text?: string; caption?: string }
    if (changed.text !== undefined) changed.text = replaced(changed.text)
    if (changed.caption !== undefined) changed.caption = replaced(changed.caption)
    return changed as ReplyPart
  })
}

function textsOf(part: ReplyPart): string[] {
  const { text, caption } = part as { text?: string; caption?: string }
  return [text, caption].filter((one): one is string => typeof one === "string" && one.includes("](mention:"))
}

function decoded(who: string): string {
  try {
    return decodeURIComponent(who)
  } catch {
    return who
  }
}
