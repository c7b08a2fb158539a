import type { Mark } from "../../message/message.ts"

/**
 * Reads the provider's writing into plain text: mentions, links and dates as people see them, with what stood there kept
 * in the marks. `names` gives words for people that are known, such as the bot itself.
 */
export function readText(source: string, names: { [id: string]: string }): { text: string; marks: Mark[] } {
  const marks: Mark[] = []
  if (!/[<&]/.test(source)) return { text: source, marks }
  let text = ""
  let at = 0
  for (const match of source.matchAll(/<([^<>\n]*)>/g)) {
    text += unescape(source.slice(at, match.index))
    const { words, kind, url } = readToken(match[1]!, names)
    if (words !== "")
      marks.push({ kind, offset: text.length, length: words.length, original: match[0], ...(url ? { url } : {}) })
    text += words
    at = match.index + match[0].length
  }
  return { text: text + unescape(source.slice(at)), marks }
}

function readToken(
  token: string,
  names: { [id: string]: string },
): { words: string; kind: Mark["kind"]; url?: string } {
  const bar = token.indexOf("|")
  const head = bar === -1 ? token : token.slice(0, bar)
  const label = bar === -1 ? "" : unescape(token.slice(bar + 1))
  switch (head[0]) {
    case "@":
      return { words: `@${label || names[head.slice(1)] || head.slice(1)}`, kind: "mention" }
    case "#":
      // A channel's name may be empty.
      return { words: `#${label || head.slice(1)}`, kind: "mention" }
    case "!": {
      const [word, argument] = head.slice(1).split("^")
      if (word === "date") return { words: label || (argument ?? ""), kind: "other" }
      if (word === "subteam") return { words: label || `@${argument ?? "a group"}`, kind: "mention" }
      return { words: label || `@${word}`, kind: "mention" }
    }
    default: {
      const url = unescape(head)
      const shown = url.replace(/^(mailto|tel):/, "")
      return { words: label || shown, kind: "link", url }
    }
  }
}

function unescape(text: string): string {
  return text.replaceAll("&lt;", "<").replaceAll("&gt;", ">").replaceAll("&amp;", "&")
}

/** The three characters that have a meaning there. */
export function escapeText(text: string): string {
  return text.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;")
}
