import type { MarkedText, Span } from "../../message/markup.ts"

/**
 * Writes a marked text as the HTML that the Bot API reads. Code stands alone there: bold and italic are interrupted
 * around it, and inside a link it is left plain. Quotes are not nested.
 */
export function toHtml(source: MarkedText): string {
  if (source.spans.length === 0) return escapeHtml(source.text)
  // Those that begin first, and of them the longest, come first: what lies within another follows it.
  const spans = [...source.spans].sort((a, b) => a.start - b.start || b.end - a.end)
  const edges = [...new Set([0, source.text.length, ...spans.flatMap((span) => [span.start, span.end])])].sort(
    (a, b) => a - b,
  )
  let html = ""
  let open: Span[] = []
  let covering: Span[] = []
  let next = 0
  for (let i = 0; i < edges.length - 1; i++) {
    const from = edges[i]!
    covering = covering.filter((span) => span.end > from)
    for (; next < spans.length && spans[next]!.start <= from; next++)
      if (spans[next]!.end > from && isLegal(spans[next]!, covering)) covering.push(spans[next]!)
    const solid = covering.some((span) => span.kind === "code" || span.kind === "pre")
    const wanted = solid ? covering.filter((span) => /^(code|pre|quote)$/.test(span.kind)) : covering
    const shared = open.findIndex((span, at) => wanted[at] !== span)
    const keep = shared === -1 ? open.length : shared
    html += open.slice(keep).reverse().map(closing).join("") + wanted.slice(keep).map(opening).join("")
    html += escapeHtml(source.text.slice(from, edges[i + 1]))
    open = [...wanted]
  }
  return html + open.reverse().map(closing).join("")
}

/** Whether a stretch may stand within those around it. */
function isLegal(span: Span, around: Span[]): boolean {
  if (span.kind === "code") return !around.some((outer) => outer.kind === "link")
  return span.kind !== "quote" || !around.some((outer) => outer.kind === "quote")
}

export function escapeHtml(text: string): string {
  return text.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;")
}

const tags = { bold: "b", italic: "i", code: "code", quote: "blockquote", pre: "pre", link: "a" } as const

function opening(span: Span): string {
  if (span.kind === "link")
    return `<a href="${escapeHtml(span.url.replace(/^mention:/, "tg://user?id=")).replaceAll('"', "&quot;")}">`
  if (span.kind === "pre" && span.language) {
    return `<pre><code class="language-${escapeHtml(span.language).replaceAll('"', "&quot;")}">`
  }
  return `<${tags[span.kind]}>`
}

function closing(span: Span): string {
  return span.kind === "pre" && span.language ? "</code></pre>" : `</${tags[span.kind]}>`
}
