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
