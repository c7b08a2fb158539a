/** One word of a text, where it stands in it, and how it compares: without case, accents, punctuation and width. */
export interface Word {
  start: number
  end: number
  folded: string
}

const pattern =
  // Where a letter follows digits, one digit less is a number: it never starts again at each of them.
  // eslint-disable-next-line regexp/no-super-linear-move
  /(?:(?<!\S)[-+])?\d+(?:[.,]\d+)*(?![\p{L}\p{M}])|[\p{L}\p{M}\p{N}'’_]+|\p{Extended_Pictographic}[\u{FE0F}\u{200D}\p{Extended_Pictographic}\p{Emoji_Modifier}]*/gu

/** Scripts that are written without spaces between words. */
const unspaced =
  /[\p{Script=Han}\p{Script=Hiragana}\p{Script=Katakana}\p{Script=Thai}\p{Script=Lao}\p{Script=Khmer}\p{Script=Myanmar}]/u

const segmenter = new Intl.Segmenter(undefined, { granularity: "word" })

export function readWords(text: string): Word[] {
  const words: Word[] = []
  for (const match of text.matchAll(pattern)) {
    if (unspaced.test(match[0])) words.push(...segmented(match[0], match.index))
    else addWord(words, match[0], match.index)
  }
  return words
}

/** Words where no spaces tell them: as the platform's segmenter sees them. */
function segmented(text: string, from: number): Word[] {
  const words: Word[] = []
  for (const { segment, index, isWordLike } of segmenter.segment(text))
    if (isWordLike) addWord(words, segment, from + index)
  return words
}

function addWord(words: Word[], text: string, start: number): void {
  const folded = fold(text)
  if (folded !== "") words.push({ start, end: start + text.length, folded })
}

/** As words are compared: letters without accents and case, digits of any script as 0 to 9, wide letters as narrow. */
export function fold(word: string): string {
  return digitsFolded(word.normalize("NFKD"))
    .replace(/[\p{M}'’_]/gu, "")
    .toLowerCase()
}

/** Digits of every script stand in tens, each ten in order. */
export function digitsFolded(text: string): string {
  return text.replace(/(?![0-9])\p{Nd}/gu, (digit) => {
    const code = digit.codePointAt(0)!
    // The zero of its ten is the last code below it that is no digit, and one.
    let zero = code
    while (code - zero < 9 && /\p{Nd}/u.test(String.fromCodePoint(zero - 1))) zero--
    return String((code - zero) % 10)
  })
}

/** "3", "-2", "3.5", "3,5" and "1,250" are numbers; "1.2.3" is none. */
export function readNumber(given: string): number | undefined {
  const word = digitsFolded(given)
  if (/^[-+]?\d{1,3}(,\d{3})+(\.\d+)?$/.test(word)) return Number(word.replaceAll(",", ""))
  if (/^[-+]?\d+([.,]\d+)?$/.test(word)) return Number(word.replace(",", "."))
  return undefined
}
