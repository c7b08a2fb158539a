/** "1s", "500ms", "2m", "1h", "1d", or a number of seconds, as milliseconds. */
export function readDuration(value: number | string): number | undefined {
  if (typeof value === "number") return value * 1000
  const match = /^\s*(\d+(?:\.\d+)?)\s*(ms|s|m|h|d)\s*$/.exec(value)
  if (!match) return undefined
  const unit = { ms: 1, s: 1000, m: 60_000, h: 3_600_000, d: 86_400_000 }[match[2] as "ms" | "s" | "m" | "h" | "d"]
  return Number(match[1]) * unit
}

/** Milliseconds, as people read them. */
export function lengthInWords(ms: number): string {
  const units: [number, string][] = [
    [86_400_000, "d"],
    [3_600_000, "h"],
    [60_000, "min"],
    [1000, "s"],
  ]
  const [size, unit] = units.find(([least]) => ms >= least) ?? [1, "ms"]
  return `${Math.round(ms / size)} ${unit}`
}
