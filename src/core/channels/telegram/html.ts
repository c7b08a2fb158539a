import type { MarkedText, Span } from "../../message/markup.ts"

/**
 * Writes a marked text as the HTML that the Bot API reads. Code stands alone there: bold and italic are interrupted
 * around it, and inside a link it is left plain. Quotes are not nested.
 */
export function toHtml(source: MarkedText): string {
  if (source.spans.length === 0) return escapeHtml(source.text)
  const spans = legal(source.spans)
  const edges = [...new Set([0, source.text.length, ...spans.flatMap((span) => [span.start, span.end])])].sort(
    (a, b) => a - b,
  )
  let html = ""
  let open: Span[] = []
  for (let i = 0; i < edges.length - 1; i++) {
    const from = edges[i]!
    const covering = spans.filter((span) => span.start <= from && from < span.end)
    const solid = covering.filter((span) => span.kind === "code" || span.kind === "pre")
    const wanted =
      solid.length > 0 ? covering.filter((span) => solid.includes(span) || span.kind === "quote") : covering
    const shared = open.findIndex((span, at) => wanted[at] !== span)
    const keep = shared === -1 ? open.length : shared
    html += open.slice(keep).reverse().map(closing).join("") + wanted.slice(keep).map(opening).join("")
    html += escapeHtml(source.text.slice(from, edges[i + 1]))
    open = wanted
  }
  return html + open.reverse().map(closing).join("")
}

function legal(spans: Span[]): Span[] {
  const links = spans.filter((span) => span.kind === "link")
  const quotes = spans.filter((span) => span.kind === "quote")
  const inside = (inner: Span, outer: Span) => inner !== outer && outer.start <= inner.start && inner.end <= outer.end
  return spans
    .filter((span) => span.kind !== "code" || !links.some((link) => inside(span, link)))
    .filter(
      (span) =>
        span.kind !== "quote" ||
        !quotes.some((quote) => inside(span, quote) && quotes.indexOf(quote) < quotes.indexOf(span)),
    )
}

export function escapeHtml(text: string): string {
  return text.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;")
}

const tags = { bold: "b", italic: "i", code: "code", quote: "blockquote", pre: "pre", link: "a" } as const

function opening(span: Span): string {
  if (span.kind === "link") return `<a href="${escapeHtml(span.url).replaceAll('"', "&quot;")}">`
  if (span.kind === "pre" && span.language) {
    return `<pre><code class="language-${escapeHtml(span.language).replaceAll('"', "&quot;")}">`
  }
  return `<${tags[span.kind]}>`
}

function closing(span: Span): string {
  return span.kind === "pre" && span.language ? "</code></pre>" : `</${tags[span.kind]}>`
}
