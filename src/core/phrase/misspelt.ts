/** Letters of a word of which one edit is forgiven. */
const least = 5

/**
 * Words that may be misspelt by one edit (a letter too many, too few, another, or two swapped), found by their shortened
 * forms: two words one edit apart share one.
 */
export class Misspelt {
  private readonly byForm = new Map<string, Set<string>>()

  add(word: string): void {
    if (word.length < least || this.byForm.get(word)?.has(word)) return
    for (const form of formsOf(word)) {
      let words = this.byForm.get(form)
      if (!words) this.byForm.set(form, (words = new Set()))
      words.add(word)
    }
  }

  /** The one word that is meant; undefined where none is near, or several are. */
  meant(given: string): string | undefined {
    if (this.byForm.size === 0 || given.length < least || given.length > 60) return undefined
    const near = new Set<string>()
    for (const form of formsOf(given))
      for (const word of this.byForm.get(form) ?? []) if (oneEdit(given, word)) near.add(word)
    const [only] = near
    return near.size === 1 ? only : undefined
  }
}

/** A word, and it with each of its letters left out. */
function formsOf(word: string): string[] {
  const letters = [...word]
  return [word, ...letters.map((_letter, at) => [...letters.slice(0, at), ...letters.slice(at + 1)].join(""))]
}

function oneEdit(one: string, other: string): boolean {
  const [a, b] = [[...one], [...other]]
  if (Math.abs(a.length - b.length) > 1) return false
  let at = 0
  while (at < a.length && at < b.length && a[at] === b[at]) at++
  const rest = (from: string[], skip: number) => from.slice(at + skip).join("")
  if (a.length === b.length)
    return rest(a, 1) === rest(b, 1) || (a[at] === b[at + 1] && a[at + 1] === b[at] && rest(a, 2) === rest(b, 2))
  return a.length > b.length ? rest(a, 1) === rest(b, 0) : rest(a, 0) === rest(b, 1)
}
