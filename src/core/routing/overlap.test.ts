import Joi from "joi"
import { notesOf } from "./overlap.ts"
import { readBot } from "./readBot.ts"
import { RouteTable } from "./table.ts"

function tableOf(routes: string[]): RouteTable {
  const yaml = `bot: ferry
hours: { office: { open: { mon-fri: "08:00-18:00" } } }
rules:
  boat: "crossing | boat | ferry"
  place: { Holm Island: ["holm [island]", "the island"], Tern Point: "tern [point]" }
routes:
${routes.map((when, at) => `  - { name: r${at}, when: ${when}, handler: help }`).join("\n")}
`
  const reading = readBot(yaml, "bot.yaml", {
    files: new Set(["help"]),
    kinds: { text: Joi.object({ text: Joi.any() }) },
  })
  if ("faults" in reading) throw new Error(JSON.stringify(reading.faults))
  return new RouteTable(reading.bot)
}

const phrase = (source: string) => `{ phrase: ${JSON.stringify(source)} }`

test.each<[string, string, string, string?]>([
  ["the same phrase", phrase("next boat"), phrase("next boat"), "next boat"],
  ["a phrase with more optional parts", phrase("[the] next boat [please]"), phrase("the next boat")],
  ["any words", phrase("$text{words}"), phrase("book (a | the) $boat [$date{day}]")],
  [
    "any words in its place",
    phrase("boat to $text{where}"),
    phrase("boat to ($place | $word{where} pier)"),
    "boat to holm",
  ],
  ["any words in place of a date", phrase("on $text{day}"), phrase("on $date{day}"), "on 2026-12-24"],
  ["a number for a whole one", phrase("$number{n} seats"), phrase("$integer{n} seats"), "2 seats"],
  ["a number for digits", phrase("pier $integer{n}"), phrase("pier (1 | 2)")],
  ["words that do not matter", phrase("$GARBAGE boat $GARBAGE"), phrase("when is the next boat today")],
  ["several phrases together", '{ phrase: ["next boat", "last boat"] }', phrase("(next | last) boat")],
  ["a repeat", phrase("very<1-5> late"), phrase("very<2-3> late"), "very very late"],
  ["a rule written out", phrase("$boat times"), phrase("(ferry | boat) times")],
  ["a command", "{ command: [book, seats] }", "{ command: BOOK }"],
  ["a choice by its beginning", "{ choice: 'day:*' }", "{ choice: ['day:mon', 'day:tue'] }"],
  ["every command", "{ event: command }", "{ command: book, kind: slack }"],
  ["text and media", "{ event: [text, media] }", phrase("boat")],
  ["a condition less", phrase("boat"), '{ phrase: "boat", state: { asking: seats } }', "boat"],
  ["more of a state's values", "{ state: { asking: [seats, day] } }", "{ state: { asking: seats }, channel: quay }"],
  ["a language", "{ language: pt }", "{ language: [pt-BR, pt] }"],
  ["shorter silence", "{ silent: 1h }", "{ silent: 2d }"],
  ["fewer answers", "{ said: { least: 1 } }", "{ said: 3 }"],
  [
    "one of two ways",
    `{ any: [{ command: book }, ${phrase("book")}] }`,
    `{ any: [${phrase("book")}, { command: book }] }`,
  ],
  ["fewer hours", "{ outside: office }", `{ outside: office, any: [${phrase("boat")}, { command: boat }] }`],
])("%s before: the second route is never met", (_what, first, second, ...sample) => {
  const [text] = sample
  expect(notesOf(tableOf([first, second]))).toEqual(
    [
      {
        is: "never met",
        route: "r1",
        at: 1,
        earlier: "r0",
        ...(text === undefined ? {} : { text: expect.any(String) as string }),
      },
    ].map((note) => expect.objectContaining(note) as unknown),
  )
  if (text !== undefined) expect(notesOf(tableOf([first, second]))[0]!.text).toBe(text)
})

test.each<[string, string, string]>([
  ["the special case first", phrase("boat to holm"), phrase("boat to $text{where}")],
  ["another phrase", phrase("next boat"), phrase("last boat")],
  ["a phrase that is one word longer", phrase("next boat"), phrase("next boat [please]")],
  ["one word of two", phrase("on $word{day}"), phrase("on $text{day}")],
  [
    "another state",
    '{ phrase: "$integer{n}", state: { asking: seats } }',
    '{ phrase: "$integer{n}", state: { asking: day } }',
  ],
  ["another channel", "{ command: book, channel: quay }", "{ command: book }"],
  ["a command, not a phrase", phrase("$text{words}"), "{ command: book }"],
  ["a choice with that beginning", "{ choice: 'day:mon' }", "{ choice: 'day:*' }"],
  ["text alone, where captions have words too", "{ event: text }", phrase("boat")],
  ["longer silence", "{ silent: 2d }", "{ silent: 1h }"],
  ["more hours", "{ during: office, command: a }", "{ command: a }"],
])("%s before: both are met", (_what, first, second) => {
  expect(notesOf(tableOf([first, second]))).toEqual([])
})

test("phrases that take the same text, and neither all of the other, are in conflict", () => {
  expect(notesOf(tableOf([phrase("next $boat [to $place]"), phrase("[the] next boat [today]")]))).toEqual([
    { is: "conflict", route: "r1", at: 1, earlier: "r0", text: "next boat" },
  ])
  expect(notesOf(tableOf([phrase("book $text{what}"), phrase("$text{what} please")]))).toEqual([
    { is: "conflict", route: "r1", at: 1, earlier: "r0", text: "book please" },
  ])
  const [first, second] = ['{ phrase: "book $text{a}", kind: slack }', '{ phrase: "$text{a} please", kind: sms }']
  expect(notesOf(tableOf([first!, second!]))).toEqual([])
})

test("what a type takes is not known word by word: then it says perhaps", () => {
  // Every day of the week is a date as well; the nets cannot tell, and no sample is taken by the second alone.
  const [note] = notesOf(tableOf([phrase("on $date{day}"), phrase("on (monday | friday)")]))
  expect(note).toMatchObject({ is: "perhaps never met", earlier: "r0", text: "on monday" })
  expect(notesOf(tableOf([phrase("on $date{day}"), phrase("on (monday | deck)")]))).toEqual([])
})

test("of large bots only so much is compared, and hostile phrases end", () => {
  const many = Array.from({ length: 2000 }, (_none, n) => phrase(`[please] book number${n} [to $text{place}]`))
  expect(notesOf(tableOf([...many, phrase("book number7 to holm")]))).toEqual([
    expect.objectContaining({ is: "never met", route: "r2000", earlier: "r7" }),
  ])
  const wide = (word: string) =>
    phrase(`${`[${word} | $word{w}] `.replace("{w}", "").repeat(1)}${"(a | b | $GARBAGE c) ".repeat(60)}${word}`)
  expect(Array.isArray(notesOf(tableOf([wide("x"), wide("y"), wide("z")])))).toBe(true)
})
