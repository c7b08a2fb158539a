import { sameWord, wordDifference } from "./secretWord.ts"

test("words are the same or not", () => {
  expect(sameWord("quay", "quay")).toBe(true)
  expect(sameWord("quay", "quays")).toBe(false)
  expect(sameWord("", "quay")).toBe(false)
})

test.each([
  [
    "harbour-word",
    "harbour-wort",
    "the received one has 12 characters, this channel's 12; they differ first at position 12",
  ],
  [
    "harbour",
    "harbour-word",
    "the received one has 7 characters, this channel's 12; the received one ends after position 7",
  ],
  [
    "harbour-word-2",
    "harbour-word",
    "the received one has 14 characters, this channel's 12; the received one is longer, from position 12",
  ],
  ["", "harbour", "the received one has 0 characters, this channel's 7; the received one ends after position 0"],
])("tells how %j differs from %j, and neither word", (given, agreed, says) => {
  const told = wordDifference(given, agreed)
  expect(told).toBe(says)
  expect(told).not.toContain(agreed)
})
