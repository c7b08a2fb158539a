import { withoutEnd } from "../message/trimmed.ts"
/**
 * The option a text names, of those offered last: its label as written, or its number. A label that is itself a number
 * wins over a position.
 */
export function optionMeant<Option extends { label: string }>(text: string, offered: Option[]): Option | undefined {
  if (offered.length === 0 || text.length > 2000) return undefined
  const words = folded(text)
  const named = offered.find((one) => folded(one.label) === words)
  if (named) return named
  const number = /^#?(\p{Nd}{1,3})[.):]?$/u.exec(text.trim().normalize("NFKC"))?.[1]
  return number === undefined ? undefined : offered[Number(number) - 1]
}

function folded(text: string): string {
  return withoutEnd(text.normalize("NFKC").toLowerCase().replace(/\s+/g, " ").trim(), ".!")
}
