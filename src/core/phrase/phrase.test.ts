import fc from "fast-check"
import { PhraseAutomaton } from "./automaton.ts"
import { PhraseError, readPhrase } from "./read.ts"
import { readWords } from "./words.ts"

function match(phrase: string, text: string) {
  const automaton = new PhraseAutomaton([readPhrase(phrase)])
  const words = readWords(text)
  const run = automaton.run(0, words, text)
  // The automaton over all phrases and the run of one must agree.
  expect(automaton.matching(words).has(0)).toBe(run.matches)
  return run.matches ? run.slots : undefined
}

describe("phrases", () => {
  const crossing = "[when is] [the] next (crossing | boat) [to {place}]"
  test.each([
    [crossing, "next boat", {}],
    [crossing, "When is the NEXT crossing?", {}],
    [crossing, "next boat to Holm Island!", { place: "Holm Island" }],
    [crossing, "the boat", undefined],
    [crossing, "next boat to", undefined],
    ["book [a] [{seats as number}] seat[s]", "book 2 seats", { seats: 2 }],
    ["book [a] [{seats as number}] seat[s]", "book a seat", {}],
    ["{n as integer}", "3.5", undefined],
    ["{n as number}", "3,5", { n: 3.5 }],
    ["{n as number}", "1,250", { n: 1250 }],
    ["{n as integer}", "-2", { n: -2 }],
    ["from {a as word} to {b}", "from Tern to Holm Island", { a: "Tern", b: "Holm Island" }],
    [
      "tell {who} that {what}",
      "tell Ana Maria that it rains that much",
      { who: "Ana Maria", what: "it rains that much" },
    ],
    ["(in | out)bound", "outbound", {}],
    ["colo[u]r", "color", {}],
    ["café", "CAFE", {}],
    ["what's on", "whats on", {}],
    ["check-in", "check in", {}],
    ["opening hours | when are you open", "when are you open?", {}],
  ])("%j against %j", (phrase, text, slots) => {
    expect(match(phrase, text)).toEqual(slots)
  })

  test.each([
    ["[a", '"]" is missing', 2],
    ["a ]", '"]" closes nothing', 2],
    ["{x as colour}", 'no slot type "colour"', 0],
    ["{x", '"}" is missing', 0],
    ["[maybe]", "every part of the phrase is optional", 0],
    ["()", "nothing between the brackets", 0],
    ["pre{x}", "needs a space", 0],
  ])("%j cannot be read: %s", (phrase, says, at) => {
    let caught: unknown
    try {
      readPhrase(phrase)
    } catch (error) {
      caught = error
    }
    expect(caught).toBeInstanceOf(PhraseError)
    expect((caught as PhraseError).message).toContain(says)
    expect((caught as PhraseError).at).toBe(at)
  })

  test("a phrase matches what it was made to say, among many others", () => {
    const word = fc.constantFrom("boat", "seat", "tern", "holm", "next", "to")
    fc.assert(
      fc.property(
        fc.array(fc.array(word, { minLength: 1, maxLength: 5 }), { minLength: 1, maxLength: 8 }),
        fc.nat(),
        (phrases, pick) => {
          const automaton = new PhraseAutomaton(
            phrases.map((words) =>
              readPhrase(words.map((word, at) => (at % 2 ? `(${word} | other)` : word)).join(" ")),
            ),
          )
          const at = pick % phrases.length
          expect(automaton.matching(readWords(phrases[at]!.join(" "))).has(at)).toBe(true)
        },
      ),
    )
  })

  test("anything at all can be read as a phrase or refused with a place in it, and no text breaks a match", () => {
    fc.assert(
      fc.property(fc.string({ maxLength: 30 }), fc.string({ maxLength: 30 }), (phrase, text) => {
        try {
          match(phrase, text)
        } catch (error) {
          if (!(error instanceof PhraseError)) throw error
          expect(error.at).toBeLessThanOrEqual(phrase.length)
        }
      }),
    )
  })

  test("a text of thousands of words takes no more than its length", () => {
    const automaton = new PhraseAutomaton([readPhrase("{a} and {b} and {c} and {d} end")])
    const text = "and ".repeat(5000)
    expect(automaton.run(0, readWords(text), text).matches).toBe(false)
  })

  test("says where a text leaves the phrase and what would have fitted", () => {
    const text = "next train"
    const run = new PhraseAutomaton([readPhrase("next (crossing | boat)")]).run(0, readWords(text), text)
    expect(run).toEqual({ matches: false, stoppedAt: 1, wanted: ['"crossing"', '"boat"'] })
  })
})

test.each([
  ["{a} {b}", ["a", "b"]],
  ["from {a} [please] {b}", ["a", "b"]],
  ["({a} | now) [{c as number}] {b}", ["a", "b"]],
  ["[at] {a} (soon | {b}) ", ["a", "b"]],
])("%j is refused: nobody could say where the first slot ends", (source, [first, second]) => {
  expect(() => readPhrase(source)).toThrow(`the slots {${first}} and {${second}} follow each other`)
})

test.each(["{a} to {b}", "{a as word} {b}", "{a} {b as number}", "({a} | {b})", "to {a} (or {b} | please)"])(
  "%j is read: its slots are told apart",
  (source) => expect(() => readPhrase(source)).not.toThrow(),
)
