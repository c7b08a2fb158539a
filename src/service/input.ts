/** How deep JSON given to the API may go; nothing it takes comes near. */
export const deepest = 64

/** The first text in something given that PostgreSQL cannot keep, or a name of a field that is; and why not. */
export function firstUnstorable(value: unknown, field = ""): { field: string; says: string } | undefined {
  if (typeof value === "string") {
    const named = field === "" ? "it" : `"${field}"`
    if (value.includes("\u0000")) return { field, says: `${named} must not contain NUL characters` }
    if (!value.isWellFormed()) return { field, says: `${named} must be well-formed Unicode: it holds half a character` }
    return undefined
  }
  if (typeof value !== "object" || value === null) return undefined
  for (const [name, inner] of Object.entries(value)) {
    const at = (field === "" ? name : `${field}.${name}`).slice(0, 200)
    const found = (Array.isArray(value) ? undefined : firstUnstorable(name)) && {
      field: field || "body",
      says: "a field's name must not contain NUL characters or halves of characters",
    }
    const wrong = found ?? firstUnstorable(inner, at)
    if (wrong) return wrong
  }
  return undefined
}

/** Whether brackets in a JSON text are nested deeper than may be. One pass, whatever the text is. */
export function isTooDeep(text: string): boolean {
  let depth = 0
  let quoted = false
  for (let at = 0; at < text.length; at++) {
    const unit = text.charCodeAt(at)
    if (quoted) {
      if (unit === 0x5c) at++
      else if (unit === 0x22) quoted = false
    } else if (unit === 0x22) quoted = true
    else if (unit === 0x5b || unit === 0x7b) {
      if (++depth > deepest) return true
    } else if (unit === 0x5d || unit === 0x7d) depth--
  }
  return false
}
