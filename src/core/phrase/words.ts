/** One word of a text, where it stands in it, and how it compares: without case, accents and punctuation. */
export interface Word {
  start: number
  end: number
  folded: string
  /** Set when the word is a number. */
  value?: number
}

const pattern =
  /(?:(?<!\S)[-+])?\d+(?:[.,]\d+)*(?![\p{L}\p{M}])|[\p{L}\p{M}\p{N}'’_]+|\p{Extended_Pictographic}[\u{FE0F}\u{200D}\p{Extended_Pictographic}\p{Emoji_Modifier}]*/gu

export function readWords(text: string): Word[] {
  const words: Word[] = []
  for (const match of text.matchAll(pattern)) {
    const folded = fold(match[0])
    if (folded === "") continue
    const value = readNumber(match[0])
    words.push({
      start: match.index,
      end: match.index + match[0].length,
      folded,
      ...(value !== undefined ? { value } : {}),
    })
  }
  return words
}

export function fold(word: string): string {
  return word
    .normalize("NFKD")
    .replace(/[\p{M}'’_]/gu, "")
    .toLowerCase()
}

/** "3", "-2", "3.5", "3,5" and "1,250" are numbers; "1.2.3" is none. */
function readNumber(word: string): number | undefined {
  if (/^[-+]?\d{1,3}(,\d{3})+(\.\d+)?$/.test(word)) return Number(word.replaceAll(",", ""))
  if (/^[-+]?\d+([.,]\d+)?$/.test(word)) return Number(word.replace(",", "."))
  return undefined
}
