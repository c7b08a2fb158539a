import type { Phrase, SlotType } from "./read.ts"

/** What leads from one place of a phrase to the next: a word, any word, or words that are one thing of a type. */
type Step =
  | { on: "word"; word: string; to: number }
  | { on: "any"; to: number }
  | { on: "type"; type: string; sample: string; to: number }

/** A phrase as places and the steps between them. */
interface Net {
  steps: Step[][]
  /** Places that are reached without a word. */
  freely: number[][]
  start: number
  end: number
}

/** How many pairs of places may still be looked at; counted down. */
export interface Budget {
  left: number
}

/** Places of one phrase, written out. */
const largest = 20_000

/** A phrase's net; undefined where it is too large to be compared. */
export function netOf(phrases: Phrase[]): Net | undefined {
  const net: Net = { steps: [[], []], freely: [[], []], start: 0, end: 1 }
  for (const phrase of phrases) if (!build(net, phrase, net.start, net.end)) return undefined
  return net
}

function place(net: Net): number {
  net.freely.push([])
  return net.steps.push([]) - 1
}

function build(net: Net, phrase: Phrase, from: number, to: number): boolean {
  if (net.steps.length > largest) return false
  switch (phrase.is) {
    case "word":
      net.steps[from]!.push({ on: "word", word: phrase.word, to })
      return true
    case "garbage": {
      net.steps[from]!.push({ on: "any", to: from })
      net.freely[from]!.push(to)
      return true
    }
    case "type":
      if (phrase.type === "word") net.steps[from]!.push({ on: "any", to })
      else if (phrase.type === "text") {
        const loop = place(net)
        net.steps[from]!.push({ on: "any", to: loop })
        net.steps[loop]!.push({ on: "any", to: loop })
        net.freely[loop]!.push(to)
      } else net.steps[from]!.push({ on: "type", type: phrase.type, sample: samples[phrase.type], to })
      return true
    case "listed": {
      const { rule, entries } = phrase.list
      const first = netOf([entries[0]!.phrase])
      net.steps[from]!.push({ on: "type", type: `$${rule}`, sample: first ? sampleOf(first) : "", to })
      return true
    }
    case "sequence": {
      let at = from
      if (phrase.items.length === 0) net.freely[from]!.push(to)
      return phrase.items.every((item, n) => {
        const next = n === phrase.items.length - 1 ? to : place(net)
        // A place of its own, so that a loop in one item cannot be entered again from the one before.
        const begin = place(net)
        net.freely[at]!.push(begin)
        at = next
        return build(net, item, begin, next)
      })
    }
    case "oneOf":
      return phrase.options.every((option) => {
        const begin = place(net)
        net.freely[from]!.push(begin)
        return build(net, option, begin, to)
      })
    case "repeat": {
      let at = from
      for (let n = 0; n < phrase.to; n++) {
        const next = place(net)
        const begin = place(net)
        net.freely[at]!.push(begin)
        if (n >= phrase.from) net.freely[at]!.push(to)
        if (!build(net, phrase.item, begin, next)) return false
        at = next
      }
      net.freely[at]!.push(to)
      return true
    }
    case "capture":
    case "value":
      return build(net, phrase.item, from, to)
    case "rule":
      throw new Error(`the rule ${phrase.rule} was not written out`)
  }
}

/** Places reached without a word, in order. */
function closure(net: Net, places: Iterable<number>): number[] {
  const seen = new Set(places)
  for (const at of seen) for (const next of net.freely[at]!) seen.add(next)
  return [...seen].sort((a, b) => a - b)
}

function anyWord(net: Net, places: number[]): number[] {
  return closure(
    net,
    places.flatMap((at) => net.steps[at]!.flatMap((step) => (step.on === "any" ? [step.to] : []))),
  )
}

/** Places that any number of words lead to, one at least: as far as that is certain. */
function anyWords(net: Net, places: number[]): number[] {
  let kept = anyWord(net, places)
  for (;;) {
    const again = new Set(anyWord(net, kept))
    const still = kept.filter((at) => again.has(at))
    if (still.length === kept.length) return kept
    kept = still
  }
}

/** Where a step of another phrase certainly leads: what a type may be said with is not known. */
function follow(net: Net, places: number[], step: Step): number[] {
  if (step.on === "any") return anyWord(net, places)
  if (step.on === "word") {
    const number = /^\d+$/.test(step.word)
    const to = places.flatMap((at) =>
      net.steps[at]!.flatMap((own) => {
        const takes =
          own.on === "any" ||
          (own.on === "word" ? own.word === step.word : number && (own.type === "integer" || own.type === "number"))
        return takes ? [own.to] : []
      }),
    )
    return closure(net, to)
  }
  const same = places.flatMap((at) =>
    net.steps[at]!.flatMap((own) =>
      own.on === "type" && (own.type === step.type || (own.type === "number" && step.type === "integer"))
        ? [own.to]
        : [],
    ),
  )
  return closure(net, [...same, ...anyWords(net, places)])
}

/** How far one phrase may be told to take what another takes. */
export type Inclusion =
  | { is: "all" }
  /** A text that only the inner phrase takes, as far as the nets tell. */
  | { is: "some"; samples: string[] }
  /** It is too large to tell. */
  | { is: "unknown" }

/** Samples tried before an answer is given up. */
const mostSamples = 12

/** Whether everything the inner phrase takes is taken by the outer too; words that are misspelt count for nothing. */
export function includes(outer: Net, inside: Net, budget: Budget): Inclusion {
  const samples: string[] = []
  const start = { at: inside.start, set: closure(outer, [outer.start]), said: [] as string[] }
  const seen = new Set<string>()
  const open: { at: number; set: number[]; said: string[] }[] = [start]
  for (let next = open.shift(); next !== undefined; next = open.shift()) {
    const { at, set, said } = next
    if ((budget.left -= 1 + set.length / 10) < 0) return { is: "unknown" }
    // Before what is known is left out: two words that lead to the same place are two samples.
    if (at === inside.end && said.length > 0 && !set.includes(outer.end)) {
      samples.push(said.join(" "))
      if (samples.length >= mostSamples) break
    }
    const key = `${at} ${set.join(" ")}`
    if (seen.has(key)) continue
    seen.add(key)
    for (const free of inside.freely[at]!) open.push({ at: free, set, said })
    for (const step of inside.steps[at]!)
      open.push({ at: step.to, set: follow(outer, set, step), said: [...said, wordFor(step)] })
  }
  return samples.length === 0 ? { is: "all" } : { is: "some", samples }
}

/** Texts that both phrases take, as far as the nets tell; the shortest first. */
export function inBoth(one: Net, other: Net, budget: Budget): string[] {
  const found: string[] = []
  const seen = new Set<string>()
  const open: { a: number; b: number; said: string[] }[] = [{ a: one.start, b: other.start, said: [] }]
  for (let next = open.shift(); next !== undefined; next = open.shift()) {
    const { a, b, said } = next
    const key = `${a} ${b}`
    if (seen.has(key)) continue
    seen.add(key)
    if (--budget.left < 0) break
    if (a === one.end && b === other.end && said.length > 0) {
      found.push(said.join(" "))
      if (found.length >= 3) break
    }
    for (const free of one.freely[a]!) open.push({ a: free, b, said })
    for (const free of other.freely[b]!) open.push({ a, b: free, said })
    for (const step of one.steps[a]!)
      for (const own of other.steps[b]!) {
        const word = sharedWord(step, own)
        if (word !== undefined) open.push({ a: step.to, b: own.to, said: [...said, word] })
      }
  }
  return found
}

/** A word, or words of a type, that both steps take. */
function sharedWord(one: Step, other: Step): string | undefined {
  if (one.on === "any") return wordFor(other)
  if (other.on === "any") return wordFor(one)
  if (one.on === "word" && other.on === "word") return one.word === other.word ? one.word : undefined
  if (one.on === "type" && other.on === "type") {
    if (one.type === other.type) return wordFor(one)
    const types = [one.type, other.type]
    return types.includes("integer") && types.includes("number") ? samples.integer : undefined
  }
  const [word, type] = one.on === "word" ? [one.word, other] : [(other as Step & { on: "word" }).word, one]
  const number = type.on === "type" && (type.type === "integer" || type.type === "number")
  return number && /^\d+$/.test(word) ? word : undefined
}

/** The shortest text that a phrase takes. */
export function sampleOf(net: Net): string {
  const seen = new Set<number>()
  const open: { at: number; said: string[] }[] = [{ at: net.start, said: [] }]
  for (let next = open.shift(); next !== undefined; next = open.shift()) {
    const { at, said } = next
    if (at === net.end && said.length > 0) return said.join(" ")
    if (seen.has(at)) continue
    if (at !== net.end) seen.add(at)
    // The first option stays first.
    for (const free of [...net.freely[at]!].reverse()) open.unshift({ at: free, said })
    for (const step of net.steps[at]!) open.push({ at: step.to, said: [...said, wordFor(step)] })
  }
  return ""
}

const samples: Record<SlotType, string> = {
  word: "something",
  text: "something",
  number: "2.5",
  integer: "2",
  date: "2026-12-24",
  time: "14:20",
  phone: "+442079460018",
  email: "ada@example.org",
}

function wordFor(step: Step): string {
  if (step.on === "word") return step.word
  return step.on === "any" ? samples.word : step.sample
}
