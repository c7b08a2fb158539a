import { fold, readWords } from "./words.ts"

/**
 * The phrase language: `[optional]`, `(one | other)` and slots `{name as type}`. Grouping, alternatives and optional
 * parts are those of the W3C's Speech Recognition Grammar Specification in its ABNF form. An optional part may stand
 * inside a word: `seat[s]`.
 */
export type Phrase =
  | { is: "word"; word: string }
  | { is: "slot"; name: string; type: SlotType }
  | { is: "sequence"; items: Phrase[] }
  | { is: "oneOf"; options: Phrase[] }

export const slotTypes = ["word", "text", "number", "integer"] as const
export type SlotType = (typeof slotTypes)[number]

/** A phrase that cannot be read: what is wrong, where (counted from 0), and what to write instead. */
export class PhraseError extends Error {
  constructor(
    message: string,
    readonly at: number,
  ) {
    super(message)
  }
}

export function readPhrase(source: string): Phrase {
  const reader = new Reader(source)
  const phrase = reader.alternatives("")
  if (matchesNothing(phrase))
    throw new PhraseError(
      "every part of the phrase is optional, so it would match any silence; write at least one word outside [ ]",
      0,
    )
  edges(phrase)
  return phrase
}

/** The slots that take any number of words with which a phrase may begin and end, and whether it may be left out. */
interface Edges {
  begins: string[]
  ends: string[]
  empty: boolean
}

/** Throws where one slot for any number of words may follow another: nobody could say where the first ends. */
function edges(phrase: Phrase): Edges {
  switch (phrase.is) {
    case "word":
      return { begins: [], ends: [], empty: false }
    case "slot": {
      const open = phrase.type === "text" ? [phrase.name] : []
      return { begins: open, ends: open, empty: false }
    }
    case "oneOf": {
      const each = phrase.options.map(edges)
      return {
        begins: each.flatMap((option) => option.begins),
        ends: each.flatMap((option) => option.ends),
        empty: each.some((option) => option.empty),
      }
    }
    case "sequence":
      return phrase.items.map(edges).reduce(followedBy, { begins: [], ends: [], empty: true })
  }
}

function followedBy(first: Edges, second: Edges): Edges {
  const [one, other] = [first.ends[0], second.begins[0]]
  if (one !== undefined && other !== undefined)
    throw new PhraseError(
      `the slots {${one}} and {${other}} follow each other, and each takes any number of words; write a word between them, or give one of them a type, such as {${one} as word}`,
      0,
    )
  return {
    begins: first.empty ? [...first.begins, ...second.begins] : first.begins,
    ends: second.empty ? [...first.ends, ...second.ends] : second.ends,
    empty: first.empty && second.empty,
  }
}

const marks = new Set("[](){}|")

class Reader {
  private at = 0

  constructor(private readonly source: string) {}

  /** Sequences between bars, up to the closing mark. */
  alternatives(close: string): Phrase {
    const options = [this.sequence()]
    while (this.peek() === "|") {
      this.at++
      options.push(this.sequence())
    }
    if (this.peek() !== close) {
      const found = this.peek()
      if (found === "") throw new PhraseError(`"${close}" is missing at the end`, this.at)
      throw new PhraseError(close ? `"${close}" was expected, not "${found}"` : `"${found}" closes nothing`, this.at)
    }
    return options.length === 1 ? options[0]! : { is: "oneOf", options }
  }

  private sequence(): Phrase {
    const items: Phrase[] = []
    for (;;) {
      while (/\s/.test(this.peek())) this.at++
      const next = this.peek()
      if (next === "" || next === "|" || next === "]" || next === ")") break
      if (next === "}") throw new PhraseError('"}" closes nothing', this.at)
      items.push(this.run())
    }
    return items.length === 1 ? items[0]! : { is: "sequence", items }
  }

  /** Everything up to the next space: one mark, or pieces glued into a word. */
  private run(): Phrase {
    const from = this.at
    const pieces: Phrase[] = []
    for (;;) {
      const next = this.peek()
      if (next === "" || /[\s|\])}]/.test(next)) break
      if (next === "[") pieces.push({ is: "oneOf", options: [this.bracket("]"), { is: "sequence", items: [] }] })
      else if (next === "(") pieces.push(this.bracket(")"))
      else if (next === "{") pieces.push(this.slot())
      else pieces.push(this.letters())
    }
    if (pieces.length === 1) return pieces[0]!
    return glued(pieces, from)
  }

  private bracket(close: string): Phrase {
    const from = this.at
    this.at++
    const inner = this.alternatives(close)
    this.at++
    if (inner.is === "sequence" && inner.items.length === 0)
      throw new PhraseError("there is nothing between the brackets", from)
    return inner
  }

  private slot(): Phrase {
    const from = this.at
    const end = this.source.indexOf("}", from)
    if (end === -1) throw new PhraseError('"}" is missing after the slot', from)
    const inside = this.source.slice(from + 1, end).trim()
    const match = /^([A-Za-z_][A-Za-z0-9_]*)(?:\s+as\s+(\S+))?$/.exec(inside)
    if (!match) throw new PhraseError(`a slot is written {name} or {name as type}, not {${inside}}`, from)
    const type = match[2] ?? "text"
    if (!isSlotType(type))
      throw new PhraseError(`there is no slot type "${type}"; there are ${slotTypes.join(", ")}`, from)
    this.at = end + 1
    return { is: "slot", name: match[1]!, type }
  }

  private letters(): Phrase {
    const from = this.at
    while (this.peek() !== "" && !/\s/.test(this.peek()) && !marks.has(this.peek())) this.at++
    const words = readWords(this.source.slice(from, this.at)).map((word): Phrase => ({ is: "word", word: word.folded }))
    return words.length === 1 ? words[0]! : { is: "sequence", items: words }
  }

  private peek(): string {
    return this.source[this.at] ?? ""
  }
}

/** `seat[s]` and `(in|out)bound` are words with parts: every spelling, as alternatives. */
function glued(pieces: Phrase[], at: number): Phrase {
  // Punctuation glued to brackets, as in "[please]," or "{place}?", is no part of a word.
  const solid = pieces.filter((piece) => !(piece.is === "sequence" && piece.items.length === 0))
  if (solid.length === 1) return solid[0]!
  let spellings = [""]
  for (const piece of solid) {
    const endings = spellingsOf(piece, at)
    spellings = spellings.flatMap((start) => endings.map((ending) => start + ending))
    if (spellings.length > 64)
      throw new PhraseError("a word with this many spellings is better written as (one | other)", at)
  }
  const words = [...new Set(spellings)]
    .filter((word) => word !== "")
    .map((word): Phrase => ({ is: "word", word: fold(word) }))
  return words.length === 1 ? words[0]! : { is: "oneOf", options: words }
}

function spellingsOf(piece: Phrase, at: number): string[] {
  switch (piece.is) {
    case "word":
      return [piece.word]
    case "oneOf":
      return piece.options.flatMap((option) => spellingsOf(option, at))
    case "sequence":
      if (piece.items.length === 0) return [""]
      throw new PhraseError("a part inside a word may hold letters only; put a space before the bracket", at)
    case "slot":
      throw new PhraseError(`the slot {${piece.name}} needs a space before and after it`, at)
  }
}

function matchesNothing(phrase: Phrase): boolean {
  switch (phrase.is) {
    case "word":
    case "slot":
      return false
    case "sequence":
      return phrase.items.every(matchesNothing)
    case "oneOf":
      return phrase.options.some(matchesNothing)
  }
}

function isSlotType(type: string): type is SlotType {
  return (slotTypes as readonly string[]).includes(type)
}

/** The slots a phrase may fill, by name. */
export function slotsOf(phrase: Phrase): string[] {
  switch (phrase.is) {
    case "word":
      return []
    case "slot":
      return [phrase.name]
    case "sequence":
      return phrase.items.flatMap(slotsOf)
    case "oneOf":
      return phrase.options.flatMap(slotsOf)
  }
}
