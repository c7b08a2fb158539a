import Joi from "joi"
import type { Bot } from "./bot.ts"
import { readBot } from "./readBot.ts"
import { modernBot, rewriteBot } from "./rewrite.ts"
import { RouteTable } from "./table.ts"

const kinds = { text: Joi.object({ text: Joi.string().required() }) }
const read = (source: string) => readBot(source, "bot.yaml", { files: new Set(["a"]), kinds })
const faults = (source: string) => {
  const reading = read(source)
  return "faults" in reading ? reading.faults : []
}

const old = `# Ours
bot: quay
routes:
  - name: boat   # the usual
    meets: { any: [{ phrase: "next boat [to {place}]" }, { command: boat }] }
    handler: a
  - name: seats
    meets:
      not: { phrase: ["{n as integer} seat[s]", "nothing"] }
    handler: a
`

test("a bot.yaml of the earlier form says what to write, and is rewritten with its comments and layout", () => {
  expect(faults(old).map(({ line, remedy }) => [line, remedy])).toEqual([
    [5, 'Write "when". "wobbet bot check <folder> --rewrite" changes the file.'],
    [8, 'Write "when". "wobbet bot check <folder> --rewrite" changes the file.'],
  ])
  expect(faults(old.replaceAll("meets:", "when:")).map(({ line, says, remedy }) => [line, says, remedy])).toEqual([
    [
      5,
      'the phrase "next boat [to {place}]" is of an earlier form',
      'Write "next boat [to $text{place}]". "wobbet bot check <folder> --rewrite" changes the file.',
    ],
    [
      9,
      'the phrase "{n as integer} seat[s]" is of an earlier form',
      'Write "$integer{n} (seats | seat)". "wobbet bot check <folder> --rewrite" changes the file.',
    ],
  ])
  const rewritten = rewriteBot(old)!
  expect(rewritten).toBe(`# Ours
bot: quay
routes:
  - name: boat   # the usual
    when: { any: [{ phrase: "next boat [to $text{place}]" }, { command: boat }] }
    handler: a
  - name: seats
    when:
      not: { phrase: ["$integer{n} (seats | seat)", "nothing"] }
    handler: a
`)
  expect(faults(rewritten)).toEqual([])
  expect(rewriteBot(rewritten)).toBeUndefined()
  expect(rewriteBot("bot: [")).toBeUndefined()
})

test("a bot as an earlier version kept it in a release decides as it did", () => {
  const kept = {
    bot: "quay",
    gather: 0,
    turnsPerMinute: 30,
    deadline: 10_000,
    routes: [
      { name: "boat", meets: { any: [{ phrase: "next boat[s] [to {place}]" }] }, handler: "a" },
      { name: "other", meets: { all: [{ phrase: ["hello"] }, { not: { phrase: "{n as integer}" } }] }, handler: "a" },
    ],
  } as unknown as Bot
  expect(modernBot(kept)).toMatchObject({ zone: "UTC", language: ["en"] })
  const table = new RouteTable(kept)
  const decide = (text: string) =>
    table.decide({
      message: { event: "text", text, place: { address: "1", kind: "direct" } },
      channel: { key: "quay", kind: "telegram" },
      state: {},
      now: "2026-11-27T16:00:00Z",
    })
  expect(decide("next boats to Holm Island")).toMatchObject({
    route: { name: "boat" },
    slots: { place: "Holm Island" },
  })
  expect(decide("hello")).toMatchObject({ route: { name: "other" } })
  expect(decide("bye")).toMatchObject({ took: "unrouted" })
})

test.each([
  ["when: { phrase: boat [to X] }", 'Write phrase: "boat [to X]".'],
  ["when:\n      phrase: [next] boat", 'Write phrase: "[next] boat".'],
  ["when: { phrase: [next] }", 'Write "[next]" for a phrase; or ["next"] for several.'],
  ["when: { any: [{ phrase: [next, boat] }] }", 'Write "[next, boat]" for a phrase; or ["next", "boat"] for several.'],
  ["when:\n      phrase: to $text{place}", 'Write "to $text{place}".'],
  ["when:\n      not:\n        phrase: { seats }", 'Write "{ seats }".'],
])("a phrase without quotation marks, %j, shows them", (when, remedy) => {
  const found = faults(`bot: x\nroutes:\n  - name: a\n    ${when}\n    handler: a\n`)
  expect(found).toHaveLength(1)
  expect(found[0]!.says).toContain("stands without quotation marks")
  expect(found[0]!.remedy).toBe(remedy)
})

test.each([
  ["boat: a [b]", "stands without quotation marks"],
  ["place: { Holm: [holm] }", "stands without quotation marks"],
  ["Boat: x", '"Boat" is not'],
  ["text: x", "may not be named as the type $text"],
  ["a: $b\n  b: $a", "in a circle"],
  ['place: { Holm: "(" }', "cannot be read"],
  ['boat: "$plaice"\n  place: holm', "there is no rule $plaice; was $place meant?"],
])("rules: %j is a fault: %s", (rules, says) => {
  const source = `bot: x\nrules:\n  ${rules}\nroutes: []\n`
  expect(
    faults(source)
      .map((fault) => fault.says)
      .join("\n"),
  ).toContain(says)
  expect(faults(source).every((fault) => fault.line !== undefined)).toBe(true)
})

test("phrases that refer to a large rule too often are refused, with the phrase that does", () => {
  const words = Array.from({ length: 300 }, (_none, at) => `(w${at} [island] [harbour])`).join(" | ")
  const routes = Array.from(
    { length: 300 },
    (_none, at) => `  - { name: r${at}, when: { phrase: "go${at} $place" }, handler: a }`,
  ).join("\n")
  const [fault] = faults(`bot: x\nrules:\n  place: "${words}"\nroutes:\n${routes}\n`)
  expect(fault!.says).toMatch(/^the bot's phrases up to "go\d+ \$place" come to more than 500000 parts$/)
})

test.each([
  ["zone: Mars/Dome", '"Mars/Dome" is no time zone; write one such as Europe/Lisbon'],
  ["language: xx", '"xx" is not known here'],
  ["country: ZZ", '"ZZ" is not known here'],
])("%s is a fault", (line, says) => {
  expect(faults(`bot: x\n${line}\nroutes: []\n`)[0]?.says).toContain(says)
})

test("dates are read by the bot's zone and language, counted from when the message was sent", () => {
  const reading = read(`bot: x
zone: Pacific/Auckland
language: [de, en]
rules: { boat: "boat | schiff", place: { Holm Island: "holm [island]" } }
routes:
  - { name: book, when: { phrase: "[ein] $boat [to | nach] $place $date{day}" }, handler: { text: "{{slots.place}} {{slots.day}}" } }
`)
  if ("faults" in reading) throw new Error(JSON.stringify(reading.faults))
  const table = new RouteTable(reading.bot)
  const slots = (text: string, sentAt?: string) => {
    const decided = table.decide({
      message: { event: "text", text, place: { address: "1", kind: "direct" }, ...(sentAt ? { sentAt } : {}) },
      channel: { key: "quay", kind: "telegram" },
      state: {},
      now: "2026-11-27T16:00:00Z",
    })
    return decided.took === "route" ? decided.slots : undefined
  }
  // It is the 28th in Auckland already.
  expect(slots("boat to holm tomorrow")).toEqual({ boat: "boat", place: "Holm Island", day: "2026-11-29" })
  expect(slots("ein Schiff nach Holm Iland morgen")).toEqual({
    boat: "Schiff",
    place: "Holm Island",
    day: "2026-11-29",
  })
  expect(slots("boat to holm tomorrow", "2026-11-20T08:00:00Z")).toMatchObject({ day: "2026-11-21" })
  expect(slots("boat to holm whenever")).toBeUndefined()
})
