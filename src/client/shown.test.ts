import fc from "fast-check"
import { anyText } from "../../tests/support/anyText.ts"
import { shown, shownJson, shownWithin } from "./shown.ts"

const unseen = /[\p{Cc}\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\u{e0000}-\u{e007f}]/u

test.each([
  ["\u001b]52;c;ZWNobw==\u0007", "\\x1b]52;c;ZWNobw==\\x07"],
  ["pay\u202e 001 euro", "pay\\u202e 001 euro"],
  ["a\u009b31mred", "a\\x9b31mred"],
  ["two\nlines\tand a tab", "two\nlines\tand a tab"],
  ["back\rwards", "back\\x0dwards"],
  ["👩\u200d🚀 \u{e0041}", "👩\u200d🚀 \\u{e0041}"],
  ["half \ud83d", "half \\ud83d"],
  ["olá, Łódź, 東京, مرحبا", "olá, Łódź, 東京, مرحبا"],
])("%j is shown as %j", (text, expected) => {
  expect(shown(text)).toBe(expected)
})

test("whatever is written, nothing unseen is left, and JSON still says the same", () => {
  const text = anyText(10).map((made) => `${made}\u001b\u202e`)
  fc.assert(
    fc.property(fc.dictionary(text, fc.array(text)), (value) => {
      expect(shown(JSON.stringify(Object.values(value).flat())).replace(/[\n\t]/g, "")).not.toMatch(unseen)
      expect(JSON.stringify(shownWithin(value))).not.toMatch(unseen)
      expect(shownJson(value, 2).replace(/\n/g, "")).not.toMatch(unseen)
      expect(JSON.parse(shownJson(value, 2))).toEqual(value)
    }),
  )
})
