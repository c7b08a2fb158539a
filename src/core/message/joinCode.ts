/** Letters and digits that nobody takes for another. */
const letters = "ABCDEFGHJKMNPQRSTUVWXYZ"
const digits = "23456789"

/**
 * A code somebody says on a second channel: no word looks like it, and it can be read out.
 *
 * @param random a whole number below a bound
 */
export function newJoinCode(random: (below: number) => number): string {
  const one = (of: string) => of[random(of.length)]!
  const half = () => one(letters) + one(letters) + one(digits) + one(digits)
  return `${half()}-${half()}`
}

/** The code in a text that is nothing else, however it is written; undefined where the text is no code. */
export function joinCodeIn(text: string): string | undefined {
  if (text.length > 30) return undefined
  const found = /^\s*([a-z]{2}[2-9]{2})[\s–-]?([a-z]{2}[2-9]{2})[.!]?\s*$/iu.exec(text)
  return found ? `${found[1]}-${found[2]}`.toUpperCase() : undefined
}
