import fc from "fast-check"
import { escapeMarkup, readMarkup } from "./markup.ts"
import { splitMarked } from "./split.ts"
import { graphemeFloor, shorten, storableJson } from "./graphemes.ts"

const segmenter = new Intl.Segmenter("en", { granularity: "grapheme" })
const bare = (text: string) => text.replace(/\s+/g, "")

describe("light markup", () => {
  test.each([
    ["**bold** and *italic*", "bold and italic", ["bold", "italic"]],
    ["a `code` b", "a code b", ["code"]],
    ["[timetable](https://ferry.example/t)", "timetable", ["link"]],
    ["> said before", "said before", ["quote"]],
    ["- one\n- two", "• one\n• two", []],
    ["3. third\n4. fourth", "3. third\n4. fourth", []],
    ["```js\nlet a\n```", "let a", ["pre"]],
  ])("reads %j", (source, text, kinds) => {
    const read = readMarkup(source)
    expect(read.text).toBe(text)
    expect(read.spans.map((span) => span.kind)).toEqual(kinds)
  })

  test.each(["# no heading", "<b>no html</b>", "***", "    four spaces", "2 < 3 & 4"])(
    "takes %j literally",
    (source) => {
      expect(bare(readMarkup(source).text)).toBe(bare(source))
    },
  )

  test("a plain text is not parsed, and reads as it would have", () => {
    const words = fc.constantFrom(
      "boat",
      "3",
      "1.",
      "-",
      "(a)",
      "é",
      "👍",
      "a.b",
      ":",
      "'x'",
      '"y"',
      "+ 2",
      "#1",
      "100 %",
    )
    fc.assert(
      fc.property(fc.array(words, { minLength: 1, maxLength: 6 }), (parts) => {
        const text = parts.join(" ")
        // A hard case beside it makes the parser read the same words.
        const parsed = readMarkup(`${text}\n\n**x**`).text.replace(/\n\nx$/, "")
        if (!/^([-+#]|\d+[.)])/.test(text)) expect(readMarkup(text).text).toBe(parsed)
      }),
    )
  })

  test("writes out a link that no phone can open", () => {
    expect(readMarkup("[plan](plan.pdf)").text).toBe("plan (plan.pdf)")
  })

  test("keeps foreign words as they are once escaped", () => {
    fc.assert(
      fc.property(fc.string({ unit: "grapheme-ascii", maxLength: 40 }), (words) => {
        const line = words.trim()
        expect(readMarkup(`x ${escapeMarkup(line)} x`).text).toBe(`x ${line} x`.replace(/\s*\n\s*/g, "\n"))
      }),
    )
  })
})

describe("splitting a long text", () => {
  test("prefers paragraphs, then sentences, then words", () => {
    const pieces = (text: string, limit: number) => splitMarked(readMarkup(text), limit).map((piece) => piece.text)
    expect(pieces("One two three.\n\nFour five six.", 20)).toEqual(["One two three.", "Four five six."])
    expect(pieces("One two three. Four five six.", 20)).toEqual(["One two three.", "Four five six."])
    expect(pieces("one two three four five", 14)).toEqual(["one two three", "four five"])
  })

  test("never cuts inside a link", () => {
    const pieces = splitMarked(readMarkup("go to [the long timetable](https://ferry.example) now"), 22)
    expect(pieces.map((piece) => piece.text)).toContain("the long timetable now")
  })

  test("loses nothing, keeps the limit and never cuts a character that people see as one", () => {
    const words = fc.array(
      fc.constantFrom(
        "a",
        "boat",
        "…",
        ". ",
        " ",
        "\n",
        "\n\n",
        "👨‍👩‍👧‍👦",
        "e\u0301",
        "🇵🇹",
        "次の船",
        "**b**",
        "[l](https://x.example)",
      ),
      { maxLength: 120 },
    )
    fc.assert(
      fc.property(words, fc.integer({ min: 15, max: 60 }), (parts, limit) => {
        const source = readMarkup(parts.join(""))
        const pieces = splitMarked(source, limit)
        expect(bare(pieces.map((piece) => piece.text).join(""))).toBe(bare(source.text))
        const whole = new Set([...segmenter.segment(source.text)].map((one) => one.segment))
        for (const piece of pieces) {
          expect(piece.text.length).toBeLessThanOrEqual(limit)
          for (const { segment } of segmenter.segment(piece.text))
            expect(whole.has(segment) || segment.trim() === "").toBe(true)
          for (const span of piece.spans) expect(span.end).toBeLessThanOrEqual(piece.text.length)
        }
      }),
    )
  })
})

describe("characters", () => {
  test("a shortened label ends at a whole character", () => {
    expect(shorten("boat", 10)).toBe("boat")
    expect(shorten("👨‍👩‍👧‍👦👨‍👩‍👧‍👦", 15)).toBe("👨‍👩‍👧‍👦…")
  })

  test("a floor lies at or below the place asked for", () => {
    expect(graphemeFloor("ab", 1)).toBe(1)
    expect(graphemeFloor("a👍🏽b", 3)).toBe(1)
  })

  test("what cannot be stored is replaced, at any depth", () => {
    expect(storableJson({ a: ["x\u0000y", { "k\ud800": "\udfff" }] })).toEqual({
      a: ["x\uFFFDy", { "k\uFFFD": "\uFFFD" }],
    })
  })
})
