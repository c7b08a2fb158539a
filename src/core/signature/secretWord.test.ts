import { sameWord, wordDifference } from "./secretWord.ts"

test("words are the same or not", () => {
  expect(sameWord("quay", "quay")).toBe(true)
  expect(sameWord("quay", "quays")).toBe(false)
  expect(sameWord("", "quay")).toBe(false)
})

test.each([
  ["harbour-word", "harbour-wort", "theirs has 12 characters, ours 12; they differ first at position 12"],
  ["harbour", "harbour-word", "theirs has 7 characters, ours 12; theirs ends after position 7"],
  ["harbour-word-2", "harbour-word", "theirs has 14 characters, ours 12; theirs goes on after position 12"],
  ["", "harbour", "theirs has 0 characters, ours 7; theirs ends after position 0"],
])("tells how %j differs from %j, and neither word", (given, agreed, says) => {
  const told = wordDifference(given, agreed)
  expect(told).toBe(says)
  expect(told).not.toContain(agreed)
})
