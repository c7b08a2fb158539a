import type { MarkedText, Span } from "./markup.ts"
import { graphemeFloor } from "./graphemes.ts"

/**
 * Cuts a marked text into pieces of at most `limit` UTF-16 units: at a paragraph, else a line, else a sentence, else
 * a word, else between two characters as people see them. Never inside a link, unless the link's own words exceed
 * the limit. The spaces at a cut are dropped; nothing else is.
 */
export function splitMarked(source: MarkedText, limit: number): MarkedText[] {
  const pieces: MarkedText[] = []
  let from = skipSpace(source.text, 0)
  const end = source.text.trimEnd().length
  while (from < end) {
    const to = end - from <= limit ? end : cutAt(source, from, limit)
    const trimmed = from + source.text.slice(from, to).trimEnd().length
    if (trimmed > from) pieces.push(slice(source, from, trimmed))
    from = skipSpace(source.text, to)
  }
  return pieces
}

const breaks = [/\n[^\S\n]*\n/g, /\n/g, /[.!?…。！？]["'”’)]*\s/g, /\s/g]

function cutAt(source: MarkedText, from: number, limit: number): number {
  const window = source.text.slice(from, from + limit + 1)
  const links = source.spans.filter((span) => span.kind === "link" && span.start < from + limit + 1 && span.end > from)
  for (const pattern of breaks) {
    let best = 0
    for (const match of window.matchAll(pattern)) {
      const at = from + match.index + match[0].trimEnd().length
      const fits = at - from > 0 && at - from <= limit
      if (fits && outsideLinks(at, links)) best = Math.max(best, at)
    }
    // A cut in the first tenth would leave a stub: a finer break further on reads better.
    if (best - from > limit / 10) return best
  }
  const hard = graphemeFloor(source.text, from + limit)
  const link = links.find((span) => span.start < hard && hard < span.end)
  if (link && link.start > from) return link.start
  return hard > from ? hard : from + limit
}

/** @param links by where they begin; none overlaps another */
function outsideLinks(at: number, links: Span[]): boolean {
  let low = 0
  let high = links.length
  while (low < high) {
    const middle = (low + high) >> 1
    if (links[middle]!.end <= at) low = middle + 1
    else high = middle
  }
  const link = links[low]
  return link === undefined || at <= link.start
}

function skipSpace(text: string, from: number): number {
  while (from < text.length && /\s/.test(text[from]!)) from++
  return from
}

/** Part of a marked text, its formatting with it. */
export function slice(source: MarkedText, from: number, to: number): MarkedText {
  const spans = source.spans
    .filter((span) => span.end > from && span.start < to)
    .map((span) => ({ ...span, start: Math.max(span.start, from) - from, end: Math.min(span.end, to) - from }))
  return { text: source.text.slice(from, to), spans }
}

/** Several marked texts as one, joined by `between`. */
export function joinMarked(parts: MarkedText[], between: string): MarkedText {
  const out: MarkedText = { text: "", spans: [] }
  for (const part of parts) {
    if (out.text) out.text += between
    const shift = out.text.length
    out.text += part.text
    out.spans.push(...part.spans.map((span) => ({ ...span, start: span.start + shift, end: span.end + shift })))
  }
  return out
}
