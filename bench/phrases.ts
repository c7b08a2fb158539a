import { en } from "chrono-node"
import type { Bot } from "../src/core/routing/bot.ts"
import { RouteTable } from "../src/core/routing/table.ts"
import { readSpans } from "../src/core/phrase/spans.ts"
import { readWords } from "../src/core/phrase/words.ts"

/** What routes with a phrase each cost, beside the same as regular expressions that are tried one after the other. */
export interface PhraseCost {
  phrases: number
  /** Milliseconds to read and compile them. */
  compile: number
  compileBaseline: number
  /** Microseconds for one decision, over texts like those before. */
  decide: number
  decideBaseline: number
  /** Microseconds for one decision over texts of which none was said before. */
  first: number
}

/** Sentences a second from which dates are read, and from which the library alone reads them. */
export interface DateCost {
  languages: number
  second: number
  baseline: number
}

const reading = { languages: ["en"], zone: "Europe/Lisbon", now: "2026-11-27T16:00:00Z", country: "GB" }

/** Made-up words, each another. */
const word = (n: number) => `w${n.toString(36)}`

export function measurePhrases(rounds: number): PhraseCost[] {
  return [10, 1000, 10_000].map((phrases) => measure(phrases, rounds))
}

function measure(phrases: number, rounds: number): PhraseCost {
  const bot: Bot = {
    bot: "measured",
    gather: 0,
    turnsPerMinute: 30,
    deadline: 1000,
    zone: reading.zone,
    language: reading.languages,
    groups: { otherwise: "addressed" },
    routes: Array.from({ length: phrases }, (_none, n) => ({
      name: `r${n}`,
      when: { phrase: `[please] ${word(n)} (now | later) ${word(n * 7)} [to $text{place}]` },
      handler: "any",
    })),
  }
  const textFor = (at: number, place: string) => {
    const n = (at * 7919) % phrases
    return `Please ${word(n)} later ${word(n * 7)} to ${place}`
  }
  const texts = Array.from({ length: 200 }, (_none, at) => textFor(at, "Holm Island"))
  const expressions = () =>
    Array.from(
      { length: phrases },
      (_none, n) => new RegExp(`^(?:please )?${word(n)} (?:now|later) ${word(n * 7)}(?: to (.+?))?$`, "iu"),
    )
  const table = new RouteTable(bot)
  const tried = expressions()
  const decideWith = (routes: RouteTable, text: string) =>
    routes.decide({
      message: { event: "text", text, place: { address: "1", kind: "direct" } },
      channel: { key: "quay", kind: "telegram" },
      state: {},
      now: reading.now,
    })
  const decideByTrying = (text: string) => tried.findIndex((one) => one.test(text))
  // Where each finds its phrase, so that neither is measured finding nothing.
  if (decideWith(table, texts[0]!).took !== "route" || decideByTrying(texts[0]!) < 0)
    throw new Error("the phrase is not found")
  const fresh = new RouteTable(bot)
  const news = Array.from({ length: 1000 }, (_none, at) => textFor(at, `pier ${word(at + 1_000_000)}`))
  return {
    phrases,
    compile: best(Math.min(rounds, 3), () => new RouteTable(bot)),
    compileBaseline: best(rounds, expressions),
    decide: best(rounds, () => texts.forEach((text) => decideWith(table, text))) * (1000 / texts.length),
    decideBaseline: best(rounds, () => texts.forEach(decideByTrying)) * (1000 / texts.length),
    first: best(1, () => news.forEach((text) => decideWith(fresh, text))) * (1000 / news.length),
  }
}

const dated = [
  "two seats to the island next friday",
  "is there a boat tomorrow at half past two",
  "when does the ferry leave on 3 May",
  "book four for in 2 hours please",
  "we would like to cross next tue at 14:20",
]

/** Dates and times as people write them, beside the library alone, which is asked for one language. */
export function measureDates(rounds: number): DateCost[] {
  const types = new Set(["date", "time"] as const)
  const baseline = best(rounds, () => dated.forEach((text) => en.GB.parse(text, new Date(reading.now))))
  return [["en"], ["en", "de", "fr", "es", "pt"]].map((languages) => {
    const read = () => dated.forEach((text) => readSpans(text, readWords(text), { ...reading, languages, types }))
    read()
    const perSecond = (milliseconds: number) => Math.round((dated.length * 1000) / milliseconds)
    return { languages: languages.length, second: perSecond(best(rounds, read)), baseline: perSecond(baseline) }
  })
}

/** Milliseconds of the quickest round, as the least disturbed. */
function best(rounds: number, run: () => unknown): number {
  let least = Infinity
  for (let round = 0; round < rounds; round++) {
    const began = performance.now()
    run()
    least = Math.min(least, performance.now() - began)
  }
  return least
}
