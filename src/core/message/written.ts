import { graphemeFloor } from "./graphemes.ts"
import type { MarkedText, Span } from "./markup.ts"
import { splitMarked } from "./split.ts"

/** How a provider wants formatting written. What a style leaves out is written as the words alone. */
export interface WritingStyle {
  /** Of the words themselves. */
  escape?: (text: string) => string
  bold?: [open: string, close: string]
  italic?: [open: string, close: string]
  code?: [open: string, close: string]
  pre?: [open: string, close: string]
  /** Stands before every line of a quote. */
  quote?: string
  /** Somebody who is named, by their address; left out, the name stands alone. */
  mention?: (address: string) => string | undefined
  link?: (label: string, url: string) => string
}

/** Words alone: a link's address stands behind its label, a quote's lines begin with a mark. */
export const plainStyle: WritingStyle = { quote: "> " }

/** Writes a marked text in a provider's own light markup. */
export function writeMarked(source: MarkedText, style: WritingStyle): string {
  const spans = [...source.spans].sort((a, b) => a.start - b.start || b.end - a.end)
  return writeStretch(source.text, 0, source.text.length, spans, style)
}

/** @param spans by where they begin, the longest first: what lies within one follows it. Each is looked at once. */
function writeStretch(text: string, from: number, to: number, spans: Span[], style: WritingStyle): string {
  const escape = style.escape ?? ((words: string) => words)
  let written = ""
  let at = from
  for (let n = 0; n < spans.length;) {
    const span = spans[n++]!
    const first = n
    while (n < spans.length && spans[n]!.start < span.end) n++
    if (span.end <= span.start || span.start < at) continue
    written += escape(text.slice(at, span.start))
    const label = text.slice(span.start, span.end)
    const solid = span.kind === "code" || span.kind === "pre"
    const inside = solid ? [] : spans.slice(first, n).filter((other) => other.end <= span.end)
    const inner = solid ? escape(label) : writeStretch(text, span.start, span.end, inside, style)
    written += dress(inner, span, label, style)
    at = span.end
  }
  return written + escape(text.slice(at, to))
}

function dress(inner: string, span: Span, label: string, style: WritingStyle): string {
  switch (span.kind) {
    case "bold":
    case "italic":
      return wrapLines(inner, style[span.kind])
    case "code":
      return style.code && !label.includes("`") ? style.code[0] + inner + style.code[1] : inner
    case "pre":
      return style.pre && !label.includes("```") ? style.pre[0] + inner + style.pre[1] : inner
    case "quote":
      return style.quote === undefined ? inner : style.quote + inner.replaceAll("\n", `\n${style.quote}`)
    case "link": {
      if (span.url.startsWith("mention:")) return style.mention?.(span.url.slice("mention:".length)) ?? inner
      if (style.link) return style.link(inner, span.url)
      return sameAddress(label, span.url) ? inner : `${inner} (${span.url})`
    }
  }
}

/** Marks end with their line and touch the words they mark, or providers take them literally. */
function wrapLines(inner: string, marks: [string, string] | undefined): string {
  if (!marks) return inner
  return inner
    .split("\n")
    .map((line) => {
      const words = line.trim()
      if (words === "") return line
      const lead = line.slice(0, line.length - line.trimStart().length)
      return lead + marks[0] + words + marks[1] + line.slice(line.trimEnd().length)
    })
    .join("\n")
}

/** Whether a link's words are its address already. */
export function sameAddress(label: string, url: string): boolean {
  const bare = (text: string) => text.replace(/^(mailto:|tel:|https?:\/\/)/i, "").replace(/\/$/, "")
  return bare(label) === bare(url)
}

/**
 * A marked text as written pieces of at most `limit` units each, by the provider's own measure. Cut where a reader would
 * cut, before it is written, so that no mark is torn apart.
 */
export function splitWritten(
  source: MarkedText,
  limit: number,
  style: WritingStyle,
  measure: (written: string) => number = (written) => written.length,
): string[] {
  return splitMarked(source, limit).flatMap((piece) => {
    const written = writeMarked(piece, style)
    if (measure(written) <= limit) return [written]
    const smaller = Math.floor(Math.min(piece.text.length - 1, (piece.text.length * limit) / measure(written)))
    // A single character that carries a very long address: the address is said as words of its own.
    if (smaller < 1) return splitWords(written, limit, measure)
    const finer = splitMarked(piece, smaller)
    if (finer.length < 2) return splitWords(written, limit, measure)
    return finer.flatMap((one) => splitWritten(one, limit, style, measure))
  })
}

/** Cuts words without any markup between characters as people see them. */
function splitWords(words: string, limit: number, measure: (written: string) => number): string[] {
  const pieces: string[] = []
  for (let rest = words; rest !== "";) {
    let end = Math.min(rest.length, limit)
    while (end > 1 && measure(rest.slice(0, end)) > limit) end--
    const cut = graphemeFloor(rest, end) || end
    pieces.push(rest.slice(0, cut))
    rest = rest.slice(cut)
  }
  return pieces
}
