import { Misspelt } from "./misspelt.ts"
import type { Phrase, SlotType, WordList } from "./read.ts"
import { isSlotType } from "./read.ts"
import type { Misspelling, Span } from "./spans.ts"
import type { Word } from "./words.ts"

/** One step of a compiled phrase. `next` are the steps that follow, the preferred one first. */
type Step =
  /** `near`: of a word of a mapping, one edit is forgiven. */
  | { does: "word"; word: string; near: boolean; next: number }
  /** Any word: of a slot that takes one or several, or one that does not matter. */
  | { does: "any"; slot: string | undefined; opens: boolean; next: number }
  /** Words that are one thing of a type. */
  | { does: "span"; type: Span["type"]; slot: string; next: number }
  | { does: "fork"; next: number[] }
  | { does: "open"; slot: string; next: number }
  | { does: "close"; next: number }
  | { does: "value"; value: string; next: number }
  | { does: "accept"; phrase: number }

/** What was said, read for phrases. */
export interface SaidWords {
  text: string
  words: Word[]
  spans: Span[]
}

/** Steps that all phrases of a bot may come to. */
const mostSteps = 2_000_000
/** Words of a text at which those of a large mapping may begin. */
const mostListed = 300
/** Sets of steps that are kept. */
const mostSets = 5000

/**
 * All phrases of a bot in one automaton. `matching` walks it by sets of steps that are worked out once and kept, so a
 * decision costs one look-up a word, however many phrases there are. Words that are one thing of a type, such as a date,
 * lead from the first of them past the last.
 */
export class PhraseAutomaton {
  /** The types that any phrase asks for. */
  readonly types = new Set<SlotType>()
  private readonly lists = new Map<string, ListAutomaton>()
  private readonly steps: Step[] = []
  private readonly starts: number[] = []
  private readonly vocabulary = new Set<string>()
  private readonly misspelt = new Misspelt()
  private sets = new Map<string, StepSet>()
  private first: StepSet | undefined

  /** @param phrases with their rules written out */
  constructor(phrases: Phrase[]) {
    phrases.forEach((phrase, at) => {
      this.starts.push(this.compile(phrase, this.add({ does: "accept", phrase: at }), false))
    })
  }

  get size(): number {
    return this.steps.length
  }

  /** The words of large mappings in a text, each with what it means: read once, for all phrases that refer to one. */
  listed(words: Word[], text: string): Span[] {
    const known = (word: string) => this.vocabulary.has(word)
    return [...this.lists.values()].flatMap((list) => list.spans(words, text, known))
  }

  /**
   * What is accepted that begins with a word, and behind which word it ends; the words that were read as others with it.
   *
   * @param known words that are never read as another
   */
  beginningAt(from: number, words: Word[], known: (word: string) => boolean): Beginning[] {
    const found: Beginning[] = []
    const misspelt: { word: number; meant: string }[] = []
    let set = (this.first ??= this.setOf(this.starts))
    for (let at = from; at < words.length && set.steps.length > 0; at++) {
      const { folded } = words[at]!
      const own = this.vocabulary.has(folded)
      const meant = own || known(folded) ? undefined : this.meant(words[at]!)
      if (!own && meant === undefined) break
      const key = meant === undefined ? folded : `~${meant}`
      let next = set.after.get(key)
      if (next === undefined) set.after.set(key, (next = this.setOf(this.advance(set, folded, meant))))
      if (meant !== undefined) misspelt.push({ word: at, meant })
      if (next.accepts.size > 0) found.push({ phrase: Math.min(...next.accepts), to: at + 1, misspelt: [...misspelt] })
      set = next
    }
    return found
  }

  /** The phrases, by their place in the list, that match the whole of what was said. */
  matching({ words, spans }: SaidWords): ReadonlySet<number> {
    if (words.length === 0) return none
    // Every text with words of its own can add sets; starting over bounds the memory.
    if (this.sets.size > mostSets) {
      this.sets = new Map()
      this.first = undefined
    }
    const from = byStart(spans)
    /** The sets that a way leads to, by the word before which they stand. */
    const at: StepSet[][] = Array.from({ length: words.length + 1 }, () => [])
    at[0]!.push((this.first ??= this.setOf(this.starts)))
    for (let i = 0; i < words.length; i++) {
      const here = this.merged(at[i]!)
      if (!here) continue
      const { folded } = words[i]!
      const meant = this.vocabulary.has(folded) ? undefined : this.meant(words[i]!)
      const key = meant !== undefined ? `~${meant}` : this.vocabulary.has(folded) ? folded : anyWord
      this.lead(here, key, () => this.advance(here, folded, meant), at[i + 1]!)
      for (const { type, to } of from.get(i) ?? [])
        this.lead(here, ` ${type}`, () => here.steps.flatMap((step) => this.past(step, type)), at[to]!)
    }
    return this.merged(at[words.length]!)?.accepts ?? none
  }

  /** What one phrase's slots hold, or where the text leaves the phrase. Takes time linear in the text. */
  run(phrase: number, { words, spans, text }: SaidWords): PhraseRun {
    const from = byStart(spans)
    const at: Thread[][] = Array.from({ length: words.length + 1 }, () => [])
    at[0] = this.spread([{ at: this.starts[phrase]!, slots: undefined, open: undefined, misspelt: undefined }], 0)
    let last = 0
    for (let i = 0; i < words.length; i++) {
      const threads = this.spread(at[i]!, i)
      at[i] = threads
      if (threads.length > 0) last = i
      const word = words[i]!
      const meant = this.vocabulary.has(word.folded) ? undefined : this.meant(word)
      for (const thread of threads) {
        const step = this.steps[thread.at]!
        if (step.does === "span")
          for (const span of from.get(i) ?? [])
            if (span.type === step.type)
              at[span.to]!.push({
                ...thread,
                at: step.next,
                slots: filled(thread, step.slot, i, span.to, span.value),
                misspelt: (span.misspelt ?? []).reduce(noted, thread.misspelt),
              })
        if (step.does === "word" && step.word === word.folded) at[i + 1]!.push({ ...thread, at: step.next })
        else if (step.does === "word" && step.near && step.word === meant)
          at[i + 1]!.push({
            ...thread,
            at: step.next,
            misspelt: noted(thread.misspelt, { said: text.slice(word.start, word.end), meant }),
          })
        if (step.does === "any") at[i + 1]!.push({ ...thread, at: step.next, slots: taken(thread, step, i) })
      }
    }
    const threads = this.spread(at[words.length]!, words.length)
    const done = threads.find((thread) => this.steps[thread.at]!.does === "accept")
    if (done) return { matches: true, slots: readSlots(done.slots, words, text), misspelt: readMisspelt(done) }
    const reached = threads.length > 0 ? words.length : last
    return { matches: false, stoppedAt: reached, wanted: this.wanted(threads.length > 0 ? threads : at[last]!) }
  }

  /** What a word was meant as, where it is misspelt and one word of a mapping is near. */
  private meant({ folded }: Word): string | undefined {
    return this.misspelt.meant(folded)
  }

  private add(step: Step): number {
    if (this.steps.length >= mostSteps) throw new Error(`the phrases come to more than ${mostSteps} steps`)
    return this.steps.push(step) - 1
  }

  /**
   * Compiles back to front: the steps of `phrase`, then `next`. Gives the first step.
   *
   * @param near whether one edit of a word is forgiven: it is one of a mapping's
   */
  private compile(phrase: Phrase, next: number, near: boolean): number {
    switch (phrase.is) {
      case "word":
        this.vocabulary.add(phrase.word)
        if (near) this.misspelt.add(phrase.word)
        return this.add({ does: "word", word: phrase.word, near, next })
      case "sequence":
        return phrase.items.reduceRight((after, item) => this.compile(item, after, near), next)
      case "oneOf":
        return this.add({ does: "fork", next: phrase.options.map((option) => this.compile(option, next, near)) })
      case "repeat": {
        let after = next
        for (let n = phrase.to; n > 0; n--) {
          const once = this.compile(phrase.item, after, near)
          after = n > phrase.from ? this.add({ does: "fork", next: [once, next] }) : once
        }
        return after
      }
      case "capture":
        return this.add({
          does: "open",
          slot: phrase.slot,
          next: this.compile(phrase.item, this.add({ does: "close", next }), near),
        })
      case "value":
        return this.add({ does: "value", value: phrase.value, next: this.compile(phrase.item, next, true) })
      case "garbage": {
        const loop = this.add({ does: "fork", next: [next] })
        this.alsoTo(loop, this.add({ does: "any", slot: undefined, opens: false, next: loop }))
        return loop
      }
      case "type":
        return this.compileType(phrase, next)
      case "listed": {
        const { rule } = phrase.list
        if (!this.lists.has(rule)) this.lists.set(rule, new ListAutomaton(phrase.list))
        return this.add({ does: "span", type: `$${rule}`, slot: phrase.slot, next })
      }
      case "rule":
        throw new Error(`the rule ${phrase.rule} was not written out`)
    }
  }

  private compileType({ type, slot }: Phrase & { is: "type" }, next: number): number {
    if (type === "word") return this.add({ does: "any", slot, opens: true, next })
    if (type !== "text") {
      this.types.add(type)
      return this.add({ does: "span", type, slot, next })
    }
    // It takes one word, then as few more as the rest of the phrase allows.
    const loop = this.add({ does: "fork", next: [next] })
    this.alsoTo(loop, this.add({ does: "any", slot, opens: false, next: loop }))
    return this.add({ does: "any", slot, opens: true, next: loop })
  }

  private alsoTo(fork: number, step: number): void {
    ;(this.steps[fork] as Step & { does: "fork" }).next.push(step)
  }

  /** Where a word leads from a set: looked up, since the first sets of ten thousand phrases have as many steps. */
  private advance(set: StepSet, folded: string, meant: string | undefined): number[] {
    const { words, any } = (set.leads ??= this.leadsOf(set.steps))
    const near = meant === undefined ? [] : (words.get(meant) ?? []).filter((step) => step.near)
    return [...any, ...[...(words.get(folded) ?? []), ...near].map((step) => step.next)]
  }

  private leadsOf(steps: number[]): Leads {
    const leads: Leads = { words: new Map(), any: [] }
    for (const at of steps) {
      const step = this.steps[at]!
      if (step.does === "any") leads.any.push(step.next)
      if (step.does !== "word") continue
      const same = leads.words.get(step.word)
      if (same) same.push(step)
      else leads.words.set(step.word, [step])
    }
    return leads
  }

  private past(at: number, type: Span["type"]): number[] {
    const step = this.steps[at]!
    return step.does === "span" && step.type === type ? [step.next] : []
  }

  /** Follows a set by a key, once worked out, and puts where it leads. */
  private lead(from: StepSet, key: string, work: () => number[], to: StepSet[]): void {
    let next = from.after.get(key)
    if (next === undefined) from.after.set(key, (next = this.setOf(work())))
    if (next.steps.length > 0) to.push(next)
  }

  /** Several ways may lead before one word. */
  private merged(sets: StepSet[]): StepSet | undefined {
    const [one, other] = sets
    if (other === undefined) return one
    return this.setOf([...new Set(sets.flatMap((set) => set.steps))])
  }

  private setOf(from: number[]): StepSet {
    const threads = from.map((at): Thread => ({ at, slots: undefined, open: undefined, misspelt: undefined }))
    const steps = this.spread(threads, 0).map((thread) => thread.at)
    const key = [...steps].sort((a, b) => a - b).join(" ")
    const known = this.sets.get(key)
    if (known) return known
    const accepts = new Set<number>()
    for (const at of steps) {
      const step = this.steps[at]!
      if (step.does === "accept") accepts.add(step.phrase)
    }
    const made: StepSet = { steps, accepts, after: new Map() }
    this.sets.set(key, made)
    return made
  }

  /** Follows what takes no word; each step is kept once, for the thread that prefers it most. */
  private spread(threads: Thread[], at: number): Thread[] {
    const seen = new Set<number>()
    const out: Thread[] = []
    const open = [...threads].reverse()
    while (open.length > 0) {
      const thread = open.pop()!
      if (seen.has(thread.at)) continue
      seen.add(thread.at)
      const step = this.steps[thread.at]!
      switch (step.does) {
        case "fork":
          for (const next of [...step.next].reverse()) open.push({ ...thread, at: next })
          break
        case "open":
          open.push({ ...thread, at: step.next, open: { slot: step.slot, from: at, before: thread.open } })
          break
        case "value":
          open.push({
            ...thread,
            at: step.next,
            ...(thread.open ? { open: { ...thread.open, value: step.value } } : {}),
          })
          break
        case "close":
          open.push(closed(thread, step.next, at))
          break
        default:
          out.push(thread)
      }
    }
    return out
  }

  private wanted(threads: Thread[]): string[] {
    const wishes = threads.map((thread) => {
      const step = this.steps[thread.at]!
      if (step.does === "word") return `"${step.word}"`
      if (step.does === "span") return isSlotType(step.type) ? slotWish[step.type] : `one of ${step.type}`
      if (step.does === "any") return step.slot === undefined ? "anything" : "some text"
      return "the end"
    })
    return [...new Set(wishes)]
  }
}

/** A list's own automaton, and what each of its entries means. */
class ListAutomaton {
  private readonly automaton: PhraseAutomaton

  constructor(private readonly list: WordList) {
    this.automaton = new PhraseAutomaton(
      list.entries.map(({ value, phrase }): Phrase => ({ is: "value", value, item: phrase })),
    )
  }

  spans(words: Word[], text: string, known: (word: string) => boolean): Span[] {
    const { rule, entries } = this.list
    return words.slice(0, mostListed).flatMap((_word, from) =>
      this.automaton.beginningAt(from, words, known).map(({ phrase, to, misspelt }): Span => {
        const span: Span = { type: `$${rule}`, from, to, value: entries[phrase]!.value }
        if (misspelt.length > 0)
          span.misspelt = misspelt.map(({ word, meant }) => ({
            said: text.slice(words[word]!.start, words[word]!.end),
            meant,
          }))
        return span
      }),
    )
  }
}

interface Beginning {
  phrase: number
  to: number
  misspelt: { word: number; meant: string }[]
}

export type PhraseRun =
  | { matches: true; slots: { [name: string]: string | number }; misspelt: Misspelling[] }
  /** The word, counted from 0, at which the text leaves the phrase, and what would have fitted there. */
  | { matches: false; stoppedAt: number; wanted: string[] }

/** Where the steps of a set lead, by the word; and with any. */
interface Leads {
  words: Map<string, (Step & { does: "word" })[]>
  any: number[]
}

interface StepSet {
  leads?: Leads
  steps: number[]
  accepts: ReadonlySet<number>
  after: Map<string, StepSet>
}

interface Thread {
  at: number
  slots: SlotTaken | undefined
  /** Slots whose words are still coming. */
  open: { slot: string; from: number; value?: string; before: Thread["open"] } | undefined
  misspelt: Noted | undefined
}

/** What was read as another word, the last first. */
interface Noted extends Misspelling {
  before: Noted | undefined
}

interface SlotTaken {
  name: string
  /** The first word, and the one behind the last. */
  from: number
  to: number
  value: string | number | undefined
  before: SlotTaken | undefined
}

const none: ReadonlySet<number> = new Set()
/** Stands for every word that no phrase names. */
const anyWord = " word"

const slotWish: Record<SlotType, string> = {
  word: "a word",
  text: "some text",
  number: "a number",
  integer: "a whole number",
  date: "a date",
  time: "a time",
  phone: "a telephone number",
  email: "an email address",
}

function byStart(spans: Span[]): Map<number, Span[]> {
  const from = new Map<number, Span[]>()
  for (const span of spans) from.set(span.from, [...(from.get(span.from) ?? []), span])
  return from
}

function filled(thread: Thread, name: string, from: number, to: number, value?: string | number): SlotTaken {
  return { name, from, to, value, before: thread.slots }
}

/** One word more for a slot: its first, or one that is added to what it has. */
function taken(thread: Thread, step: Step & { does: "any" }, at: number): SlotTaken | undefined {
  if (step.slot === undefined) return thread.slots
  if (step.opens || !thread.slots) return filled(thread, step.slot, at, at + 1)
  return { ...thread.slots, to: at + 1 }
}

/** A slot whose words have all come; one that took none is not filled. */
function closed(thread: Thread, next: number, at: number): Thread {
  const { open } = thread
  if (!open) return { ...thread, at: next }
  const slots = at > open.from ? filled(thread, open.slot, open.from, at, open.value) : thread.slots
  return { ...thread, at: next, slots, open: open.before }
}

function readSlots(taken: SlotTaken | undefined, words: Word[], text: string): { [name: string]: string | number } {
  const slots: { [name: string]: string | number } = {}
  for (let slot = taken; slot !== undefined; slot = slot.before)
    slots[slot.name] ??= slot.value ?? text.slice(words[slot.from]!.start, words[slot.to - 1]!.end)
  return slots
}

function noted(before: Noted | undefined, { said, meant }: Misspelling): Noted {
  return { said, meant, before }
}

function readMisspelt(thread: Thread): Misspelling[] {
  const found: Misspelling[] = []
  for (let one = thread.misspelt; one !== undefined; one = one.before)
    found.unshift({ said: one.said, meant: one.meant })
  return found
}
