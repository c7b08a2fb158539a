import { groupsOf } from "./likeness.ts"

const said = (...texts: string[]) => texts.map((text, at) => ({ id: `m${at}`, text }))
const shown = (...texts: string[]) =>
  groupsOf(said(...texts)).map(({ items, phrase }) => [items.map(({ text }) => text), phrase])

test("texts that share what tells them apart from others are one group, with a phrase that takes them all", () => {
  expect(
    shown(
      "do you take dogs on board?",
      "can I bring a bicycle",
      "Do you take dogs",
      "what does a ticket for 2 cost",
      "can i bring a bicycle please",
      "what does a ticket cost?",
      "do you take big dogs on board",
      "lalala",
    ),
  ).toEqual([
    [
      ["do you take dogs on board?", "Do you take dogs", "do you take big dogs on board"],
      "do you take [big] dogs [on board]",
    ],
    [["can I bring a bicycle", "can i bring a bicycle please"], "can i bring a bicycle [please]"],
    [["what does a ticket for 2 cost", "what does a ticket cost?"], "what does a ticket [$text{words}] cost"],
    [["lalala"], "lalala"],
  ])
})

test("numbers are alike, whatever they are, and a number of its own is a slot", () => {
  expect(shown("cabin 12 is cold", "cabin 7 is cold", "cabin 31 is cold")).toEqual([
    [["cabin 12 is cold", "cabin 7 is cold", "cabin 31 is cold"], "cabin $number{number} is cold"],
  ])
})

test("where nothing stands in the same order, no phrase is proposed", () => {
  expect(shown("timetable island winter", "winter timetable island", "island winter timetable")[0]![1]).toMatch(
    /timetable|winter|island/,
  )
  expect(shown("?!", "")).toEqual([])
})

test("the worst texts come to an end", () => {
  const texts = Array.from({ length: 1000 }, (_none, n) => `${"a b c d e f g h ".repeat(400)}${n} word${n % 300}`)
  expect(groupsOf(said(...texts)).length).toBeGreaterThan(0)
  const apart = Array.from({ length: 1000 }, (_none, n) => `alpha${n} beta${n % 50} gamma`)
  expect(groupsOf(said(...apart)).length).toBeGreaterThan(10)
})
