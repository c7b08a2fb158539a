/**
 * Characters that are not seen where they stand, and change how the rest is: controls (a terminal obeys them), marks that
 * turn the direction of writing, and what has no width and no meaning of its own. Joiners stay: emoji and several scripts
 * are written with them. Source: Unicode Technical Report 36 (security considerations), and 55 for direction marks.
 */
const unseen =
  /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u00ad\u061c\u180e\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb]|[\u{e0000}-\u{e007f}]|\p{Surrogate}/gu

/** What strangers wrote, with what cannot be seen written as escapes; line ends and tabs stay. */
export function shown(text: string): string {
  return text.replace(unseen, (found) => {
    const code = found.codePointAt(0)!
    const hex = code.toString(16)
    if (code < 0x100) return `\\x${hex.padStart(2, "0")}`
    return code < 0x10000 ? `\\u${hex.padStart(4, "0")}` : `\\u{${hex}}`
  })
}

/** The same for every text in an answer of the service. */
export function shownWithin<T>(value: T): T {
  if (typeof value === "string") return shown(value) as T
  if (Array.isArray(value)) return value.map(shownWithin) as T
  if (value === null || typeof value !== "object") return value
  return Object.fromEntries(Object.entries(value).map(([name, inner]) => [shown(name), shownWithin(inner)])) as T
}

/** JSON that says the same and is safe to look at: what cannot be seen stands in its own escapes. */
export function shownJson(value: unknown, indent?: number): string {
  return JSON.stringify(value, null, indent).replace(unseen, (found) =>
    // Between strings there are only line ends.
    [...Array(found.length).keys()].map((at) => `\\u${found.charCodeAt(at).toString(16).padStart(4, "0")}`).join(""),
  )
}
