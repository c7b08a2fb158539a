import { shorten } from "../message/graphemes.ts"
import { rewritten } from "./oldForm.ts"
import { readWords } from "./words.ts"

/**
 * A phrase, in the ABNF form of the W3C's Speech Recognition Grammar Specification: `[optional]`, `(one | other)`, repeats
 * `<0-2>`, references `$name` to rules and types, tags `{slot}`, `$GARBAGE`. `docs/phrases.md` has the grammar, and where it
 * differs from the standard.
 */
export type Phrase =
  | { is: "word"; word: string }
  /** A type of ours, whose reading fills a slot. */
  | { is: "type"; type: SlotType; slot: string }
  /** A rule of the bot's; without a tag it fills a slot of its own name. */
  | { is: "rule"; rule: string; slot: string; at: number }
  /** A rule of very many words, which are looked for once in a text. */
  | { is: "listed"; list: WordList; slot: string }
  | { is: "garbage" }
  | { is: "sequence"; items: Phrase[] }
  | { is: "oneOf"; options: Phrase[] }
  | { is: "repeat"; item: Phrase; from: number; to: number }
  /** The words of an item, or a value in their place, fill a slot. */
  | { is: "capture"; slot: string; item: Phrase }
  /** What a capture around it holds, in place of the words. */
  | { is: "value"; value: string; item: Phrase }

/** The words of a large mapping: what each phrase means. All references to one rule share one list. */
export interface WordList {
  rule: string
  entries: { value: string; phrase: Phrase }[]
}

export const slotTypes = ["text", "word", "number", "integer", "date", "time", "phone", "email"] as const
export type SlotType = (typeof slotTypes)[number]

/** A phrase that cannot be read: what is wrong, where (counted from 0), and what to write instead. */
export class PhraseError extends Error {
  constructor(
    message: string,
    readonly at: number,
    /** The whole phrase as it is written today, where it is one of the old form. */
    readonly rewritten?: string,
  ) {
    super(message)
  }
}

/** A phrase as a fault shows it: a long one by its beginning. */
export const shownPhrase = (source: string) => shorten(source, 120)

/** Characters of a phrase. */
const longestPhrase = 10_000
/** How often a part may be repeated. */
const mostRepeats = 50
const deepest = 50

export function readPhrase(source: string): Phrase {
  if (source.length > longestPhrase)
    throw new PhraseError(`the phrase has ${source.length} characters; ${longestPhrase} are read`, longestPhrase)
  let phrase: Phrase
  try {
    phrase = new Reader(source).whole()
  } catch (error) {
    if (!(error instanceof PhraseError)) throw error
    const today = /[{[(]/.test(source) ? rewritten(source) : undefined
    // What today's reader cannot read and yesterday's could is of yesterday.
    if (today === undefined || today === source) throw error
    throw new PhraseError(`the form of phrases has changed: write "${today}"`, error.at, today)
  }
  if (matchesNothing(phrase))
    throw new PhraseError(
      "every part of the phrase is optional, so it would match any silence; write at least one word outside [ ]",
      0,
    )
  if (isGarbage(phrase))
    throw new PhraseError("$GARBAGE alone would match everything; write at least one word beside it", 0)
  return phrase
}

const marks = new Set('[](){}<>|$"')
const name = /^[A-Za-z_][A-Za-z0-9_]*/

class Reader {
  private at = 0
  private depth = 0

  constructor(private readonly source: string) {}

  whole(): Phrase {
    const phrase = this.alternatives("")
    if (this.at < this.source.length) throw new PhraseError(`"${this.peek()}" closes nothing`, this.at)
    return phrase
  }

  /** Sequences between bars, up to the closing mark. */
  private alternatives(close: string): Phrase {
    if (++this.depth > deepest) throw new PhraseError(`brackets stand more than ${deepest} deep`, this.at)
    const options = [this.sequence()]
    while (this.peek() === "|") {
      this.at++
      options.push(this.sequence())
    }
    this.depth--
    const found = this.peek()
    if (found !== close) {
      if (found === "") throw new PhraseError(`"${close}" is missing at the end`, this.at)
      throw new PhraseError(close ? `"${close}" was expected, not "${found}"` : `"${found}" closes nothing`, this.at)
    }
    return options.length === 1 ? options[0]! : { is: "oneOf", options }
  }

  private sequence(): Phrase {
    const items: Phrase[] = []
    for (;;) {
      this.skip()
      const next = this.peek()
      if (next === "" || next === "|" || next === "]" || next === ")") break
      items.push(...this.item())
    }
    return items.length === 1 ? items[0]! : { is: "sequence", items }
  }

  /** One part with its repeat and its tag, which bind before all else. */
  private item(): Phrase[] {
    const from = this.at
    const atom = this.atom()
    if (!Array.isArray(atom)) return [this.tagged(this.repeated(atom), from)]
    // Of several words, such as those of "check-in", a repeat or tag is the last one's.
    const last = atom.at(-1)
    if (last === undefined) return []
    return [...atom.slice(0, -1), this.tagged(this.repeated(last), from)]
  }

  private atom(): Phrase | Phrase[] {
    const from = this.at
    switch (this.peek()) {
      case "[":
        return { is: "oneOf", options: [this.bracket("]"), { is: "sequence", items: [] }] }
      case "(":
        return this.bracket(")")
      case "$":
        return this.reference()
      case '"': {
        const end = this.source.indexOf('"', from + 1)
        if (end === -1) throw new PhraseError("a quote is opened and not closed", from)
        this.at = end + 1
        return wordsOf(this.source.slice(from + 1, end))
      }
      case "{":
        throw new PhraseError("a tag {slot} stands after what fills it, such as $text{slot}", from)
      case "<":
        throw new PhraseError("a repeat <0-2> stands after what is repeated", from)
      case "}":
      case ">":
        throw new PhraseError(`"${this.peek()}" closes nothing`, from)
      default:
        return this.letters()
    }
  }

  private bracket(close: string): Phrase {
    const from = this.at
    this.at++
    const inner = this.alternatives(close)
    this.at++
    if (inner.is === "sequence" && inner.items.length === 0)
      throw new PhraseError("there is nothing between the brackets", from)
    this.apart(this.at)
    return inner
  }

  /** `$place`, a rule or a type; `$GARBAGE` for words that do not matter. */
  private reference(): Phrase {
    const from = this.at
    const found = name.exec(this.source.slice(from + 1))?.[0]
    if (found === undefined) throw new PhraseError("$ is followed by the name of a rule or a type, such as $text", from)
    this.at = from + 1 + found.length
    if (found === "GARBAGE") return { is: "garbage" }
    if (found === "NULL" || found === "VOID")
      throw new PhraseError(
        `$${found} is of the standard, and of no use here; write [ ] for what may be left out`,
        from,
      )
    if (isSlotType(found)) return { is: "type", type: found, slot: found }
    return { is: "rule", rule: found, slot: found, at: from }
  }

  private letters(): Phrase[] {
    const from = this.at
    while (this.peek() !== "" && !/\s/.test(this.peek()) && !marks.has(this.peek())) this.at++
    if (/[[(]/.test(this.peek()) && /[\p{L}\p{N}]$/u.test(this.source.slice(from, this.at)))
      throw new PhraseError("a part inside a word is not read; write the words out, such as (seat | seats)", this.at)
    return wordsOf(this.source.slice(from, this.at))
  }

  /** Letters that follow a bracket at once would be a part of a word. */
  private apart(at: number): void {
    if (/^[\p{L}\p{N}]/u.test(this.source.slice(at, at + 2)))
      throw new PhraseError("a part inside a word is not read; write the words out, such as (inbound | outbound)", at)
  }

  private repeated(item: Phrase): Phrase {
    if (this.peek() !== "<") return item
    const from = this.at
    const end = this.source.indexOf(">", from)
    const inside = end === -1 ? "" : this.source.slice(from + 1, end)
    const found = /^(\d+)(?:\s*(-)\s*(\d+)?)?$/.exec(inside.trim())
    if (!found) throw new PhraseError("a repeat is written <2>, <0-2> or <1->", from)
    this.at = end + 1
    const least = Number(found[1])
    const most = found[3] !== undefined ? Number(found[3]) : found[2] ? mostRepeats : least
    if (most < least || most === 0) throw new PhraseError(`<${inside}> repeats nothing`, from)
    if (most > mostRepeats) throw new PhraseError(`<${inside}> repeats more than ${mostRepeats} times`, from)
    return { is: "repeat", item, from: least, to: most }
  }

  private tagged(item: Phrase, from: number): Phrase {
    if (this.peek() !== "{") return item
    const at = this.at
    const end = this.source.indexOf("}", at)
    const inside = end === -1 ? "" : this.source.slice(at + 1, end).trim()
    if (end === -1) throw new PhraseError('"}" is missing after the slot', at)
    if (name.exec(inside)?.[0] !== inside)
      throw new PhraseError(`a tag is the name of a slot, such as {from}, not {${inside}}`, at)
    this.at = end + 1
    if (item.is === "type" || item.is === "rule") return { ...item, slot: inside }
    if (item.is === "garbage") throw new PhraseError("$GARBAGE fills no slot; write $text{…}", from)
    return { is: "capture", slot: inside, item }
  }

  private skip(): void {
    while (/\s/.test(this.peek())) this.at++
  }

  private peek(): string {
    return this.source[this.at] ?? ""
  }
}

function wordsOf(text: string): Phrase[] {
  return readWords(text).map(({ folded }): Phrase => ({ is: "word", word: folded }))
}

export function matchesNothing(phrase: Phrase): boolean {
  switch (phrase.is) {
    case "word":
    case "type":
    case "rule":
    case "listed":
    case "garbage":
      return false
    case "sequence":
      return phrase.items.every(matchesNothing)
    case "oneOf":
      return phrase.options.some(matchesNothing)
    case "repeat":
      return phrase.from === 0 || matchesNothing(phrase.item)
    case "capture":
    case "value":
      return matchesNothing(phrase.item)
  }
}

/** Whether a phrase may be met by words that do not matter, and nothing else. */
function isGarbage(phrase: Phrase): boolean {
  switch (phrase.is) {
    case "garbage":
      return true
    case "word":
    case "type":
    case "listed":
    case "rule":
      return false
    case "sequence":
      return phrase.items.length > 0 && phrase.items.every((item) => isGarbage(item) || matchesNothing(item))
    case "oneOf":
      return phrase.options.some(isGarbage)
    case "repeat":
    case "capture":
    case "value":
      return isGarbage(phrase.item)
  }
}

export function isSlotType(type: string): type is SlotType {
  return (slotTypes as readonly string[]).includes(type)
}
