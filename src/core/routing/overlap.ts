import { isDeepStrictEqual } from "node:util"
import type { Budget } from "../phrase/inclusion.ts"
import { inBoth, includes, netOf, sampleOf } from "../phrase/inclusion.ts"
import type { Phrase } from "../phrase/read.ts"
import { readPhrase } from "../phrase/read.ts"
import { RuleBook } from "../phrase/rules.ts"
import { fitsChoice, speaks } from "./checks.ts"
import type { Condition } from "./condition.ts"
import { list } from "./parts.ts"
import type { RouteTable } from "./table.ts"

/** Something about two routes that their author would want to know. */
export interface RouteNote {
  /** Never met: the earlier route takes everything; `perhaps` where that cannot be told; both take some text. */
  is: "never met" | "perhaps never met" | "conflict"
  route: string
  /** Its place in the file, from 0. */
  at: number
  earlier: string
  /** What both take. */
  text?: string
}

/** What must all be met: phrases, of each list one, and what else. */
interface Conjunction {
  phrases: string[][]
  atoms: [name: keyof Condition, wanted: unknown][]
}

/** Ways in which one condition may be met, at most. */
const mostWays = 64
/** Places of phrases that are compared, for a whole bot; a large one takes a second or two. */
const mostSteps = 3_000_000
/** Phrases among which conflicts are looked for: every pair is compared. */
const mostPhrases = 600
const mostNotes = 100

/** Routes that are never met since an earlier one takes all they take, and pairs that take the same text. */
export function notesOf(table: RouteTable): RouteNote[] {
  const look = new Looking(table)
  const notes: RouteNote[] = []
  const shadowed = new Set<number>()
  table.bot.routes.forEach((route, at) => {
    const note = look.shadow(at)
    if (note === undefined || notes.length >= mostNotes) return
    notes.push({ ...note, route: route.name, at })
    shadowed.add(at)
  })
  for (const conflict of look.conflicts(shadowed)) {
    if (notes.length >= mostNotes) break
    notes.push(conflict)
  }
  return notes.sort((a, b) => a.at - b.at)
}

class Looking {
  private readonly ways: (Conjunction[] | undefined)[]
  private readonly book: RuleBook
  private readonly nets = new Map<string, ReturnType<typeof netOf>>()
  private readonly budget: Budget = { left: mostSteps }
  private readonly byPhrase = new Map<string, number[]>()
  private readonly byWord = new Map<string, number[]>()
  private readonly plain: number[] = []

  constructor(private readonly table: RouteTable) {
    const { routes } = table.bot
    this.book = new RuleBook(table.bot.rules)
    this.ways = routes.map(({ when }) => waysOf(when))
    this.ways.forEach((ways, at) => {
      for (const way of ways ?? []) {
        const add = (map: Map<string, number[]>, key: string) => map.set(key, [...(map.get(key) ?? []), at])
        const words = wordsOf(way)
        way.phrases.flat().forEach((phrase) => add(this.byPhrase, phrase))
        words?.forEach((word) => add(this.byWord, word))
        if (way.phrases.length === 0 && words === undefined) this.plain.push(at)
      }
    })
  }

  /** Which earlier route takes all that this one takes. */
  shadow(at: number): Omit<RouteNote, "route" | "at"> | undefined {
    const inner = this.ways[at]
    if (inner === undefined) return undefined
    let perhaps: Omit<RouteNote, "route" | "at"> | undefined
    for (const before of this.candidates(at, inner)) {
      const outer = this.ways[before]
      if (outer === undefined) continue
      const earlier = this.table.bot.routes[before]!.name
      const found = inner.map((way) => this.covers(outer, way))
      if (found.every((one) => one.covers === "all")) return { is: "never met", earlier, ...textOf(found) }
      if (found.every((one) => one.covers !== "no")) perhaps ??= { is: "perhaps never met", earlier, ...textOf(found) }
    }
    return perhaps
  }

  /** Earlier routes that take one text, command or choice of this one, and so may take all of them. */
  private candidates(at: number, ways: Conjunction[]): number[] {
    const found = new Set(this.plain)
    for (const way of ways) {
      for (const phrase of way.phrases[0] ?? []) {
        const sample = this.sample(phrase)
        if (sample !== undefined)
          for (const other of this.table.phrasesIn(sample)) this.byPhrase.get(other)?.forEach((one) => found.add(one))
      }
      wordsOf(way)?.forEach((word) => this.byWord.get(word)?.forEach((one) => found.add(one)))
    }
    return [...found].filter((before) => before < at).sort((a, b) => a - b)
  }

  /** Whether the ways of one condition take all that one way of another takes. */
  private covers(outer: Conjunction[], way: Conjunction): { covers: "all" | "perhaps" | "no"; text?: string } {
    const fitting = outer.filter(({ atoms }) => atoms.every((atom) => implied(atom, way)))
    if (fitting.some(({ phrases }) => phrases.length === 0)) {
      const [first] = way.phrases[0] ?? []
      const text = first === undefined ? undefined : this.sample(first)
      return { covers: "all", ...(text === undefined ? {} : { text }) }
    }
    const taken = [...new Set(fitting.flatMap(({ phrases }) => (phrases.length === 1 ? phrases[0]! : [])))]
    if (way.phrases.length === 0 || taken.length === 0) return { covers: "no" }
    const each = way.phrases[0]!.map((phrase) => this.phraseCovered(phrase, taken))
    const text = textOf(each)
    if (each.every((one) => one.covers === "all")) return { covers: "all", ...text }
    return { covers: each.some((one) => one.covers === "no") ? "no" : "perhaps", ...text }
  }

  private phraseCovered(phrase: string, taken: string[]): { covers: "all" | "perhaps" | "no"; text?: string } {
    const sample = this.sample(phrase)
    const shared = sample === undefined ? {} : { text: sample }
    if (taken.includes(phrase)) return { covers: "all", ...shared }
    const takes = (text: string) => {
      const found = this.table.phrasesIn(text)
      return found.has(phrase) ? taken.some((one) => found.has(one)) : undefined
    }
    if (sample !== undefined && takes(sample) === false) return { covers: "no" }
    const [inner, outer] = [this.net([phrase]), this.net(taken)]
    if (!inner || !outer) return { covers: "perhaps", ...shared }
    const found = includes(outer, inner, this.budget)
    if (found.is === "all") return { covers: "all", ...shared }
    if (found.is === "unknown") return { covers: "perhaps", ...shared }
    // The nets tell too little of types; the automaton knows whether a text is taken.
    return { covers: found.samples.some((text) => takes(text) === false) ? "no" : "perhaps", ...shared }
  }

  /** Pairs of routes whose other conditions are the same and whose phrases take one text. */
  *conflicts(without: ReadonlySet<number>): Generator<RouteNote> {
    const { routes } = this.table.bot
    const spoken = this.ways.flatMap((ways, at) =>
      without.has(at) ? [] : (ways ?? []).filter(({ phrases }) => phrases.length === 1).map((way) => ({ at, way })),
    )
    if (spoken.reduce((sum, { way }) => sum + way.phrases[0]!.length, 0) > mostPhrases) return
    const told = new Set<string>()
    for (const later of spoken)
      for (const earlier of spoken) {
        if (earlier.at >= later.at || told.has(`${earlier.at} ${later.at}`)) continue
        if (this.budget.left < 0) return
        const same = (one: Conjunction, other: Conjunction) => one.atoms.every((atom) => implied(atom, other))
        if (!same(earlier.way, later.way) || !same(later.way, earlier.way)) continue
        // One that takes all of the other is a special case before the general one, which is as it should be.
        if (this.covers([later.way], earlier.way).covers !== "no") continue
        const text = this.shared(earlier.way.phrases[0]!, later.way.phrases[0]!)
        if (text === undefined) continue
        told.add(`${earlier.at} ${later.at}`)
        yield {
          is: "conflict",
          route: routes[later.at]!.name,
          at: later.at,
          earlier: routes[earlier.at]!.name,
          text,
        }
      }
  }

  private shared(one: string[], other: string[]): string | undefined {
    for (const a of one)
      for (const b of other) {
        const [netA, netB] = [this.net([a]), this.net([b])]
        if (!netA || !netB) continue
        for (const text of inBoth(netA, netB, this.budget)) {
          const found = this.table.phrasesIn(text)
          if (found.has(a) && found.has(b)) return text
        }
      }
    return undefined
  }

  private sample(phrase: string): string | undefined {
    const net = this.net([phrase])
    return net && sampleOf(net)
  }

  private net(phrases: string[]): ReturnType<typeof netOf> {
    const key = phrases.join("\n")
    if (!this.nets.has(key)) {
      const read = phrases.map((source): Phrase => this.book.resolved(readPhrase(source)))
      this.nets.set(key, netOf(read))
    }
    return this.nets.get(key)
  }
}

function textOf(found: { text?: string }[]): { text?: string } {
  const text = found.find((one) => one.text !== undefined)?.text
  return text === undefined ? {} : { text }
}

/** The commands and choices of which one must be there. */
function wordsOf({ atoms }: Conjunction): string[] | undefined {
  for (const [name, wanted] of atoms)
    if (name === "command" || (name === "choice" && !list(wanted as string).some((id) => id.endsWith("*"))))
      return list(wanted as string).map((word) => `${name} ${word.toLowerCase()}`)
  return undefined
}

/** The ways in which a condition may be met; undefined where there are too many to compare. */
function waysOf(condition: Condition): Conjunction[] | undefined {
  const { phrase, any, all, not, ...rest } = condition
  const atoms = Object.entries(rest) as Conjunction["atoms"]
  if (not) atoms.push(["not", not])
  let ways: Conjunction[] | undefined = [{ phrases: phrase === undefined ? [] : [list(phrase)], atoms }]
  const and = (more: Conjunction[] | undefined) => {
    if (ways === undefined || more === undefined || ways.length * more.length > mostWays) ways = undefined
    else
      ways = ways.flatMap((one) =>
        more.map((other) => ({
          phrases: [...one.phrases, ...other.phrases],
          atoms: [...one.atoms, ...other.atoms],
        })),
      )
  }
  if (any) {
    const each = any.map(waysOf)
    and(each.some((one) => one === undefined) ? undefined : each.flatMap((one) => one!))
  }
  for (const one of all ?? []) and(waysOf(one))
  return ways
}

/** Whether a condition is met wherever one way is: told by each condition alone. */
function implied([name, wanted]: Conjunction["atoms"][number], { atoms, phrases }: Conjunction): boolean {
  if (name === "event") {
    const events = list(wanted as string)
    const own = atoms.find(([other]) => other === "command" || other === "choice")
    if (own && events.includes(own[0])) return true
    if (phrases.length > 0 && events.includes("text") && events.includes("media")) return true
  }
  return atoms.some(([other, given]) => other === name && implies(name, given, wanted))
}

const eachOf = (given: unknown, wanted: unknown, fits: (wanted: string, given: string) => boolean) =>
  list(given as string).every((one) => list(wanted as string).some((other) => fits(other, one)))

/** Whether what one condition of a name wants is met wherever another of that name is. */
function implies(name: keyof Condition, given: unknown, wanted: unknown): boolean {
  switch (name) {
    case "choice":
      return eachOf(given, wanted, (a, b) => fitsChoice(a, b) && (!b.endsWith("*") || a.endsWith("*")))
    case "language":
      return eachOf(given, wanted, (a, b) => speaks(b, a))
    case "media":
      return eachOf(given, wanted, (a, b) => a === "any" || a === b)
    case "command":
      return eachOf(given, wanted, (a, b) => a.toLowerCase() === b.toLowerCase())
    case "event":
    case "channel":
    case "kind":
    case "from":
    case "may":
    case "during":
    case "pattern":
      return eachOf(given, wanted, (a, b) => a === b)
    case "outside":
      return eachOf(wanted, given, (a, b) => a === b)
    case "place":
      return typeof given === "string" || Array.isArray(given)
        ? eachOf(given, wanted, (a, b) => a === b)
        : isDeepStrictEqual(given, wanted)
    case "state":
    case "fields":
    case "contact":
      return Object.entries(wanted as object).every(([field, value]) => {
        const own = (given as { [field: string]: unknown })[field]
        return own !== undefined && (isDeepStrictEqual(own, value) || (Array.isArray(value) && withinList(own, value)))
      })
    case "silent":
      return Number(given) >= Number(wanted)
    case "said": {
      const [a, b] = [spanOf(given), spanOf(wanted)]
      return a.least >= b.least && a.most <= b.most
    }
    default:
      return isDeepStrictEqual(given, wanted)
  }
}

function withinList(own: unknown, values: unknown[]): boolean {
  return list(own).every((one) => values.some((value) => isDeepStrictEqual(one, value)))
}

function spanOf(said: unknown): { least: number; most: number } {
  const { least, most } = (typeof said === "number" ? { least: said, most: said } : said) as Partial<
    Record<"least" | "most", number>
  >
  return { least: least ?? 0, most: most ?? Infinity }
}
