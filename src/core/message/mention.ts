import { escapeMarkup } from "./escapeMarkup.ts"
import type { ReplyPart } from "./reply.ts"

/**
 * A mention in light markup: a link to `mention:` and a contact's id, or an address on the channel it is said on. What it
 * becomes is the channel's: a real mention, a link to the person, or the name alone.
 */
export function mentionOf(who: string, name: string): string {
  return `[${escapeMarkup(name)}](mention:${encodeURIComponent(who)})`
}

/** Characters of whom a mention is of, as they are written. */
const longestWho = 500
const between = "](mention:"

interface Mention {
  /** Where it begins and ends in the text. */
  from: number
  to: number
  label: string
  who: string
}

/**
 * The mentions of a text, in one pass: what a stranger says stands in it, escaped, and a pattern would start again at each
 * of their brackets.
 */
function* mentionsIn(text: string): Generator<Mention> {
  if (!text.includes(between)) return
  let open = -1
  for (let at = 0; at < text.length; at++) {
    const character = text[at]
    if (character === "\\") at++
    else if (character === "[") open = at
    else if (character === "]") {
      const end = open !== -1 && text.startsWith(between, at) ? endOfWho(text, at + between.length) : -1
      if (end !== -1) {
        yield { from: open, to: end + 1, label: text.slice(open + 1, at), who: text.slice(at + between.length, end) }
        at = end
      }
      open = -1
    }
  }
}

/** Where the bracket stands that closes whom a mention is of; -1 where none does. */
function endOfWho(text: string, from: number): number {
  for (let at = from; at < text.length && at - from <= longestWho; at++) {
    const character = text[at]!
    if (character === ")") return at === from ? -1 : at
    if (/\s/.test(character)) return -1
  }
  return -1
}

/** Whom a reply mentions. */
export function mentionedIn(parts: ReplyPart[]): string[] {
  const found = new Set<string>()
  for (const part of parts)
    for (const text of textsOf(part)) for (const { who } of mentionsIn(text)) found.add(decoded(who))
  return [...found]
}

/** The same reply with each mention as the channel says it. @param say gives nothing where only the name can be said */
export function withMentionsAs(
  parts: ReplyPart[],
  say: (who: string, label: string) => string | undefined,
): ReplyPart[] {
  const replaced = (text: string) => {
    let done = ""
    let behind = 0
    for (const { from, to, label, who } of mentionsIn(text)) {
      done += text.slice(behind, from) + (say(decoded(who), label) ?? label)
      behind = to
    }
    return done + text.slice(behind)
  }
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
