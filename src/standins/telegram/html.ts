/** A strict reader of the HTML that messages may hold. */
export interface ReadHtml {
  text: string
  entities: { type: string; offset: number; length: number; url?: string; language?: string }[]
}

const kinds: { [tag: string]: string } = {
  b: "bold",
  strong: "bold",
  i: "italic",
  em: "italic",
  u: "underline",
  ins: "underline",
  s: "strikethrough",
  strike: "strikethrough",
  del: "strikethrough",
  a: "text_link",
  code: "code",
  pre: "pre",
  blockquote: "blockquote",
  "tg-spoiler": "spoiler",
}

/** Throws an Error whose message is the provider's description. */
export function readHtml(source: string): ReadHtml {
  let text = ""
  const entities: ReadHtml["entities"] = []
  const open: { tag: string; start: number; url?: string; language?: string }[] = []
  let at = 0
  while (at < source.length) {
    const next = source[at]!
    if (next === "<") {
      const end = source.indexOf(">", at)
      if (end === -1) throw new Error(`can't parse entities: Unclosed start tag at byte offset ${at}`)
      const inside = source.slice(at + 1, end)
      at = end + 1
      if (inside.startsWith("/")) {
        const tag = inside.slice(1).trim().toLowerCase()
        const last = open.pop()
        if (!last) throw new Error(`can't parse entities: Unexpected end tag at byte offset ${at}`)
        if (last.tag !== tag)
          throw new Error(
            `can't parse entities: Unmatched end tag at byte offset ${at}, expected "</${last.tag}>", found "</${tag}>"`,
          )
        if (text.length > last.start) {
          entities.push({
            type: kinds[tag]!,
            offset: last.start,
            length: text.length - last.start,
            ...(last.url ? { url: last.url } : {}),
          })
        }
        continue
      }
      const match = /^([a-zA-Z-]+)((?:\s+[a-zA-Z-]+(?:="[^"<>]*")?)*)\s*$/.exec(inside)
      const tag = match?.[1]?.toLowerCase()
      if (!match || !tag || !kinds[tag])
        throw new Error(`can't parse entities: Unsupported start tag "${tag ?? inside}" at byte offset ${at}`)
      const solid = open.some((one) => one.tag === "code" || (one.tag === "pre" && tag !== "code"))
      if (solid) throw new Error(`can't parse entities: code can't contain other entities at byte offset ${at}`)
      const url = /href="([^"]*)"/.exec(match[2] ?? "")?.[1]
      open.push({ tag, start: text.length, ...(url ? { url: decode(url) } : {}) })
      continue
    }
    if (next === ">") throw new Error(`can't parse entities: Unescaped ">" at byte offset ${at}`)
    if (next === "&") {
      const entity = /^&(?:lt|gt|amp|quot|#\d+|#x[0-9a-fA-F]+);/.exec(source.slice(at, at + 12))
      if (!entity) throw new Error(`can't parse entities: Unsupported entity at byte offset ${at}`)
      text += decode(entity[0])
      at += entity[0].length
      continue
    }
    text += next
    at++
  }
  if (open.length > 0)
    throw new Error(`can't parse entities: Can't find end tag corresponding to start tag "${open.at(-1)!.tag}"`)
  return { text, entities }
}

function decode(text: string): string {
  return text.replace(/&(lt|gt|amp|quot|#\d+|#x[0-9a-fA-F]+);/g, (_all, name: string) => {
    if (name.startsWith("#x")) return String.fromCodePoint(parseInt(name.slice(2), 16))
    if (name.startsWith("#")) return String.fromCodePoint(Number(name.slice(1)))
    return { lt: "<", gt: ">", amp: "&", quot: '"' }[name]!
  })
}
