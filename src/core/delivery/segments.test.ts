import fc from "fast-check"
import { countSegments } from "./segments.ts"

test.each([
  ["", "GSM 03.38", 0, 0],
  ["a".repeat(160), "GSM 03.38", 160, 1],
  ["a".repeat(161), "GSM 03.38", 161, 2],
  ["a".repeat(306), "GSM 03.38", 306, 2],
  ["a".repeat(307), "GSM 03.38", 307, 3],
  ["€".repeat(80), "GSM 03.38", 160, 1],
  ["€".repeat(81), "GSM 03.38", 162, 2],
  // An escape does not fit into the 153rd place, so it opens the next part.
  ["a".repeat(152) + "€" + "a".repeat(152), "GSM 03.38", 306, 3],
  ["ç", "UCS-2", 1, 1],
  ["ñé{}", "GSM 03.38", 6, 1],
  ["ж".repeat(70), "UCS-2", 70, 1],
  ["ж".repeat(71), "UCS-2", 71, 2],
  ["ж".repeat(134), "UCS-2", 134, 2],
  ["😀".repeat(35), "UCS-2", 70, 1],
  // 67 is odd: each part of several holds 33 pairs.
  ["😀".repeat(67), "UCS-2", 134, 3],
])("%j is counted as %s, %i units, %i segments", (text, alphabet, units, count) => {
  expect(countSegments(text)).toMatchObject({ alphabet, units, count })
})

test("parts hold all that there is, and no more than fits", () => {
  fc.assert(
    fc.property(fc.string({ unit: fc.constantFrom("a", "€", "é", "ж", "😀", "\n"), maxLength: 800 }), (text) => {
      const { alphabet, units, count, left } = countSegments(text)
      const [alone, part] = alphabet === "UCS-2" ? [70, 67] : [160, 153]
      expect(left).toBeGreaterThanOrEqual(0)
      if (count <= 1) expect(units + left).toBe(alone)
      else expect(count * part - left).toBeGreaterThanOrEqual(units)
      // At most one unit is wasted at each seam.
      expect(count).toBeLessThanOrEqual(Math.max(1, Math.ceil(units / (part - 1))))
    }),
  )
})
