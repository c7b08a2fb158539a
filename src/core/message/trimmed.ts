/**
 * A text without certain characters at its end: in one look from behind, however many there are. A pattern that ends
 * with `+$` starts again at each of them.
 */
export function withoutEnd(text: string, characters: string): string {
  let end = text.length
  while (end > 0 && characters.includes(text[end - 1]!)) end--
  return text.slice(0, end)
}
