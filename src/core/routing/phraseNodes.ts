import type { Document } from "yaml"
import { isMap, isScalar, isSeq } from "yaml"

/** What stands at each `phrase` of a bot's routes: in `when`, or in `meets` as it was named before. */
export function phraseNodes(document: Document): unknown[] {
  const inCondition = (node: unknown): unknown[] => {
    if (isSeq(node)) return node.items.flatMap(inCondition)
    if (!isMap(node)) return []
    return node.items.flatMap(({ key, value }) => {
      const name = isScalar(key) ? key.value : undefined
      if (name === "phrase") return [value]
      return name === "any" || name === "all" || name === "not" ? inCondition(value) : []
    })
  }
  const routes = document.get("routes", true)
  return (isSeq(routes) ? routes.items : []).flatMap((route) =>
    isMap(route) ? ["when", "meets"].flatMap((name) => inCondition(route.get(name, true))) : [],
  )
}
