import leven from "leven"

/** The name that differs by the fewest letters, if that is near enough to be a slip. */
export function nearest(given: string, names: string[]): string | undefined {
  const scored = names.map((name) => ({ name, off: leven(given.toLowerCase(), name.toLowerCase()) }))
  const best = scored.sort((a, b) => a.off - b.off)[0]
  return best && best.off <= Math.max(given.length >= 4 ? 2 : 1, Math.floor(given.length / 3)) ? best.name : undefined
}
