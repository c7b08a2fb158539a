import { nearest } from "../gateway/nearest.ts"
import type { Phrase, WordList } from "./read.ts"
import { isSlotType, PhraseError, readPhrase, shownPhrase, slotTypes } from "./read.ts"

/** A bot's own rules: a phrase, or words on the left whose phrases stand on the right. */
export interface Rules {
  [name: string]: string | { [value: string]: string | string[] }
}

/** A fault in a rule, and in which of its entries. */
export class RuleError extends Error {
  constructor(
    readonly path: string[],
    message: string,
  ) {
    super(message)
  }
}

/** Steps that one phrase may come to, its rules written out. */
const mostParts = 50_000

/** Entries from which a mapping is looked for once in a text, rather than written out where it is referred to. */
const manyEntries = 100
/** Parts of all entries of one mapping. */
const mostListed = 500_000

/** Rules, read: each as the phrase that its references stand for. */
export class RuleBook {
  private readonly read = new Map<string, Phrase>()
  private readonly lists = new Map<string, WordList>()

  /** Throws a RuleError for the first rule that cannot be read, is named as a type, or leads back to itself. */
  constructor(rules: Rules = {}) {
    for (const [name, given] of Object.entries(rules)) {
      if (isSlotType(name)) throw new RuleError([name], `a rule may not be named as the type $${name}`)
      this.read.set(name, typeof given === "string" ? read([name], given) : mapping(name, given))
    }
    for (const name of this.read.keys()) this.refuseCircles(name, [])
    for (const [name, phrase] of this.read) {
      const list = listOf(name, phrase)
      if (list) this.lists.set(name, list)
    }
  }

  get names(): string[] {
    return [...this.read.keys()]
  }

  /**
   * A phrase with its rules written out. Throws a PhraseError for a rule there is not, a slot that is filled twice on one
   * way, and a phrase that grows too large.
   */
  resolved(phrase: Phrase): Phrase {
    let parts = 0
    const count = (more: number, large: string) => {
      parts += more
      if (parts > mostParts)
        throw new PhraseError(`the phrase comes to more than ${mostParts} parts; ${large} is what makes it so large`, 0)
    }
    const inside = (one: Phrase, large: string): Phrase => {
      count(1, large)
      switch (one.is) {
        case "word":
        case "type":
        case "garbage":
        case "listed":
          return one
        case "rule": {
          const rule = this.read.get(one.rule)
          if (!rule) throw new PhraseError(this.unknown(one.rule), one.at)
          const list = this.lists.get(one.rule)
          if (list) return { is: "listed", list, slot: one.slot }
          return { is: "capture", slot: one.slot, item: inside(rule, `$${one.rule}`) }
        }
        case "sequence":
          return { is: "sequence", items: one.items.map((item) => inside(item, large)) }
        case "oneOf":
          return { is: "oneOf", options: one.options.map((option) => inside(option, large)) }
        case "repeat": {
          const item = inside(one.item, large)
          count(countOf(item) * one.to, `the repeat <${one.from}-${one.to}>`)
          return { ...one, item }
        }
        case "capture":
        case "value":
          return { ...one, item: inside(one.item, large) }
      }
    }
    const resolved = inside(phrase, "what stands in it")
    filledOnce(resolved)
    edges(resolved)
    return resolved
  }

  private unknown(name: string): string {
    const known = [...this.read.keys(), ...slotTypes]
    const near = nearest(name, known)
    return `there is no rule $${name}${near ? `; was $${near} meant?` : `; there are ${known.map((one) => `$${one}`).join(", ")}`}`
  }

  private refuseCircles(name: string, before: string[]): void {
    if (before.includes(name))
      throw new RuleError(
        [name],
        `the rules refer to each other in a circle: ${[...before, name].map((one) => `$${one}`).join(" → ")}`,
      )
    const rule = this.read.get(name)
    if (rule) for (const other of referredTo(rule)) this.refuseCircles(other, [...before, name])
  }
}

function read(path: string[], source: string): Phrase {
  try {
    return readPhrase(source)
  } catch (error) {
    if (!(error instanceof PhraseError)) throw error
    throw new RuleError(path, `"${shownPhrase(source)}" cannot be read: ${error.message}`)
  }
}

function mapping(name: string, given: { [value: string]: string | string[] }): Phrase {
  const options = Object.entries(given).flatMap(([value, phrases]) =>
    [phrases].flat().map((source): Phrase => ({ is: "value", value, item: read([name, value], source) })),
  )
  return options.length === 1 ? options[0]! : { is: "oneOf", options }
}

/** A mapping of very many entries of plain words as a list; undefined for any other rule. */
function listOf(rule: string, phrase: Phrase): WordList | undefined {
  if (phrase.is !== "oneOf" || phrase.options.length < manyEntries) return undefined
  const entries = phrase.options.flatMap((option) =>
    option.is === "value" && isPlain(option.item) ? [{ value: option.value, phrase: option.item }] : [],
  )
  if (entries.length < phrase.options.length) return undefined
  const parts = entries.reduce((sum, entry) => sum + countOf(entry.phrase), 0)
  if (parts > mostListed) throw new RuleError([rule], `the rule ${rule} comes to more than ${mostListed} parts`)
  return { rule, entries }
}

/** Whether a phrase is of words alone. */
function isPlain(phrase: Phrase): boolean {
  switch (phrase.is) {
    case "word":
      return true
    case "sequence":
      return phrase.items.every(isPlain)
    case "oneOf":
      return phrase.options.every(isPlain)
    case "repeat":
      return isPlain(phrase.item)
    default:
      return false
  }
}

function referredTo(phrase: Phrase): string[] {
  switch (phrase.is) {
    case "rule":
      return [phrase.rule]
    case "sequence":
      return phrase.items.flatMap(referredTo)
    case "oneOf":
      return phrase.options.flatMap(referredTo)
    case "repeat":
    case "capture":
    case "value":
      return referredTo(phrase.item)
    default:
      return []
  }
}

/** How many parts a phrase has, its repeats written out. */
export function countOf(phrase: Phrase): number {
  switch (phrase.is) {
    case "sequence":
      return phrase.items.reduce((sum, item) => sum + countOf(item), 1)
    case "oneOf":
      return phrase.options.reduce((sum, option) => sum + countOf(option), 1)
    case "repeat":
      return 1 + countOf(phrase.item) * phrase.to
    case "capture":
    case "value":
      return 2 + countOf(phrase.item)
    default:
      return 1
  }
}

/** The slots a phrase may fill, by name. */
export function slotsOf(phrase: Phrase): string[] {
  switch (phrase.is) {
    case "type":
    case "listed":
    case "rule":
      return [phrase.slot]
    case "sequence":
      return phrase.items.flatMap(slotsOf)
    case "oneOf":
      return phrase.options.flatMap(slotsOf)
    case "capture":
      return [phrase.slot, ...slotsOf(phrase.item)]
    case "repeat":
    case "value":
      return slotsOf(phrase.item)
    default:
      return []
  }
}

/** Throws where one way through a phrase fills a slot twice. Gives the slots that may be filled. */
function filledOnce(phrase: Phrase): Set<string> {
  switch (phrase.is) {
    case "type":
    case "listed":
    case "rule":
      return new Set([phrase.slot])
    case "sequence": {
      const all = new Set<string>()
      for (const item of phrase.items)
        for (const slot of filledOnce(item)) {
          if (all.has(slot)) throw twice(slot)
          all.add(slot)
        }
      return all
    }
    case "oneOf":
      return new Set(phrase.options.flatMap((option) => [...filledOnce(option)]))
    case "repeat": {
      const inner = filledOnce(phrase.item)
      const [slot] = inner
      if (slot !== undefined && phrase.to > 1) throw twice(slot)
      return inner
    }
    case "capture": {
      const inner = filledOnce(phrase.item)
      if (inner.has(phrase.slot)) throw twice(phrase.slot)
      return inner.add(phrase.slot)
    }
    case "value":
      return filledOnce(phrase.item)
    default:
      return new Set()
  }
}

function twice(slot: string): PhraseError {
  return new PhraseError(
    `the slot ${slot} may be filled twice; give each a name of its own, such as $${slot}{from} … $${slot}{to}`,
    0,
  )
}

/** The slots that take any number of words with which a phrase may begin and end, and whether it may be left out. */
interface Edges {
  begins: string[]
  ends: string[]
  empty: boolean
}

/** Throws where one slot for any number of words may follow another: nobody could say where the first ends. */
function edges(phrase: Phrase): Edges {
  const none = { begins: [], ends: [], empty: false }
  switch (phrase.is) {
    case "word":
    case "rule":
    case "listed":
    case "garbage":
      return none
    case "type": {
      const open = phrase.type === "text" ? [phrase.slot] : []
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
    case "repeat": {
      const one = edges(phrase.item)
      if (phrase.to > 1) followedBy(one, one)
      return { ...one, empty: one.empty || phrase.from === 0 }
    }
    case "capture":
    case "value":
      return edges(phrase.item)
  }
}

function followedBy(first: Edges, second: Edges): Edges {
  const [one, other] = [first.ends[0], second.begins[0]]
  if (one !== undefined && other !== undefined)
    throw new PhraseError(
      `the slots ${one} and ${other} follow each other, and each takes any number of words; write a word between them, or take one word for one of them, such as $word{${one}}`,
      0,
    )
  return {
    begins: first.empty ? [...first.begins, ...second.begins] : first.begins,
    ends: second.empty ? [...first.ends, ...second.ends] : second.ends,
    empty: first.empty && second.empty,
  }
}
