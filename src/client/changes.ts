/** One field of a state, before and after. */
export interface Change {
  field: string
  was?: unknown
  is?: unknown
}

/** What is different between two states: fields that came, went or changed, one level down where both are mappings. */
export function changesOf(before: unknown, after: unknown, path = ""): Change[] {
  if (!isMapping(before) || !isMapping(after)) return []
  const fields = [...new Set([...Object.keys(before), ...Object.keys(after)])]
  return fields.flatMap((field): Change[] => {
    const [was, is] = [before[field], after[field]]
    const name = path === "" ? field : `${path}.${field}`
    if (JSON.stringify(was) === JSON.stringify(is)) return []
    if (isMapping(was) && isMapping(is) && path.split(".").length < 5) return changesOf(was, is, name)
    return [{ field: name, ...(was === undefined ? {} : { was }), ...(is === undefined ? {} : { is }) }]
  })
}

function isMapping(value: unknown): value is { [field: string]: unknown } {
  return typeof value === "object" && value !== null && !Array.isArray(value)
}
