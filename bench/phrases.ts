import { PhraseAutomaton } from "../src/core/phrase/automaton.ts"
import { readPhrase } from "../src/core/phrase/read.ts"
import { RuleBook } from "../src/core/phrase/rules.ts"
import { readSpans } from "../src/core/phrase/spans.ts"
import { readWords } from "../src/core/phrase/words.ts"

/** What phrases cost, beside the same as regular expressions that are tried one after the other. */
export interface PhraseCost {
  phrases: number
  /** Milliseconds to read and compile them. */
  compile: number
  compileBaseline: number
  /** Steps of the automaton. */
  steps: number
  /** Microseconds for one decision. */
  decide: number
  decideBaseline: number
}

const reading = { languages: ["en"], zone: "Europe/Lisbon", now: "2026-11-27T16:00:00Z", country: "GB" }

/** Made-up words, each another. */
const word = (n: number) => `w${n.toString(36)}`

export function measurePhrases(rounds: number): PhraseCost[] {
  return [10, 100, 1000, 10_000].map((phrases) => measure(phrases, rounds))
}

function measure(phrases: number, rounds: number): PhraseCost {
  const sources = Array.from(
    { length: phrases },
    (_none, n) => `[please] ${word(n)} (now | later) ${word(n * 7)} [to $text{place}]`,
  )
  const texts = Array.from({ length: 200 }, (_none, at) => {
    const n = (at * 7919) % phrases
    return `Please ${word(n)} later ${word(n * 7)} to Holm Island`
  })
  const compile = () => {
    const book = new RuleBook()
    return new PhraseAutomaton(sources.map((source) => book.resolved(readPhrase(source))))
  }
  const expressions = () =>
    Array.from(
      { length: phrases },
      (_none, n) => new RegExp(`^(?:please )?${word(n)} (?:now|later) ${word(n * 7)}(?: to (.+?))?$`, "iu"),
    )
  const automaton = compile()
  const tried = expressions()
  const decide = (text: string) => {
    const words = readWords(text)
    const spans = readSpans(text, words, { ...reading, types: automaton.types })
    return automaton.matching({ text, words, spans }).size
  }
  const decideByTrying = (text: string) => tried.findIndex((one) => one.test(text))
  // Where each finds its phrase, so that neither is measured finding nothing.
  if (decide(texts[0]!) === 0 || decideByTrying(texts[0]!) < 0) throw new Error("the phrase is not found")
  return {
    phrases,
    compile: best(rounds, compile),
    compileBaseline: best(rounds, expressions),
    steps: automaton.size,
    decide: best(rounds, () => texts.forEach(decide)) * (1000 / texts.length),
    decideBaseline: best(rounds, () => texts.forEach(decideByTrying)) * (1000 / texts.length),
  }
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
