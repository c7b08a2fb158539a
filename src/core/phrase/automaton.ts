import type { Phrase, SlotType } from "./read.ts"
import type { Word } from "./words.ts"

/** One step of a compiled phrase. `next` are the steps that follow, the preferred one first. */
type Step =
  | { does: "word"; word: string; next: number }
  | { does: "slot"; type: SlotType; name: string; opens: boolean; next: number }
  | { does: "fork"; next: number[] }
  | { does: "accept"; phrase: number }

/**
 * All phrases of a bot in one automaton. `matching` walks it by sets of steps that are worked out once and kept, so a
 * decision costs one look-up a word, however many phrases there are.
 */
export class PhraseAutomaton {
  private readonly steps: Step[] = []
  private readonly starts: number[] = []
  private readonly vocabulary = new Set<string>()
  private sets = new Map<string, StepSet>()
  private first: StepSet | undefined

  constructor(phrases: Phrase[]) {
    phrases.forEach((phrase, at) => {
      this.starts.push(this.compile(phrase, this.add({ does: "accept", phrase: at })))
    })
  }

  /** The phrases, by their place in the list, that match the whole of a text. */
  matching(words: Word[]): ReadonlySet<number> {
    if (words.length === 0) return none
    // Every text with words of its own can add sets; starting over bounds the memory.
    if (this.sets.size > 5000) {
      this.sets = new Map()
      this.first = undefined
    }
    let here = (this.first ??= this.setOf(this.starts))
    for (const word of words) {
      const key = this.vocabulary.has(word.folded) ? word.folded : classOf(word)
      let next = here.after.get(key)
      if (next === undefined) {
        next = this.setOf(here.steps.flatMap((at) => this.advance(at, word)))
        here.after.set(key, next)
      }
      if (next.steps.length === 0) return none
      here = next
    }
    return here.accepts
  }

  /** What one phrase's slots hold, or where the text leaves the phrase. Runs in time linear in the text. */
  run(phrase: number, words: Word[], text: string): PhraseRun {
    let threads = this.spread([{ at: this.starts[phrase]!, slots: undefined }])
    for (let i = 0; i < words.length; i++) {
      const moved: Thread[] = []
      for (const thread of threads) {
        const step = this.steps[thread.at]!
        if (step.does === "word" && step.word === words[i]!.folded) moved.push({ at: step.next, slots: thread.slots })
        if (step.does === "slot" && takes(step.type, words[i]!)) {
          const open =
            !step.opens && thread.slots
              ? { ...thread.slots, to: i }
              : { name: step.name, type: step.type, from: i, to: i, before: thread.slots }
          moved.push({ at: step.next, slots: open })
        }
      }
      const next = this.spread(moved)
      if (next.length === 0) return { matches: false, stoppedAt: i, wanted: this.wanted(threads) }
      threads = next
    }
    const done = threads.find((thread) => this.steps[thread.at]!.does === "accept")
    if (!done) return { matches: false, stoppedAt: words.length, wanted: this.wanted(threads) }
    return { matches: true, slots: readSlots(done.slots, words, text) }
  }

  private add(step: Step): number {
    return this.steps.push(step) - 1
  }

  /** Compiles back to front: the steps of `phrase`, then `next`. Gives the first step. */
  private compile(phrase: Phrase, next: number): number {
    switch (phrase.is) {
      case "word":
        this.vocabulary.add(phrase.word)
        return this.add({ does: "word", word: phrase.word, next })
      case "sequence":
        return phrase.items.reduceRight((after, item) => this.compile(item, after), next)
      case "oneOf":
        return this.add({ does: "fork", next: phrase.options.map((option) => this.compile(option, next)) })
      case "slot": {
        const { type, name } = phrase
        if (type !== "text") return this.add({ does: "slot", type, name, opens: true, next })
        // A text slot takes one word, then as few more as the rest of the phrase allows.
        const loop = this.add({ does: "fork", next: [next] })
        const more = this.add({ does: "slot", type, name, opens: false, next: loop })
        ;(this.steps[loop] as Step & { does: "fork" }).next.push(more)
        return this.add({ does: "slot", type, name, opens: true, next: loop })
      }
    }
  }

  private advance(at: number, word: Word): number[] {
    const step = this.steps[at]!
    if (step.does === "word") return step.word === word.folded ? [step.next] : []
    if (step.does === "slot") return takes(step.type, word) ? [step.next] : []
    return []
  }

  private setOf(from: number[]): StepSet {
    const steps = this.spread(from.map((at) => ({ at, slots: undefined }))).map((thread) => thread.at)
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

  /** Follows the forks; each step is kept once, for the thread that prefers it most. */
  private spread(threads: Thread[]): Thread[] {
    const seen = new Set<number>()
    const out: Thread[] = []
    const open = [...threads].reverse()
    while (open.length > 0) {
      const thread = open.pop()!
      if (seen.has(thread.at)) continue
      seen.add(thread.at)
      const step = this.steps[thread.at]!
      if (step.does !== "fork") out.push(thread)
      else for (const next of [...step.next].reverse()) open.push({ at: next, slots: thread.slots })
    }
    return out
  }

  private wanted(threads: Thread[]): string[] {
    const wishes = threads.map((thread) => {
      const step = this.steps[thread.at]!
      if (step.does === "word") return `"${step.word}"`
      if (step.does === "slot") return slotWish[step.type]
      return "the end"
    })
    return [...new Set(wishes)]
  }
}

export type PhraseRun =
  | { matches: true; slots: { [name: string]: string | number } }
  /** The word, counted from 0, at which the text leaves the phrase, and what would have fitted there. */
  | { matches: false; stoppedAt: number; wanted: string[] }

interface StepSet {
  steps: number[]
  accepts: ReadonlySet<number>
  after: Map<string, StepSet>
}

interface Thread {
  at: number
  slots: SlotTaken | undefined
}

interface SlotTaken {
  name: string
  type: SlotType
  from: number
  to: number
  before: SlotTaken | undefined
}

const none: ReadonlySet<number> = new Set()
const slotWish: Record<SlotType, string> = {
  word: "a word",
  text: "some text",
  number: "a number",
  integer: "a whole number",
}

function takes(type: SlotType, word: Word): boolean {
  if (type === "number") return word.value !== undefined
  if (type === "integer") return word.value !== undefined && Number.isInteger(word.value)
  return true
}

function classOf(word: Word): string {
  if (word.value === undefined) return " word"
  return Number.isInteger(word.value) ? " integer" : " number"
}

function readSlots(taken: SlotTaken | undefined, words: Word[], text: string): { [name: string]: string | number } {
  const slots: { [name: string]: string | number } = {}
  for (let slot = taken; slot !== undefined; slot = slot.before) {
    const numeric = slot.type === "number" || slot.type === "integer"
    slots[slot.name] ??= numeric ? words[slot.from]!.value! : text.slice(words[slot.from]!.start, words[slot.to]!.end)
  }
  return slots
}
