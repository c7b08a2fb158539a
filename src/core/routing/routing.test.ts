import Joi from "joi"
import type { Message } from "../message/message.ts"
import type { Bot } from "./bot.ts"
import { readBot } from "./readBot.ts"
import { readDuration } from "./duration.ts"
import { faultsOfPlaces } from "./fillText.ts"
import { RouteTable } from "./table.ts"

const file = "bot.yaml"
const kinds = { text: Joi.object({ text: Joi.string().required(), choices: Joi.array() }) }
const bot = (source: string, handlers = ["a", "b", "c"]): Bot => {
  const reading = readBot(source, file, { files: new Set(handlers), kinds })
  if ("faults" in reading) throw new Error(JSON.stringify(reading.faults))
  return reading.bot
}
const faults = (source: string) => {
  const reading = readBot(source, file, { files: new Set(["help"]), kinds })
  return "faults" in reading ? reading.faults : []
}
const situation = (message: Partial<Message>, state = {}) => ({
  message: { event: "text" as const, place: { address: "1", kind: "direct" as const }, ...message },
  channel: { key: "quay", kind: "telegram" },
  state,
  now: "2026-11-27T16:00:00Z",
})

test.each([
  ["Hello {{contact.name}}, {{ slots.place }}, {{state.topic.title}}, {{message.text}}, {{channel.key}}", []],
  ["Hello {{contact.nmae}}", ["{{contact.nmae}} names nothing of contact"]],
  ["To {{slots.port}}", ["{{slots.port}} names nothing of slots"]],
  ["Hello {{name}}", ["nothing is known by the name in {{name}}"]],
  [
    "{{state}} {{constructor.name}}",
    ["{{state}} names nothing of state", "nothing is known by the name in {{constructor.name}}"],
  ],
  [
    "{{contact name}} {{}} {{contact.name",
    [
      '"{{contact name}}" is not a place to fill in',
      '"{{}}" is not a place to fill in',
      '"{{contact.name" is not closed by }}',
    ],
  ],
  ["no places, { one } and }} alone", []],
])("the places of the text %j are checked", (text, says) => {
  expect(faultsOfPlaces(text, { slots: ["place"], hours: [], texts: {} }).map((fault) => fault.says)).toEqual(says)
  const source = `bot: a\nroutes:\n  - { name: r, when: { phrase: "to $text{place}" }, handler: { text: ${JSON.stringify(text)} } }\n`
  expect(faults(source).map((fault) => [fault.line, fault.says])).toEqual(says.map((one) => [3, one]))
})

describe("a decision", () => {
  const table = new RouteTable(
    bot(`
bot: ferry
routes:
  - { name: start, when: { command: start }, handler: a }
  - { name: seats, when: { state: { asking: [seats, places] }, any: [ { phrase: "$integer{n}" }, { choice: "seats:*" } ] }, handler: b }
  - { name: boat, when: { phrase: [ "next boat", "boat to $text{place}" ] }, handler: c }
  - { name: photo, when: { media: image, not: { place: broadcast } }, handler: a }
  - { name: edits, when: { event: edited }, handler: a }
  - { name: portuguese, when: { language: pt, channel: quay, kind: telegram, mentioned: true }, handler: a }
unrouted: b
`),
  )
  test.each<[string, Partial<Message>, object, string | undefined]>([
    ["a command", { event: "command", command: { name: "start", args: "x" }, text: "/start x" }, {}, "start"],
    ["a phrase", { text: "Next boat!" }, {}, "boat"],
    ["a phrase that needs a state, without it", { text: "3" }, {}, undefined],
    ["a phrase that needs a state, with it", { text: "3" }, { asking: "seats" }, "seats"],
    ["one of several states", { text: "3" }, { asking: "places" }, "seats"],
    ["a choice by its beginning", { event: "choice", choice: { id: "seats:4" } }, { asking: "seats" }, "seats"],
    ["a photo", { event: "media", media: [{ kind: "image", ref: "r" }] }, {}, "photo"],
    [
      "a photo in a broadcast channel",
      { event: "media", media: [{ kind: "image", ref: "r" }], place: { address: "1", kind: "broadcast" } },
      {},
      undefined,
    ],
    ["an edit, by the route that names it only", { event: "edited", text: "next boat" }, {}, "edits"],
    [
      "a language with its region",
      { text: "olá", from: { address: "1", language: "pt-BR", bot: false }, mentionsBot: true },
      {},
      "portuguese",
    ],
  ])("%s", (_name, message, state, route) => {
    const decision = table.decide(situation(message, state))
    expect(decision.took === "route" ? decision.route.name : undefined).toBe(route)
    // The explanation, which looks at every route, comes to the same.
    expect(table.explain(situation(message, state)).find((one) => one.met)?.route).toBe(route)
  })

  test("a reaction that no route names is passed over, not unrouted", () => {
    expect(table.decide(situation({ event: "reaction" }))).toEqual({
      took: "passed over",
      why: 'no route names the event "reaction"',
    })
    expect(table.decide(situation({ text: "?" }))).toEqual({ took: "unrouted", handler: "b" })
  })

  test("of several gathered messages, a phrase may fit one", () => {
    const single = situation({ text: "boat to Holm" }).message
    const whole = situation({ text: "Hello\nboat to Holm" })
    expect(table.decide({ ...whole, messages: [situation({ text: "Hello" }).message, single] })).toMatchObject({
      route: { name: "boat" },
      slots: { place: "Holm" },
    })
  })

  test("says for each route why not", () => {
    const why = Object.fromEntries(table.explain(situation({ text: "next train" })).map((one) => [one.route, one.why]))
    expect(why.start).toBe("no command was given (wants /start)")
    expect(why.seats).toBe('state.asking is not set, not ["seats","places"]')
    expect(why.boat).toBe('the phrase "next boat" wants "boat" where the text says "train"')
    expect(why.photo).toBe("nothing is attached (wants image)")
    expect(why.edits).toBe("the event is text, not edited")
  })

  test("does not look at routes whose trigger is not there", () => {
    const many = Array.from(
      { length: 2000 },
      (_, at) => `  - { name: r${at}, when: { phrase: "boat number${at}" }, handler: a }`,
    )
    const large = new RouteTable(bot(`bot: many\nroutes:\n${many.join("\n")}\n`))
    let looked = 0
    const routes = large.bot.routes
    large.bot.routes = new Proxy(routes, {
      get: (target, key) => (
        typeof key === "string" && /^\d+$/.test(key) && looked++,
        Reflect.get(target, key) as unknown
      ),
    })
    expect(large.decide(situation({ text: "boat number1999" }))).toMatchObject({ route: { name: "r1999" } })
    expect(looked).toBe(1)
  })
})

describe("bot.yaml with faults", () => {
  test.each([
    [
      "bot: x\nroutes:\n  - name: a\n    when: { phrse: hi }\n    handler: help\n",
      4,
      '"phrse" is not known here',
      "Write phrase.",
    ],
    [
      "bot: x\nroutes:\n  - name: a\n    when: { phrase: '[hi' }\n    handler: help\n",
      4,
      'cannot be read: "]" is missing',
      undefined,
    ],
    [
      "bot: x\nroutes:\n  - name: a\n    when: { command: hi }\n    handler: halp\n",
      5,
      'there is no handler "halp"',
      "There are: help.",
    ],
    [
      "bot: x\nroutes:\n  - name: a\n    handler: help\n",
      3,
      '"when" is missing',
      "A route has name, when and handler.",
    ],
    [
      "bot: x\nroutes:\n  - { name: a, when: { command: a }, handler: help }\n  - { name: a, when: { command: b }, handler: help }\n",
      4,
      'two routes have the name "a"',
      "Give each route a name of its own.",
    ],
    [
      "bot: x\nroutes:\n  - name: a\n    when: { media: movie }\n    handler: help\n",
      4,
      '"movie" is not known here',
      "Write one of: any, image",
    ],
    ["bot: X!\n", 1, "small letters, digits and hyphens", undefined],
    ["routes: []\n", 1, '"bot" is missing', undefined],
    ["bot: x\ngather: soon\n", 2, '"soon" is not a length of time', undefined],
    ["bot: x\n\troutes: [\n", 2, "", undefined],
  ])("%j: line %i, %s", (source, line, says, remedy) => {
    const [fault] = faults(source)
    expect(fault).toMatchObject({ file, line })
    expect(fault!.says).toContain(says)
    if (remedy) expect(fault!.remedy).toContain(remedy)
  })
})

test.each([
  ["500ms", 500],
  ["1s", 1000],
  ["2m", 120_000],
  [1.5, 1500],
  ["1d", 86_400_000],
  ["soon", undefined],
])("%j is %j milliseconds", (text, ms) => {
  expect(readDuration(text)).toBe(ms)
})
