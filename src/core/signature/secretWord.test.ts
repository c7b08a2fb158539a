import { nearWord, sameWord } from "./secretWord.ts"

test("words are the same or not", () => {
  expect(sameWord("quay", "quay")).toBe(true)
  expect(sameWord("quay", "quays")).toBe(false)
  expect(sameWord("", "quay")).toBe(false)
})

test.each([
  ["quay", "quay\n", "the secret on our side"],
  [" quay", "quay", "the word in the call"],
  ["Quay", "quay", "upper and lower case"],
  ["harbour", "quay", undefined],
])("%j for %j: %s", (given, agreed, says) => {
  const near = nearWord(given, agreed)
  if (says === undefined) expect(near).toBeUndefined()
  else expect(near).toContain(says)
  // The words themselves are never told.
  expect(near ?? "").not.toContain("quay")
})
