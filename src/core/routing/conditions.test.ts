import Joi from "joi"
import type { Message } from "../message/message.ts"
import { readBot } from "./readBot.ts"
import type { Facts, Situation } from "./situation.ts"
import { RouteTable } from "./table.ts"

const kinds = { text: Joi.object({ text: Joi.any().required() }) }
const sdk = { files: new Set(["help", "group", "hilfe"]), kinds }

function tableOf(yaml: string): RouteTable {
  const reading = readBot(`bot: ferry\nzone: Europe/Lisbon\n${yaml}`, "bot.yaml", sdk)
  if ("faults" in reading) throw new Error(JSON.stringify(reading.faults))
  return new RouteTable(reading.bot)
}

interface Given {
  message?: Partial<Message>
  facts?: Facts
  channel?: { key: string; kind: string }
  supposed?: true
}

/** A text that a person says alone with the bot, on Friday 2026-11-27 at 16:00 in Lisbon. */
function situation({ message = {}, facts, channel, supposed }: Given): Situation {
  const said: Message = { event: "text", text: "hello", place: { address: "7", kind: "direct" }, ...message }
  return {
    message: supposed ? said : { from: { address: "7", name: "Leo", bot: false }, ...said },
    ...(supposed && !channel ? {} : { channel: channel ?? { key: "quay", kind: "telegram" } }),
    state: {},
    now: "2026-11-27T16:00:00Z",
    ...(facts ? { facts } : {}),
    ...(supposed ? { supposed } : {}),
  }
}

const hours = `hours: { office: { open: { mon-fri: "08:00-18:00" } }, night: { open: { daily: "22:00-06:00" } } }\n`
const pdf = { kind: "file" as const, ref: "1", mime: "application/pdf", size: 2_000_000 }
const at = (sentAt: string) => ({ message: { sentAt } })

test.each<[string, string, Given, boolean, string]>([
  [
    "pattern",
    "{ pattern: 'ticket (?P<no>[A-Z]{2}\\d+)' }",
    { message: { text: "my ticket AB12!" } },
    true,
    "the pattern",
  ],
  ["pattern", "{ pattern: ['^no$', '(?i)TICKET'] }", { message: { text: "my ticket AB12!" } }, true, "(?i)TICKET"],
  ["pattern", "{ pattern: '^ticket' }", { message: { text: "my ticket" } }, false, "is not in the text"],
  ["during", "{ during: office }", {}, true, "within the hours office"],
  ["during", "{ during: [night, office] }", {}, true, "within the hours office"],
  ["during", "{ during: office }", at("2026-11-27T18:00:00Z"), false, "which begin Mon 30 Nov 08:00"],
  ["outside", "{ outside: office }", at("2026-11-27T18:00:00Z"), true, "outside the hours office"],
  ["outside", "{ outside: [office, night] }", at("2026-11-27T23:00:00Z"), false, "it is within the hours night"],
  [
    "attachment",
    "{ attachment: { type: 'image/*' } }",
    { message: { media: [pdf] } },
    false,
    "application/pdf, not image/*",
  ],
  [
    "attachment",
    "{ attachment: { type: [image/png, application/pdf], most: 2MB } }",
    { message: { media: [pdf] } },
    true,
    "application/pdf of 2 MB",
  ],
  ["attachment", "{ attachment: { most: 1999kB } }", { message: { media: [pdf] } }, false, "has 2 MB, more than 2 MB"],
  ["attachment", "{ attachment: { least: 3 MB } }", { message: { media: [pdf] } }, false, "less than 3 MB"],
  [
    "attachment",
    "{ attachment: { most: 5MB } }",
    { message: { media: [{ kind: "file", ref: "1" }] } },
    false,
    "is not known",
  ],
  ["attachment", "{ attachment: { most: 5MB } }", {}, false, "nothing is attached"],
  ["contact", "{ contact: { tag: [crew, vip] } }", { facts: { contact: { tags: ["vip"], fields: {} } } }, true, "tags"],
  [
    "contact",
    "{ contact: { tag: crew } }",
    { facts: { contact: { tags: ["vip"], fields: {} } } },
    false,
    "the tags vip, not crew",
  ],
  [
    "contact",
    "{ contact: { cabin: 12, name: [Leo, Ada] } }",
    { facts: { contact: { tags: [], fields: { cabin: 12 } } } },
    true,
    "contact cabin, name",
  ],
  ["contact", "{ contact: { cabin: 12 } }", {}, false, "contact.cabin is not set, not 12"],
  ["said", "{ said: 0 }", { facts: { taken: { r: 1 } } }, false, "has taken 1 message"],
  ["said", "{ said: { least: 1, most: 2 } }", { facts: { taken: { r: 2, other: 9 } } }, true, "has taken 2 messages"],
  ["said", "{ said: { least: 1 } }", { facts: { taken: { other: 9 } } }, false, "has taken 0 messages"],
  [
    "may",
    "{ may: [crew, desk] }",
    { facts: { contact: { tags: ["crew"], fields: {} } } },
    true,
    "whoever has the tag crew may",
  ],
  [
    "may",
    "{ may: crew }",
    { facts: { contact: { tags: [], fields: {} } } },
    false,
    "only whoever has the tag crew may, and this person has not",
  ],
  ["silent", "{ silent: 30d }", { facts: { silent: 31 * 86_400_000 } }, true, "silent for 31 d"],
  ["silent", "{ silent: 30d }", { facts: { silent: 60_000 } }, false, "silent for 1 min, not for 30 d"],
  ["silent", "{ silent: 30d }", { facts: { silent: null } }, true, "nothing was said in the conversation before"],
  ["from", "{ from: bot }", { message: { from: { address: "9", bot: true } } }, true, "a bot said it"],
  ["from", "{ from: person }", { message: { from: { address: "9", bot: true } } }, false, "a bot said it"],
  ["from", "{ from: admin }", { message: { from: { address: "9", bot: false, admin: true } } }, true, "administrator"],
  ["from", "{ from: admin }", {}, false, "is not known"],
  [
    "place",
    "{ place: { is: ['-100', Quay staff] } }",
    { message: { place: { address: "-100", kind: "direct" } } },
    true,
    "the place -100",
  ],
  [
    "place",
    "{ place: { is: quay staff } }",
    { message: { place: { address: "-1", kind: "direct", title: "Quay Staff" } } },
    true,
    "the place quay staff",
  ],
  ["place", "{ place: { is: crew } }", { facts: { placeTags: ["crew"] } }, true, "the place crew"],
  ["place", "{ place: { is: '7', kind: group } }", {}, false, "the place is direct, not group"],
  ["place", "{ place: { is: '8' } }", {}, false, "the place is 7, not 8"],
  [
    "language",
    "{ language: pt }",
    { message: { from: { address: "9", bot: false, language: "pt-BR" } } },
    true,
    "language pt-BR",
  ],
  [
    "language",
    "{ language: pt }",
    { message: { from: { address: "9", bot: false, language: "ptx" } } },
    false,
    "is ptx, not pt",
  ],
])("the condition %s: %s", (_name, when, given, met, why) => {
  const table = tableOf(`${hours}routes: [{ name: r, when: ${when}, handler: help }]`)
  const [explained] = table.explain(situation(given))
  expect(explained).toMatchObject({ met, why: expect.stringContaining(why) as string })
  expect(table.decide(situation(given)).took).toBe(met ? "route" : "unrouted")
})

test("the named groups of a pattern are slots, which a text may name", () => {
  const table = tableOf(
    "routes: [{ name: r, when: { pattern: '(?P<no>[A-Z]{2}\\d+) to (?<place>\\w+)' }, handler: { text: '{{slots.no}}' } }]",
  )
  const decision = table.decide(situation({ message: { text: "AB12 to Holm" } }))
  expect(decision).toMatchObject({ slots: { no: "AB12", place: "Holm" } })
})

test.each<[string, string, string]>([
  ["the channel", "{ channel: quay }", "depends on the channel: wants quay"],
  ["its kind", "{ kind: [slack, sms] }", "depends on the channel: wants one of the kind slack or sms"],
  ["the person", "{ language: de }", "depends on the person: wants the language de"],
  ["who said it", "{ from: admin }", "depends on the person"],
  ["the contact", "{ contact: { tag: crew } }", "depends on the person"],
  ["the place", "{ place: { is: crew } }", "depends on the place"],
  ["how often", "{ said: 1 }", "depends on how often"],
  ["the silence", "{ silent: 1h }", "depends on whether the conversation was silent for 1 h"],
  ["it, within not", "{ not: { kind: slack } }", "depends on the channel"],
  ["it, within any", "{ any: [{ command: x }, { kind: slack }] }", "depends on the channel"],
  ["it, beside what is met", "{ all: [{ event: text }, { kind: slack }] }", "depends on the channel"],
])("where nothing is given, a condition on %s is open", (_what, when, why) => {
  const table = tableOf(`routes: [{ name: r, when: ${when}, handler: help }]`)
  const open = situation({ message: { place: { address: "", kind: "direct" } }, supposed: true })
  expect(table.explain(open)).toMatchObject([
    { met: false, depends: true, why: expect.stringContaining(why) as string },
  ])
  expect(table.decide(open).took).toBe("unrouted")
  // What fails whatever the rest may be is no longer open.
  const failing = tableOf(`routes: [{ name: r, when: { command: x, any: [${when}] }, handler: help }]`)
  expect(failing.explain(open)[0]).toMatchObject({ met: false, why: expect.stringContaining("no command") as string })
})

describe("in a group", () => {
  const group = { address: "-100", kind: "group" as const, title: "Quay staff" }
  const routes = `
routes:
  - { name: hello, when: { phrase: hello }, handler: help }
  - { name: book, when: { command: book }, handler: help }
  - { name: chosen, when: { choice: day }, handler: help }
  - { name: joined, when: { event: joined }, handler: help }
  - { name: voice, when: { event: media }, handler: help }
unrouted: help
`
  const took = (rules: string, message: Partial<Message>, facts?: Facts) => {
    const decision = tableOf(rules + routes).decide(
      situation({ message: { place: group, ...message }, ...(facts ? { facts } : {}) }),
    )
    return decision.took === "route" ? decision.route.name : decision.took
  }
  test.each<[string, Partial<Message>, string, Facts | undefined]>([
    ["what is said to nobody", {}, "passed over", undefined],
    ["what no route takes", { text: "anything" }, "passed over", undefined],
    ["a mention", { mentionsBot: true }, "hello", undefined],
    ["a mention that no route takes", { text: "anything", mentionsBot: true }, "unrouted", undefined],
    ["a command", { event: "command", command: { name: "book" } }, "book", undefined],
    ["a choice", { event: "choice", choice: { id: "day" } }, "chosen", undefined],
    ["an answer to the bot", { replyTo: "5" }, "hello", { answersBot: true }],
    ["an answer to somebody else", { replyTo: "5" }, "passed over", { answersBot: false }],
    ["an event that a route names", { event: "joined" }, "joined", undefined],
    ["what was said, by an event that a route names", { event: "media", text: "hello" }, "voice", undefined],
    ["the same in a broadcast channel", { place: { ...group, kind: "broadcast" } }, "hello", undefined],
  ])("%s", (_name, message, expected, facts) => {
    expect(took("", message, facts)).toBe(expected)
  })
  test.each<[string, string, Partial<Message>, string, Facts | undefined]>([
    ["always", "groups: always", {}, "hello", undefined],
    ["never", "groups: never", { mentionsBot: true }, "passed over", undefined],
    ["never, but for events", "groups: never", { event: "joined" }, "joined", undefined],
    ["by channel", "groups: { channels: { quay: always } }", {}, "hello", undefined],
    ["by another channel", "groups: { channels: { other: always } }", {}, "passed over", undefined],
    [
      "by the place's title",
      "groups: { otherwise: always, places: { Quay staff: never } }",
      {},
      "passed over",
      undefined,
    ],
    [
      "by the place before the channel",
      "groups: { channels: { quay: never }, places: { '-100': always } }",
      {},
      "hello",
      undefined,
    ],
    ["by its tag", "groups: { places: { staff: always } }", {}, "hello", { placeTags: ["staff"] }],
    ["only here", "groups: always\nonly: { places: '-100' }", {}, "hello", undefined],
    [
      "only elsewhere",
      "groups: always\nonly: { places: ['-200', Office] }",
      { mentionsBot: true },
      "passed over",
      undefined,
    ],
    ["only elsewhere, events too", "only: { places: '-200' }", { event: "joined" }, "passed over", undefined],
    ["only on another channel", "groups: always\nonly: { channels: tern }", {}, "passed over", undefined],
  ])("the bot speaks %s", (_name, rules, message, expected, facts) => {
    expect(took(`${rules}\n`, message, facts)).toBe(expected)
  })
  test("the reason is told", () => {
    const said = situation({ message: { place: group } })
    expect(tableOf(routes).decide(said)).toMatchObject({
      why: expect.stringContaining("nobody addressed the bot") as string,
    })
    expect(tableOf(`only: { places: Office }${routes}`).decide(said)).toMatchObject({
      why: "this bot serves only Office, not Quay staff",
    })
  })
})

test("a phrase need not name the bot that is mentioned", () => {
  const table = tableOf('routes: [{ name: r, when: { phrase: "next boat to $text{place}" }, handler: help }]')
  const marks = (self?: true) => [{ kind: "mention" as const, offset: 5, length: 5, ...(self ? { self } : {}) }]
  const took = (message: Partial<Message>) => table.decide(situation({ message })).took
  expect(took({ text: "next @quay boat to Holm", marks: marks(true) })).toBe("route")
  expect(took({ text: "next @quay boat to Holm", marks: marks() })).toBe("unrouted")
})

test("what no route takes is answered by kind of place and language", () => {
  const table = tableOf(
    "groups: always\nunrouted: [{ place: group, handler: group }, { language: [de, fr], handler: hilfe }, { handler: help }]",
  )
  const handler = (message: Partial<Message>) => {
    const decision = table.decide(situation({ message }))
    return decision.took === "unrouted" ? decision.handler : undefined
  }
  const from = { address: "7", bot: false, language: "de-AT" }
  expect(handler({})).toBe("help")
  expect(handler({ from })).toBe("hilfe")
  expect(handler({ from, place: { address: "-1", kind: "group" } })).toBe("group")
})
