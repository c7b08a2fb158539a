import fc from "fast-check"
import { PhraseAutomaton } from "./automaton.ts"
import { rewritten } from "./oldForm.ts"
import type { Phrase } from "./read.ts"
import { PhraseError, readPhrase } from "./read.ts"
import type { Rules } from "./rules.ts"
import { RuleBook, RuleError, slotsOf } from "./rules.ts"
import { readSpans } from "./spans.ts"
import { readWords } from "./words.ts"

/** Friday, 27 November 2026, four in the afternoon in Lisbon. */
const now = "2026-11-27T16:00:00Z"

function reading(text: string, automaton: PhraseAutomaton, languages = ["en"]) {
  const words = readWords(text)
  const spans = readSpans(text, words, { languages, zone: "Europe/Lisbon", now, country: "GB", types: automaton.types })
  return { text, words, spans: [...spans, ...automaton.listed(words, text)] }
}

function compiled(sources: string[], rules: Rules = {}) {
  const book = new RuleBook(rules)
  return new PhraseAutomaton(sources.map((source) => book.resolved(readPhrase(source))))
}

function match(phrase: string, text: string, { rules, languages }: { rules?: Rules; languages?: string[] } = {}) {
  const automaton = compiled([phrase], rules)
  const said = reading(text, automaton, languages)
  const run = automaton.run(0, said)
  // The automaton over all phrases and the run of one must agree.
  expect(automaton.matching(said).has(0)).toBe(run.matches)
  return run.matches ? run.slots : undefined
}

const crossing = "[when is] [the] next (crossing | boat) [to $text{place}]"
test.each([
  [crossing, "next boat", {}],
  [crossing, "When is the NEXT crossing?", {}],
  [crossing, "next boat to Holm Island!", { place: "Holm Island" }],
  [crossing, "the boat", undefined],
  [crossing, "next boat to", undefined],
  ["book [a] [$number{seats}] (seat | seats)", "book 2 seats", { seats: 2 }],
  ["book [a] [$number{seats}] (seat | seats)", "book a seat", {}],
  ["book $integer (seat | seats)", "book twenty-one seats", { integer: 21 }],
  ["$integer{n}", "3.5", undefined],
  ["$number{n}", "3,5", { n: 3.5 }],
  ["$number{n}", "1,250", { n: 1250 }],
  ["$integer{n}", "-2", { n: -2 }],
  ["$integer{n}", "two hundred and five", { n: 205 }],
  ["$integer{n}", "٤٢", { n: 42 }],
  ["$integer{n}", "४२", { n: 42 }],
  ["from $word{a} to $text{b}", "from Tern to Holm Island", { a: "Tern", b: "Holm Island" }],
  [
    "tell $text{who} that $text{what}",
    "tell Ana Maria that it rains that much",
    { who: "Ana Maria", what: "it rains that much" },
  ],
  ["(inbound | outbound){way}", "Outbound", { way: "Outbound" }],
  ["very<1-3> good", "very very good", {}],
  ["very<1-3> good", "good", undefined],
  ["very<0-> good", "very very very very very good", {}],
  ["no<2>", "no no", {}],
  ["$GARBAGE boat $GARBAGE", "is there, by any chance, a boat today?", {}],
  ["$GARBAGE boat", "boat", {}],
  ['say "a (b)"', "say a b", {}],
  ["café", "CAFE", {}],
  ["what's on", "whats on", {}],
  ["check-in", "check in", {}],
  ["ｗｉｄｅ", "wide", {}],
  ["opening hours | when are you open", "when are you open?", {}],
  ["次の 船", "次の船は", undefined],
  ["次の船", "次の船", {}],
  ["เรือ ลำ ต่อไป", "เรือลำต่อไป", {}],
  ["call me at $phone", "call me at 07700 900123 please".replace(" please", ""), { phone: "+447700900123" }],
  ["write to $email", "write to ines@example.org", { email: "ines@example.org" }],
])("%j against %j", (phrase, text, slots) => {
  expect(match(phrase, text)).toEqual(slots)
})

test.each<[string, string, string, string]>([
  ["en", "on $date", "on friday", "2026-12-04"],
  ["en", "$date", "tomorrow", "2026-11-28"],
  ["en", "$date", "next friday", "2026-12-04"],
  ["en", "$date", "3 May", "2027-05-03"],
  ["en", "$date", "next tue at 14:20", "2026-12-01T14:20"],
  ["en", "$date", "in 2 hours", "2026-11-27T18:00"],
  ["en", "$date", "tomorrow half past two", "2026-11-28T02:30"],
  ["en", "$date", "tomorrow at half past two", "2026-11-28T02:30"],
  ["en", "$date", "noon on friday", "2026-12-04T12:00"],
  ["de", "$date", "morgen um halb drei", "2026-11-28T02:30"],
  ["es", "$date", "mañana a las dos y media", "2026-11-28T02:30"],
  ["en", "at $time{date}", "at half past two", "02:30"],
  ["en", "at $time{date}", "at quarter to six", "05:45"],
  ["en", "at $time{date}", "at noon", "12:00"],
  ["en", "at $time{date}", "at 14:20", "14:20"],
  ["de", "$date", "nächsten Freitag um 14 Uhr", "2026-12-04T14:00"],
  ["de", "$date", "morgen", "2026-11-28"],
  ["de", "um $time{date}", "um halb drei", "02:30"],
  ["de", "um $time{date}", "um viertel nach elf", "11:15"],
  ["fr", "$date", "demain", "2026-11-28"],
  ["fr", "à $time{date}", "à deux heures et demie", "02:30"],
  ["es", "el $date", "el viernes", "2026-12-04"],
  ["es", "a $time{date}", "a las dos y media", "02:30"],
  ["pt", "$date", "amanhã", "2026-11-28"],
  ["pt", "$date", "sexta-feira", "2026-12-04"],
])("%s: %j of %j is %s", (language, phrase, text, value) => {
  expect(match(phrase, text, { languages: [language] })).toEqual({ date: value })
})

test.each<[string, string, number]>([
  ["de", "einundzwanzig", 21],
  ["fr", "quatre-vingt-dix", 90],
  ["es", "treinta y uno", 31],
  ["pt", "vinte e dois", 22],
])("%s: %s is a number", (language, text, value) => {
  expect(match("$integer{n}", text, { languages: [language] })).toEqual({ n: value })
})

const rules: Rules = {
  boat: "crossing | boat | ferry",
  place: { "Holm Island": "holm [island] | the island", "Tern Point": ["tern [point]", "the point"] },
}
test.each<[string, string, object | undefined]>([
  ["next $boat [to $place]", "next ferry to the island", { boat: "ferry", place: "Holm Island" }],
  ["next $boat to $place{where}", "next boat to tern", { boat: "boat", where: "Tern Point" }],
  ["from $place{from} to $place{to}", "from holm to tern point", { from: "Holm Island", to: "Tern Point" }],
  // One edit in a word of a mapping of five letters or more is forgiven; in others none.
  ["to $place", "to holm iland", { place: "Holm Island" }],
  ["to $place", "to holm ilsand", { place: "Holm Island" }],
  ["to $place", "to tren", undefined],
  ["next $boat", "next fery", undefined],
])("with rules, %j against %j", (phrase, text, slots) => {
  expect(match(phrase, text, { rules })).toEqual(slots)
  // A mapping of very many words is read once a text, and decides the same.
  const many = Object.fromEntries(Array.from({ length: 300 }, (_none, n) => [`Pier ${n}`, `pier number${n}`]))
  expect(match(phrase, text, { rules: { ...rules, place: { ...(rules.place as object), ...many } } })).toEqual(slots)
})

test("of a mapping of very many words every reading counts, not the longest alone", () => {
  const many = Object.fromEntries(Array.from({ length: 300 }, (_none, n) => [`Pier ${n}`, `pier number${n}`]))
  const places = { place: { ...many, Holm: "holm", "Holm Pier": "holm pier", Again: "holm" } }
  expect(match("to $place pier", "to holm pier", { rules: places })).toEqual({ place: "Holm" })
  expect(match("to $place", "to holm pier", { rules: places })).toEqual({ place: "Holm Pier" })
  expect(match("from $place{a} to $place{b}", "from pier number7 to holm", { rules: places })).toEqual({
    a: "Pier 7",
    b: "Holm",
  })
  const automaton = compiled(["to $place"], places)
  expect(automaton.run(0, reading("to the moon", automaton))).toMatchObject({ wanted: ["one of $place"] })
  expect(automaton.run(0, reading("to pier nunber12", automaton))).toMatchObject({
    matches: true,
    misspelt: [{ said: "nunber12", meant: "number12" }],
  })
})

test("many phrases may refer to thousands of words", () => {
  const many = Object.fromEntries(Array.from({ length: 10_000 }, (_none, n) => [`Mooring ${n}`, `mooring m${n}`]))
  const automaton = compiled(
    Array.from({ length: 300 }, (_none, n) => `book number${n} from $place{from} to $place{to}`),
    { place: many },
  )
  expect(automaton.size).toBeLessThan(10_000)
  const run = automaton.run(7, reading("book number7 from mooring m9999 to mooring m1", automaton))
  expect(run).toMatchObject({ slots: { from: "Mooring 9999", to: "Mooring 1" } })
})

test("a misspelling is told, and one that could be two words is none", () => {
  const automaton = compiled(["to $town"], { town: { A: "marsten", B: "marston", C: "northam" } })
  const run = automaton.run(0, reading("to nortam", automaton))
  expect(run).toMatchObject({ matches: true, slots: { town: "C" }, misspelt: [{ said: "nortam", meant: "northam" }] })
  expect(automaton.run(0, reading("to marstan", automaton)).matches).toBe(false)
})

test.each([
  ["[a", '"]" is missing', 2],
  ["a ]", '"]" closes nothing', 2],
  ["[maybe]", "every part of the phrase is optional", 0],
  ["()", "nothing between the brackets", 0],
  ["$GARBAGE", "would match everything", 0],
  ["[please] $GARBAGE", "would match everything", 0],
  ["a $", "followed by the name", 2],
  ["a <2>", "stands after what is repeated", 2],
  ["a<3-2>", "repeats nothing", 1],
  ["a<60>", "more than 50 times", 1],
  ['a "b', "opened and not closed", 2],
  ["$text{a b}", "a tag is the name of a slot", 5],
  ["$GARBAGE{x} a", "fills no slot", 0],
  ["$NULL a", "of no use here", 0],
  ["(in | out)bound{x}", "a part inside a word", 10],
  ["x".repeat(10_001), "characters", 10_000],
  [`${"(".repeat(60)}a`, "more than 50 deep", 50],
])("%.30s cannot be read: %s", (phrase, says, at) => {
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

test.each([
  ["book [a] [{seats as number}] seat[s]", "book [a] [$number{seats}] (seats | seat)"],
  ["[to {place}] please", "[to $text{place}] please"],
  ["colo[u]r", "colour | color"],
  ["(in | out)bound now", "(inbound | outbound) now"],
  ["{n as integer}", "$integer{n}"],
])("the old form %j is a fault that shows %j", (old, today) => {
  expect(rewritten(old)).toBe(today)
  expect(() => readPhrase(old)).toThrow(`the form of phrases has changed: write "${today}"`)
  expect(() => readPhrase(today)).not.toThrow()
})

test.each<[Rules, string]>([
  [{ date: "x" }, "may not be named as the type $date"],
  [{ a: "$b", b: "c $a" }, "in a circle: $a → $b → $a"],
  [{ a: "[x" }, "cannot be read"],
  [{ a: { One: "(" } }, "cannot be read"],
])("rules %j are refused", (given, says) => {
  expect(() => new RuleBook(given)).toThrow(RuleError)
  expect(() => new RuleBook(given)).toThrow(says)
})

test.each([
  ["$plase x", "there is no rule $plase; was $place meant?"],
  ["$place to $place", "the slot place may be filled twice"],
  ["$word<1-2>", "the slot word may be filled twice"],
  ["$text{a} $text{b}", "the slots a and b follow each other"],
  ["from $text{a} [please] $text{b}", "the slots a and b follow each other"],
  ["(((a | b)<50> e)<50> f)<50>", "is what makes it so large"],
])("%j is refused: %s", (phrase, says) => {
  expect(() => new RuleBook(rules).resolved(readPhrase(phrase))).toThrow(says)
})

test("a phrase's slots are known before anything is said", () => {
  const book = new RuleBook(rules)
  expect(slotsOf(book.resolved(readPhrase("[$date{day}] $boat to $place | (a | b){c}")))).toEqual([
    "day",
    "boat",
    "place",
    "c",
  ])
})

/** Another way to match, which shares no code with the automaton: every way through, one after the other. */
function ends(phrase: Phrase, words: string[], from: number): number[] {
  switch (phrase.is) {
    case "word":
      return words[from] === phrase.word ? [from + 1] : []
    case "garbage":
      return Array.from({ length: words.length - from + 1 }, (_none, n) => from + n)
    case "type":
      return phrase.type === "text"
        ? Array.from({ length: words.length - from }, (_none, n) => from + n + 1)
        : from < words.length
          ? [from + 1]
          : []
    case "sequence":
      return phrase.items.reduce<number[]>(
        (at, item) => [...new Set(at.flatMap((one) => ends(item, words, one)))],
        [from],
      )
    case "oneOf":
      return [...new Set(phrase.options.flatMap((option) => ends(option, words, from)))]
    case "repeat": {
      let at = [from]
      const all = phrase.from === 0 ? [from] : []
      for (let n = 1; n <= phrase.to; n++) {
        at = [...new Set(at.flatMap((one) => ends(phrase.item, words, one)))]
        if (n >= phrase.from) all.push(...at)
      }
      return [...new Set(all)]
    }
    case "capture":
    case "value":
      return ends(phrase.item, words, from)
    case "listed":
    case "rule":
      throw new Error("not written out")
  }
}

const some = fc.constantFrom("boat", "seat", "tern", "holm", "next", "to")
const phrases: fc.Arbitrary<string> = fc.letrec<{ phrase: string }>((tie) => ({
  phrase: fc.oneof(
    { maxDepth: 4 },
    some,
    fc.constantFrom("$word{w}", "$text{t}", "$GARBAGE"),
    fc.array(tie("phrase"), { minLength: 1, maxLength: 3 }).map((items) => `(${items.join(" | ")})`),
    fc.array(tie("phrase"), { minLength: 2, maxLength: 3 }).map((items) => `(${items.join(" ")})`),
    tie("phrase").map((inner) => `[${inner}]`),
    fc.tuple(some, fc.constantFrom("<2>", "<0-2>", "<1->")).map(([word, repeat]) => `${word}${repeat}`),
  ),
})).phrase

test("the automaton matches what every way through, tried one by one, matches", () => {
  fc.assert(
    fc.property(phrases, fc.array(some, { minLength: 1, maxLength: 6 }), (source, words) => {
      let phrase: Phrase
      try {
        phrase = new RuleBook().resolved(readPhrase(source))
      } catch (error) {
        if (error instanceof PhraseError) return
        throw error
      }
      const automaton = new PhraseAutomaton([phrase])
      const said = { text: words.join(" "), words: readWords(words.join(" ")), spans: [] }
      const wanted = ends(phrase, words, 0).includes(words.length)
      expect([automaton.matching(said).has(0), automaton.run(0, said).matches]).toEqual([wanted, wanted])
    }),
    { numRuns: 500 },
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

test("texts of hostile length take no more than their length", () => {
  const automaton = compiled([
    "$text{a} and $text{b} and $text{c} and $text{d} end",
    "$date $number $time $phone $email x",
  ])
  const began = performance.now()
  for (const text of [
    "and ".repeat(20_000),
    "1 ".repeat(40_000),
    "next friday ".repeat(8000),
    "a@".repeat(40_000),
    "+44 ".repeat(20_000),
    "两".repeat(40_000),
  ]) {
    const said = reading(text, automaton)
    // Three hundred words are looked at, and each begins one thing of each type at most.
    expect(said.spans.length).toBeLessThanOrEqual(300 * automaton.types.size)
    expect(automaton.matching(said).size).toBe(0)
    expect(automaton.run(0, said).matches).toBe(false)
  }
  expect(performance.now() - began).toBeLessThan(20_000)
})

test("says where a text leaves the phrase and what would have fitted", () => {
  const automaton = compiled(["next (crossing | boat) $date"])
  expect(automaton.run(0, reading("next train", automaton))).toEqual({
    matches: false,
    stoppedAt: 1,
    wanted: ['"crossing"', '"boat"'],
  })
  expect(automaton.run(0, reading("next boat please", automaton))).toEqual({
    matches: false,
    stoppedAt: 2,
    wanted: ["a date"],
  })
})
