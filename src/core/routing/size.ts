const units: { [unit: string]: number } = { b: 1, kb: 1000, mb: 1_000_000, gb: 1_000_000_000 }

/** "500kB", "5 MB" or a number of bytes, as bytes. */
export function readSize(value: number | string): number | undefined {
  if (typeof value === "number") return value
  const [, number, unit = ""] = /^\s*(\d+(?:\.\d+)?)\s*([kmg]?b)\s*$/i.exec(value) ?? []
  return number === undefined ? undefined : Math.round(Number(number) * units[unit.toLowerCase()]!)
}

/** Bytes, as people read them. */
export function sizeInWords(bytes: number): string {
  const [unit, size] = bytes >= 1_000_000 ? ["MB", 1_000_000] : bytes >= 1000 ? ["kB", 1000] : ["bytes", 1]
  return `${Math.round((bytes / size) * 10) / 10} ${unit}`
}
