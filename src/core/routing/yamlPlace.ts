import { isAlias, isMap, isScalar, isSeq } from "yaml"

/** Where the value at a path begins in the source; for something missing, where its parent does. */
export function offsetOf(node: unknown, path: (string | number)[]): number | undefined {
  const [head, ...rest] = path
  const here = hasRange(node) ? node.range[0] : undefined
  if (head === undefined || isAlias(node)) return here
  if (isMap(node)) {
    const pair = node.items.find((item) => (isScalar(item.key) ? item.key.value : item.key) === head)
    if (!pair) return here
    if (rest.length === 0 && hasRange(pair.key)) return pair.key.range[0]
    return offsetOf(pair.value, rest) ?? here
  }
  if (isSeq(node)) return offsetOf(node.items[head as number], rest) ?? here
  return here
}

function hasRange(node: unknown): node is { range: [number, number, number] } {
  return typeof node === "object" && node !== null && Array.isArray((node as { range?: unknown }).range)
}
