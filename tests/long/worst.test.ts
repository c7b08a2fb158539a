import fc from "fast-check"
import { callWith, channelOf } from "../../bench/worst.ts"
import { bodyWith, worstBodies, worstTexts } from "../../bench/worstInput.ts"
import { kinds } from "../../src/core/channels/registry.ts"
import { lookOn } from "../../src/core/channels/renderReply.ts"
import { escapeMarkup, readMarkup } from "../../src/core/message/markup.ts"
import { readProfile } from "../../src/core/gateway/readProfile.ts"
import { readBot } from "../../src/core/routing/readBot.ts"
import { optionMeant } from "../../src/core/routing/optionMeant.ts"
import { RouteTable } from "../../src/core/routing/table.ts"

/**
 * Everything that a stranger reaches, with the most there may be of the worst there is. What takes time that grows
 * faster than the input takes minutes here and more, and no test waits so long; the bench says how long each takes.
 */
const usual = 4 * 1024 * 1024

describe.each(Object.values(kinds))("a call of $kind", (kind) => {
  const longest = kind.longestBody ?? usual
  const channel = channelOf(kind)
  const read = (body: string) => {
    const call = callWith(kind, body)
    kind.verify(call, channel, new Date())
    kind.proof(call, channel)
    kind.repeats(call, channel)
    const parsed = kind.parse(call, channel)
    kind.acknowledge(call, parsed, channel)
    return parsed
  }

  test.each(Object.entries(worstBodies))("as long as may be, with %s, is read or refused", (_name, make) => {
    const parsed = read(make(longest))
    expect(parsed.messages.length).toBeLessThan(2)
  })

  test.each(Object.entries(worstTexts))("in which somebody says 256 kB of %s is read", (_name, make) => {
    const parsed = read(bodyWith(kind.kind, make(usual / 16)))
    expect(parsed.unreadable).toBeUndefined()
  })

  test("that is nested without end says so", () => {
    const parsed = read("[".repeat(longest / 2) + "]".repeat(longest / 2))
    if (kind.kind !== "sms") expect(parsed.unreadable).toContain("nested more than 100 levels")
  })
})

/** Letters are words, and words never disappear. */
const lettersOf = (text: string) => text.replace(/[^\p{L}]/gu, "").length

describe("a reply", () => {
  test.each(Object.entries(worstTexts))("of 50,000 characters of %s loses nothing that is read", (_name, make) => {
    const source = make(50_000)
    const { text, spans } = readMarkup(source)
    expect(lettersOf(text)).toBe(lettersOf(source))
    for (const { start, end } of spans) expect(start <= end && end <= text.length).toBe(true)
  })

  test.each(Object.entries(worstTexts))("of 20,000 characters of %s is rendered on every kind", (_name, make) => {
    for (const kind of Object.values(kinds))
      expect(lookOn(kind, [{ part: "text", text: make(20_000) }]).parts).toHaveLength(1)
  })

  test("of any pieces of markup is read whole, however they are put together", () => {
    const piece = fc.constantFrom("*", "_", "`", "[", "]", "(", ")", "> ", "- ", "1. ", "\n", "\\", "<", "&", "a", " ")
    fc.assert(
      fc.property(
        fc.array(piece, { maxLength: 6, minLength: 1 }),
        fc.integer({ min: 1, max: 3000 }),
        (pieces, times) => {
          const source = pieces.join("").repeat(times)
          const { text } = readMarkup(source)
          expect(lettersOf(text)).toBe(lettersOf(source))
        },
      ),
      { numRuns: 60 },
    )
  })
})

test.each(Object.entries(worstTexts))("256 kB of %s are routed", (_name, make) => {
  const meets = [
    { phrase: "[when is] [the] next crossing [to $text{place}]" },
    { phrase: "book $integer{seats} seats $text{words}" },
    { any: [{ phrase: "next" }, { phrase: "[next] [next] boat" }] },
  ]
  const routes = meets.map((one, n) => ({ name: `route ${n}`, when: one, handler: "answer" }))
  const read = readBot(JSON.stringify({ bot: "quay", routes }), "bot.yaml", { files: new Set(["answer"]), kinds: {} })
  if ("faults" in read) throw new Error(JSON.stringify(read.faults))
  const message = {
    event: "text" as const,
    place: { address: "1", kind: "direct" as const },
    text: make(usual / 16),
  }
  const situation = { message, channel: { key: "quay", kind: "telegram" }, state: {}, now: "2026-11-27T16:00:00Z" }
  expect(new RouteTable(read.bot).decide(situation)).toBeDefined()
})

test.each(Object.entries(worstTexts))("1 MB of %s is given back by a text, and taken for no option", (_name, make) => {
  const text = make(usual / 4)
  expect(escapeMarkup(text).length).toBeGreaterThanOrEqual(text.length)
  expect(optionMeant(text, [{ id: "yes", label: "Yes" }])).toBeUndefined()
})

test.each([
  ["quotation marks", '"'.repeat(90_000)],
  ["lists in lists", "[".repeat(90_000)],
  ["lists in lists with commas", "[,".repeat(45_000)],
  ["objects in objects", "{a: ".repeat(20_000)],
  ["dashes", "- ".repeat(45_000)],
  ["question marks", "? ".repeat(45_000)],
  ["aliases that multiply", multiplied()],
  ["an alias of itself", "a: &a\n  b: *a\n"],
  ["an alias of nothing", "<<: *x\n"],
  ["one key again and again", "a: 1\n".repeat(15_000)],
])("a profile of %s is refused in words", (_name, source) => {
  const read = readProfile(source)
  expect("faults" in read && read.faults.length).toBeGreaterThan(0)
})

/** Nine times nine times nine, and so on. */
function multiplied(): string {
  const names = [..."abcdefghi"]
  const nine = (name: string) => Array.from({ length: 9 }, () => `*${name}`).join(",")
  return names.map((name, n) => `${name}: &${name} [${n === 0 ? "x" : nine(names[n - 1]!)}]\n`).join("")
}
