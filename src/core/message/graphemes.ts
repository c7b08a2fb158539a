/** Characters as people see them (Unicode UAX #29), so that nothing is ever cut inside one. */
const segmenter = new Intl.Segmenter("en", { granularity: "grapheme" })

/** The first `limit` UTF-16 units of `text` at most, ending at a whole character; an ellipsis marks a cut. */
export function shorten(text: string, limit: number): string {
  if (text.length <= limit) return text
  return text.slice(0, graphemeFloor(text, limit - 1)) + "…"
}

/** The largest character boundary at or below `at`. Looks only at the text around `at`. */
export function graphemeFloor(text: string, at: number): number {
  if (at >= text.length) return text.length
  if (at <= 0) return 0
  const from = safeStart(text, at)
  let boundary = from
  for (const { index, segment } of segmenter.segment(text.slice(from, at + 64))) {
    if (from + index > at) break
    boundary = from + index
    if (from + index + segment.length === at) return at
  }
  return boundary > 0 ? boundary : at
}

/** A place before `at` that is surely between two characters: after a plain letter, space or line end. */
function safeStart(text: string, at: number): number {
  for (let i = at - 1; i > 0 && at - i < 400; i--) {
    if (/[ -~\n]/.test(text[i]!) && /[ -~\n]/.test(text[i - 1]!)) return i
  }
  return Math.max(0, at - 400)
}

/** NUL and lone surrogates cannot be stored or sent; they become U+FFFD so that the rest survives. */
export function storable(text: string): string {
  if (text.isWellFormed() && !text.includes("\u0000")) return text
  return text.toWellFormed().replaceAll("\u0000", "\uFFFD")
}

/** The same for every string inside a JSON value. What needs no change is given back as it is, not copied. */
export function storableJson<T>(value: T): T {
  if (typeof value === "string") return storable(value) as T
  if (value === null || typeof value !== "object") return value
  // Each value is looked at once: looking first and changing then took twice the time for every level.
  if (Array.isArray(value)) {
    const items: unknown[] = value
    const changed = items.map(storableJson)
    return changed.some((item, n) => item !== items[n]) ? (changed as T) : value
  }
  let different = false
  const changed: [string, unknown][] = []
  for (const key in value) {
    const inner: unknown = value[key]
    const name = storable(key)
    const kept = storableJson(inner)
    different ||= name !== key || kept !== inner
    changed.push([name, kept])
  }
  return different ? (Object.fromEntries(changed) as T) : value
}
