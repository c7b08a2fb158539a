import { PhraseAutomaton } from "../phrase/automaton.ts"
import { readPhrase } from "../phrase/read.ts"
import { RuleBook } from "../phrase/rules.ts"
import { readSpans } from "../phrase/spans.ts"
import { readNumber, readWords } from "../phrase/words.ts"

/** Something said that no route took. */
export interface Unrouted {
  id: string
  text: string
}

/** What is alike, the first that was said first, and a phrase that takes all of it, where one is found. */
export interface LikeGroup<Item extends Unrouted> {
  items: Item[]
  phrase?: string
}

/** Words of a text that are looked at. */
const mostWords = 30
/** Characters in which they are looked for. */
const looked = 500
/** Groups that one word leads to: a word that stands everywhere tells nothing. */
const mostLed = 40
/** Texts that a phrase is made from. */
const mostAligned = 40
/** Of the weight of two texts' words, what must be in both for them to be alike. */
const alike = 0.5

/** Any number, for comparing. */
const number = "#"

interface Read<Item> {
  item: Item
  words: string[]
}

/** Groups texts by their words: rare ones tell more than those that stand everywhere. The largest group first. */
export function groupsOf<Item extends Unrouted>(items: Item[]): LikeGroup<Item>[] {
  const read = items.map((item) => ({ item, words: wordsOf(item.text) })).filter(({ words }) => words.length > 0)
  const weight = weights(read)
  const groups: { leader: Set<string>; members: Read<Item>[] }[] = []
  const byWord = new Map<string, number[]>()
  for (const one of read) {
    const own = new Set(one.words)
    const near = new Set([...own].flatMap((word) => byWord.get(word) ?? []))
    let best: { group: number; likeness: number } | undefined
    for (const group of near) {
      const likeness = shared(own, groups[group]!.leader, weight)
      if (likeness >= alike && (!best || likeness > best.likeness)) best = { group, likeness }
    }
    if (best) {
      groups[best.group]!.members.push(one)
      continue
    }
    groups.push({ leader: own, members: [one] })
    for (const word of own) {
      const led = byWord.get(word) ?? []
      if (led.length < mostLed) byWord.set(word, [...led, groups.length - 1])
    }
  }
  return groups
    .sort((a, b) => b.members.length - a.members.length)
    .map(({ members }) => {
      const phrase = phraseFor(members)
      return { items: members.map(({ item }) => item), ...(phrase === undefined ? {} : { phrase }) }
    })
}

function wordsOf(text: string): string[] {
  return readWords(text.slice(0, looked))
    .slice(0, mostWords)
    .map(({ folded }) => (readNumber(folded) === undefined ? folded : number))
}

/** How much each word tells: the fewer texts it stands in, the more. */
function weights(read: { words: string[] }[]): (word: string) => number {
  const counts = new Map<string, number>()
  for (const { words } of read) for (const word of new Set(words)) counts.set(word, (counts.get(word) ?? 0) + 1)
  return (word) => (word === number ? 0.2 : Math.log(1 + read.length / (counts.get(word) ?? 1)))
}

function shared(one: Set<string>, other: Set<string>, weight: (word: string) => number): number {
  let both = 0
  let all = 0
  for (const word of new Set([...one, ...other])) {
    all += weight(word)
    if (one.has(word) && other.has(word)) both += weight(word)
  }
  return all === 0 ? 0 : both / all
}

/** A phrase that takes all of them: the words they share in order, and between them what differs. */
function phraseFor(members: { words: string[]; item: Unrouted }[]): string | undefined {
  const distinct = [...new Map(members.map(({ words, item }) => [words.join(" "), { words, item }])).values()]
  const aligned = distinct.slice(0, mostAligned)
  const common = aligned.map(({ words }) => words).reduce(inOrder)
  if (common.filter((word) => word !== number).length === 0) return undefined
  const gaps = aligned.map(({ words }) => gapsOf(words, common))
  const names = new Names()
  const parts = common.flatMap((word, at) => [
    part(
      gaps.map((each) => each[at]!),
      names,
    ),
    word === number ? `$number{${names.take("number")}}` : word,
  ])
  parts.push(
    part(
      gaps.map((each) => each[common.length]!),
      names,
    ),
  )
  const phrase = parts.filter((one) => one !== "").join(" ")
  return takesAll(phrase, aligned) ? phrase : undefined
}

/** Names for slots, each once. */
class Names {
  private readonly taken = new Map<string, number>()

  take(name: string): string {
    const times = (this.taken.get(name) ?? 0) + 1
    this.taken.set(name, times)
    return times === 1 ? name : `${name}${times}`
  }
}

/** The longest row of words that both have in order. */
function inOrder(one: string[], other: string[]): string[] {
  const table = Array.from({ length: one.length + 1 }, () => Array<number>(other.length + 1).fill(0))
  for (let a = one.length - 1; a >= 0; a--)
    for (let b = other.length - 1; b >= 0; b--)
      table[a]![b] = one[a] === other[b] ? table[a + 1]![b + 1]! + 1 : Math.max(table[a + 1]![b]!, table[a]![b + 1]!)
  const found: string[] = []
  for (let a = 0, b = 0; a < one.length && b < other.length;) {
    if (one[a] === other[b]) {
      found.push(one[a]!)
      a++
      b++
    } else if (table[a + 1]![b]! >= table[a]![b + 1]!) a++
    else b++
  }
  return found
}

/** What stands before each of the common words, and behind the last. */
function gapsOf(words: string[], common: string[]): string[][] {
  const gaps: string[][] = []
  let gap: string[] = []
  for (const word of words) {
    if (gaps.length < common.length && word === common[gaps.length]) {
      gaps.push(gap)
      gap = []
    } else gap.push(word)
  }
  gaps.push(gap)
  while (gaps.length <= common.length) gaps.push([])
  return gaps
}

/** What takes everything that stands in one gap. */
function part(gaps: string[][], names: Names): string {
  const said = [...new Set(gaps.map((gap) => gap.join(" ")))]
  const some = said.filter((words) => words !== "")
  if (some.length === 0) return ""
  const optional = said.length > some.length
  if (some.every((words) => words === number)) {
    const slot = `$number{${names.take("number")}}`
    return optional ? `[${slot}]` : slot
  }
  const few = some.length <= 3 && some.every((words) => !words.includes(number) && words.split(" ").length <= 3)
  if (few) return optional ? `[${some.join(" | ")}]` : some.length === 1 ? some[0]! : `(${some.join(" | ")})`
  const slot = `$text{${names.take("words")}}`
  return optional ? `[${slot}]` : slot
}

/** A phrase that is proposed must be valid, and take what it was made from. */
function takesAll(source: string, members: { item: Unrouted }[]): boolean {
  try {
    const automaton = new PhraseAutomaton([new RuleBook().resolved(readPhrase(source))])
    return members.every(({ item: { text } }) => {
      const words = readWords(text.slice(0, looked)).slice(0, mostWords)
      const reading = { languages: ["en"], zone: "UTC", now: "2026-01-01T00:00:00Z", types: automaton.types }
      return automaton.matching({ text, words, spans: readSpans(text, words, reading) }).has(0)
    })
  } catch {
    return false
  }
}
