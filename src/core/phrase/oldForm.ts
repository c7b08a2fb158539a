import { fold, readWords } from "./words.ts"

/** Phrases as they were written up to 0.6: slots `{name as type}`, and optional parts inside words, `seat[s]`. */
type Phrase =
  | { is: "word"; word: string }
  | { is: "slot"; name: string; type: SlotType }
  | { is: "sequence"; items: Phrase[] }
  | { is: "oneOf"; options: Phrase[] }

const slotTypes = ["word", "text", "number", "integer"] as const
type SlotType = (typeof slotTypes)[number]

class NotOldForm extends Error {}

/** The same phrase in the form of today; undefined where it is none of the old form. */
export function rewritten(source: string): string | undefined {
  try {
    return written(new Reader(source).alternatives(""), "top")
  } catch (error) {
    if (error instanceof NotOldForm) return undefined
    throw error
  }
}

/** A phrase as it is written today. */
function written(phrase: Phrase, inside: "top" | "sequence" | "alternatives"): string {
  switch (phrase.is) {
    case "word":
      return phrase.word
    case "slot":
      return phrase.name === phrase.type ? `$${phrase.type}` : `$${phrase.type}{${phrase.name}}`
    case "sequence":
      return phrase.items
        .map((item) => written(item, "sequence"))
        .filter((text) => text !== "")
        .join(" ")
    case "oneOf": {
      const filled = phrase.options.filter((option) => !isEmpty(option))
      const within = filled.length === 1 ? "top" : "alternatives"
      const options = filled.map((option) => written(option, within)).join(" | ")
      if (filled.length < phrase.options.length) return `[${options}]`
      return inside === "top" || filled.length === 1 ? options : `(${options})`
    }
  }
}

function isEmpty(phrase: Phrase): boolean {
  return phrase.is === "sequence" && phrase.items.length === 0
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
      if (found === "") throw new NotOldForm(`"${close}" is missing at the end`)
      throw new NotOldForm(close ? `"${close}" was expected, not "${found}"` : `"${found}" closes nothing`)
    }
    return options.length === 1 ? options[0]! : { is: "oneOf", options }
  }

  private sequence(): Phrase {
    const items: Phrase[] = []
    for (;;) {
      while (/\s/.test(this.peek())) this.at++
      const next = this.peek()
      if (next === "" || next === "|" || next === "]" || next === ")") break
      if (next === "}") throw new NotOldForm('"}" closes nothing')
      items.push(this.run())
    }
    return items.length === 1 ? items[0]! : { is: "sequence", items }
  }

  /** Everything up to the next space: one mark, or pieces glued into a word. */
  private run(): Phrase {
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
    return glued(pieces)
  }

  private bracket(close: string): Phrase {
    this.at++
    const inner = this.alternatives(close)
    this.at++
    if (inner.is === "sequence" && inner.items.length === 0)
      throw new NotOldForm("there is nothing between the brackets")
    return inner
  }

  private slot(): Phrase {
    const from = this.at
    const end = this.source.indexOf("}", from)
    if (end === -1) throw new NotOldForm('"}" is missing after the slot')
    const inside = this.source.slice(from + 1, end).trim()
    const match = /^([A-Za-z_][A-Za-z0-9_]*)(?:\s+as\s+(\S+))?$/.exec(inside)
    if (!match) throw new NotOldForm(`a slot is written {name} or {name as type}, not {${inside}}`)
    const type = match[2] ?? "text"
    if (!isSlotType(type)) throw new NotOldForm(`there is no slot type "${type}"; there are ${slotTypes.join(", ")}`)
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
function glued(pieces: Phrase[]): Phrase {
  // Punctuation glued to brackets, as in "[please]," or "{place}?", is no part of a word.
  const solid = pieces.filter((piece) => !(piece.is === "sequence" && piece.items.length === 0))
  if (solid.length === 1) return solid[0]!
  let spellings = [""]
  for (const piece of solid) {
    const endings = spellingsOf(piece)
    spellings = spellings.flatMap((start) => endings.map((ending) => start + ending))
    if (spellings.length > 64)
      throw new NotOldForm("a word with this many spellings is better written as (one | other)")
  }
  const words = [...new Set(spellings)]
    .filter((word) => word !== "")
    .map((word): Phrase => ({ is: "word", word: fold(word) }))
  return words.length === 1 ? words[0]! : { is: "oneOf", options: words }
}

function spellingsOf(piece: Phrase): string[] {
  switch (piece.is) {
    case "word":
      return [piece.word]
    case "oneOf":
      return piece.options.flatMap((option) => spellingsOf(option))
    case "sequence":
      if (piece.items.length === 0) return [""]
      throw new NotOldForm("a part inside a word may hold letters only; put a space before the bracket")
    case "slot":
      throw new NotOldForm(`the slot {${piece.name}} needs a space before and after it`)
  }
}

function isSlotType(type: string): type is SlotType {
  return (slotTypes as readonly string[]).includes(type)
}
