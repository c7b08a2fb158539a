import type { ModelStandin } from "../src/standins/model/server.ts"
import type { KindStage } from "./support/kinds.ts"
import { setKind } from "./support/kinds.ts"
import type { Service, Standin } from "./support/harness.ts"
import {
  atEnd,
  endAll,
  eventually,
  inside,
  pause,
  placeFor,
  quiet,
  query,
  run,
  Stage,
  startService,
  startStandin,
} from "./support/harness.ts"

const key = "sk-standin-harbour-0123456789"
const env = { WOBBET_PRIVATE_NETWORKS: "127.0.0.1" }

const persona = `You are a retired pilot of the ferry between Tern Point and Holm Island. Answer shortly.
You write on {{channel.kind}}.
`

const fares = `# Fares

## Bicycles
A bicycle costs 2 euros. See https://ferry.example/fares for more.

## Dogs
Dogs travel free on a lead.

# Lost property
What is found is kept sixty days at the window.

# Fog
In fog the horn sounds twice a minute, the boat goes slowly, a man stands at the bow and listens, the bell at Tern Point answers every second call, and whoever waits at the stairs is asked to speak up now and then so that nobody is left behind on the quay.

# Tides
At spring tide the stairs at Tern Point are under water.

# Groups
Groups of more than ten book a day before.

# Luggage
Two bags are free.
`

const crossings = `
import { tool } from "wobbet"
export default tool<{ to?: string }>({
  description: "When the next crossings leave",
  parameters: { type: "object", properties: { to: { enum: ["Holm Island", "Tern Point"] } }, additionalProperties: false },
  async run({ to }, { once, contact }) {
    if (to === "Tern Point") throw new Error("no boats today")
    const number = await once("looked up", async (key) => (await fetch(COUNT + key)).json())
    return [{ time: "14:20", to: to ?? "Holm Island", asked: number, by: contact.name, key: "KEYHERE" }]
  },
})
`

const botFor = (address: string) => `
bot: tern
groups: always
zone: Europe/Lisbon
models:
  harbour: { address: "${address}", model: ferry-small, key: MODEL_KEY, stall: 1s }
  dear: { address: "${address}", model: ferry-large, key: MODEL_KEY, prices: { asked: 1000, answered: 2000 }, answer: 100, limits: { person: { calls: 3 }, all: { money: 100 } } }
  fair: { address: "${address}", model: ferry-small, key: MODEL_KEY, prices: { asked: 10, answered: 20 } }
routes:
  - { name: hello, when: { phrase: hello }, handler: { text: "Hello!" } }
  - { name: fair, when: { phrase: "fair $GARBAGE" }, handler: { model: fair, instructions: persona.md, facts: "facts/*.md", memory: 0 } }
  - name: dear
    when: { phrase: "dear $GARBAGE" }
    handler: { model: dear, instructions: persona.md, facts: "facts/*.md", over: "The pilot sleeps now.", fallback: "No answer.", memory: 0, within: 5s }
  - name: growing
    when: { phrase: "slowly $GARBAGE" }
    handler: { model: harbour, instructions: persona.md, facts: "facts/*.md", stream: true, within: 30s, memory: 0, fallback: "The pilot is asleep." }
  - name: talk
    when: { event: text }
    handler:
      { model: harbour, instructions: persona.md, facts: "facts/*.md", tools: crossings, memory: 4, within: 12s, links: facts, leave: true, length: 300, meanwhile: "One moment.", fallback: "The pilot is asleep." }
`

let standin: Standin
let model: ModelStandin
let service: Service
let stage: Stage
let place: Awaited<ReturnType<typeof placeFor>>
const counted = { calls: [] as string[] }

beforeAll(async () => {
  standin = await startStandin()
  model = await (await inside()).startModel({ key })
  atEnd(() => model.stop())
  const { createServer } = await import("node:http")
  const counter = createServer((request, answer) => {
    counted.calls.push(request.url!)
    answer.writeHead(200, { "content-type": "application/json" }).end(String(counted.calls.length))
  })
  await new Promise<void>((done) => counter.listen(0, "127.0.0.1", done))
  atEnd(() => new Promise((done) => counter.close(done)))
  const { port } = counter.address() as { port: number }
  place = await placeFor({
    "bot.yaml": botFor(model.address),
    "persona.md": persona,
    "facts/fares.md": fares,
    "tools/crossings.ts": crossings.replace("COUNT", `"http://127.0.0.1:${port}/"`).replace("KEYHERE", key),
  })
  service = await startService({ ...place, env })
  stage = await Stage.set(service, standin, { gather: 0 })
  await service.client.setSecret("MODEL_KEY", { value: key, bot: "tern" })
  await eventually(async () => (await service.client.bot()).faults.length === 0, "the bot")
}, 60_000)
afterAll(endAll)

const lastPath = async () => {
  const [newest] = (await service.client.passages({ limit: 1 })).items
  return (await service.client.passage(newest!.id)).paths[0]!
}

/** Says something, and gives what was answered, and the turn's path. */
async function asked(text: string, answers = 1) {
  const before = (await stage.answers()).length
  await stage.say(text)
  const said = await eventually(async () => {
    // On a busy machine it may have to wait, and is told so first.
    const later = (await stage.answers()).slice(before).flatMap((one) => (one.text === "One moment." ? [] : [one.text]))
    return later.length >= answers ? later : undefined
  }, `${answers} answers`)
  await quiet(place.database)
  return { said, path: await lastPath() }
}

const callsOf = (path: Awaited<ReturnType<typeof lastPath>>) => path.turns.at(-1)!.elsewhere!.calls

test("a model answers from the folder's facts, with its instructions filled in, and the passage says which", async () => {
  const { said, path } = await asked("what does a bicycle cost")
  expect(said).toEqual(["A bicycle costs 2 euros."])
  const { authorization, body } = model.asked.at(-1)!
  expect(authorization).toBe(`Bearer ${key}`)
  expect(body.model).toBe("ferry-small")
  expect(body.messages[0]!.content).toContain("You write on telegram.")
  expect(body.messages.at(-1)).toEqual({ role: "user", content: "what does a bicycle cost" })
  const [call] = callsOf(path)
  expect(call).toMatchObject({ to: `${model.address}/chat/completions`, status: 200, came: "answered" })
  expect(call!.facts).toContain("facts/fares.md: Fares › Bicycles")
  expect(call!.tokens!.asked).toBeGreaterThan(20)
  expect(path.turns[0]).toMatchObject({ handler: "model", outcome: "handled" })
})

test("what was said before goes along, up to what the handler remembers", async () => {
  await asked("and dogs")
  const { messages } = model.asked.at(-1)!.body
  expect(messages.slice(1).map(({ role, content }) => [role, content])).toEqual([
    ["user", "what does a bicycle cost"],
    ["assistant", "A bicycle costs 2 euros."],
    ["user", "and dogs"],
  ])
})

test("a tool is used, once, and on record; no secret of its result leaves", async () => {
  const before = counted.calls.length
  const { said, path } = await asked("crossings to holm island please")
  expect(said).toEqual(["Holm Island: 14:20."])
  expect(counted.calls.length).toBe(before + 1)
  const calls = callsOf(path)
  expect(calls.map(({ came }) => came)).toEqual(["wanted crossings", "answered"])
  expect(calls[0]!.tools).toMatchObject([{ name: "crossings", with: '{"to":"Holm Island"}' }])
  const told = model.asked.at(-1)!.body.messages.at(-1)!
  expect(told).toMatchObject({ role: "tool" })
  expect(told.content).toContain('"time":"14:20"')
  expect(told.content).not.toContain(key)
  expect(JSON.stringify(path)).not.toContain(key)
})

test("what a tool is wrongly called with, or throws, is told to the model", async () => {
  await asked("crossings to tern point")
  expect(model.asked.at(-1)!.body.messages.at(-1)!.content).toBe('{"error":"it failed: no boats today"}')
})

test("a model that cannot help leaves the conversation to a person", async () => {
  await stage.say("quantum xylophones")
  await eventually(async () => (await lastPath()).turns[0]?.outcome === "handled", "the turn")
  const { conversation } = (await lastPath()).message
  expect((await service.client.conversation(conversation)).answeredBy).toBe("person")
  await service.client.setAnsweredBy(conversation, "bot")
  await pause(200)
})

test.each([
  ["429", /answered|429/, "A bicycle costs 2 euros."],
  ["500", /500/, "A bicycle costs 2 euros."],
  ["empty", /its answer is empty/, "A bicycle costs 2 euros."],
  ["stall", /it stalled: nothing came for 1 s/, "A bicycle costs 2 euros."],
  ["cut", /broke off before its end|could not be reached/, "A bicycle costs 2 euros."],
  ["html", /it answered text\/html, not JSON/, "The pilot is asleep."],
  ["too long", /finish_reason: length/, "The pilot is asleep."],
  ["shape", /its answer is empty/, "A bicycle costs 2 euros."],
  ["huge", /larger than|more than/, "The pilot is asleep."],
  ["endless", /more than 100000 characters|did not end|larger/, "The pilot is asleep."],
  ["script", /a script that nobody used here: Han/, "The pilot is asleep."],
] as const)(
  "a bad answer (%s) is its own outcome, retried where it helps, and answered once",
  async (fault, came, expected) => {
    model.act(fault)
    const before = (await stage.answers()).length
    await stage.say("what does a bicycle cost")
    await eventually(
      async () => (await stage.answers()).slice(before).some(({ text }) => text === expected),
      `${fault}: an answer`,
      20,
    )
    await pause(100)
    const said = (await stage.answers()).slice(before).map(({ text }) => text)
    expect(said.filter((text) => text !== "One moment.")).toEqual([expected])
    expect(
      callsOf(await lastPath())
        .map((call) => call.came)
        .join("; "),
    ).toMatch(came)
  },
  40_000,
)

test("a model that invents tools, or wants them for ever, is told so, and bounded", async () => {
  model.act("inventing")
  const { path } = await asked("what does a bicycle cost")
  expect(callsOf(path)[0]).toMatchObject({
    came: "wanted sell_the_boat",
    tools: [{ name: "sell_the_boat", gave: expect.stringContaining("There is no tool") }],
  })
  model.act("insisting", 6)
  const { said } = await asked("what does a bicycle cost")
  expect(said.at(-1)).toBe("The pilot is asleep.")
  expect((await lastPath()).turns.at(-1)!.elsewhere!.instead).toMatch(/more than 5 times/)
})

test("a model that tells its key and a strange link says neither", async () => {
  model.act("telling")
  const { said, path } = await asked("what does a bicycle cost")
  expect(said[0]).toMatch(/My key is Bearer \\?\[secret MODEL\\?_KEY\\?\]|My key is Bearer/)
  expect(said[0]).not.toContain(key)
  expect(said[0]).not.toContain("evil.example")
  expect(JSON.stringify(path)).not.toContain(key)
  expect(callsOf(path)[0]!.came).toMatch(/a link was left out/)
})

test("what a model may cost is reserved before it is asked, and settled; over it, the author's text", async () => {
  const person = await asked("dear pilot, what does a bicycle cost")
  expect(person.said).toEqual(["A bicycle costs 2 euros."])
  expect(callsOf(person.path)[0]!.cost).toBeGreaterThan(0)
  const [row] = await query(
    place.database,
    "SELECT calls, tokens::float8 AS tokens, money FROM spending WHERE who = '*'",
  )
  const { asked: into, answered: out } = callsOf(person.path)[0]!.tokens!
  expect(row).toMatchObject({ calls: 1, tokens: into + out })
  expect(Number(row!.money)).toBeCloseTo((into * 1000 + out * 2000) / 1_000_000)
  await asked("dear pilot, and dogs")
  await asked("dear pilot, and fog")
  const { said, path } = await asked("dear pilot, and tides")
  expect(said).toEqual(["The pilot sleeps now."])
  expect(path.turns[0]!.elsewhere!.instead).toMatch(/the limit of 3 calls a day for one person is reached/)
})

test("what is used of each model today is shown, of which limit, to people and programs", async () => {
  await asked("fair pilot, what does a bicycle cost")
  const { items } = await service.client.models()
  const [dear, fair, harbour] = ["dear", "fair", "harbour"].map((name) => items.find((one) => one.name === name)!)
  expect(harbour).toMatchObject({ used: null, askedBy: expect.arrayContaining(["talk (live)"]) })
  expect(fair!.used).toMatchObject({ all: { calls: 1 }, most: { calls: 0 } })
  expect(fair!.used!.all.money).toBeGreaterThan(0)
  expect(dear!.used).toMatchObject({ all: { calls: 3 }, most: { calls: 3, tokens: dear!.used!.all.tokens } })
  const { out } = await run(["model", "list"], service.env)
  expect(out).toMatch(/dear +everybody +3 +[\d,]+ +[\d.]+ of 100 +dear \(live\) +tern[^]*most by one person +3 of 3/)
  expect(out).toMatch(/harbour.*not counted/)
})

test("an answer grows in one message on a channel that can amend, and is on record whole", async () => {
  model.pace.word = 100
  model.pace.first = 900
  try {
    const before = (await stage.answers()).length
    await stage.say("slowly, what of fog")
    const seen = new Set<string>()
    await eventually(
      async () => {
        const said = (await stage.answers()).slice(before)
        said.forEach(({ text }) => seen.add(text ?? ""))
        return said.length === 1 && said[0]!.text!.endsWith("on the quay.")
      },
      "the whole answer",
      20,
    )
    expect((await stage.answers()).length).toBe(before + 1)
    expect([...seen].some((text) => /^In fog.* …$/.test(text))).toBe(true)
    expect(seen.has("…")).toBe(true)
    const path = await lastPath()
    expect(path.turns.at(-1)).toMatchObject({ outcome: "handled" })
  } finally {
    model.pace.word = 0
    model.pace.first = 0
  }
}, 40_000)

test("an answer grows on Slack too; where a message cannot be changed it comes whole", async () => {
  model.pace.word = 100
  model.pace.first = 900
  try {
    const slack = await setKind(service, "slack", { gather: 0 })
    const sms = await setKind(service, "sms", { gather: 0 })
    await Promise.all([slack.says("slowly, what of fog"), sms.says("slowly, what of fog")])
    const whole = (stage: KindStage) =>
      eventually(
        async () => stage.seen().find(({ text }) => text.endsWith("on the quay.")),
        `all of it on ${stage.kind}`,
        30,
      )
    await Promise.all([whole(slack), whole(sms)])
    expect(slack.seen()).toHaveLength(1)
    const changed = slack.standin.stage.calls.filter(({ name }) => name === "chat.update")
    expect(changed.length).toBeGreaterThan(1)
    expect(sms.seen().map(({ text }) => text)).toEqual([expect.stringMatching(/^In fog .*on the quay\.$/)])
  } finally {
    model.pace.word = 0
    model.pace.first = 0
  }
}, 60_000)

test("whoever goes on while a model thinks is answered in order, once each", async () => {
  model.act("slow", 1, 2)
  const before = (await stage.answers()).length
  await stage.say("what does a bicycle cost")
  await stage.say("hello")
  await eventually(async () => (await stage.answers()).at(-1)?.text === "Hello!", "the last", 20)
  const said = (await stage.answers()).slice(before).map(({ text }) => text)
  expect(said).toEqual(["One moment.", "A bicycle costs 2 euros.", "Hello!"])
}, 40_000)

test("characters that no database takes, and mentions, are not in what a model says", async () => {
  model.act("odd")
  const { said, path } = await asked("what does a bicycle cost")
  expect(said).toEqual(["The boat\uFFFD leaves \uFFFD now, says the boss and the other."])
  expect(callsOf(path).at(-1)).toMatchObject({ came: "answered" })
})

test("where the provider refuses the last change, what grew is removed and the answer is said in a new message", async () => {
  Object.assign(model.pace, { word: 100, first: 900 })
  try {
    const before = (await stage.answers()).length
    await stage.say("slowly, what of fog")
    const [draft] = (await stage.answered(before + 1)).slice(before)
    const { status } = await fetch(`${standin.address}/bot${stage.bot.token}/deleteMessage`, {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify({ chat_id: stage.person.id, message_id: draft!.message_id }),
    })
    expect(status).toBe(200)
    const whole = await eventually(
      async () =>
        (await stage.answers()).find(
          ({ text, message_id }) => text?.endsWith("on the quay.") && message_id > draft!.message_id,
        ),
      "the answer",
      20,
    )
    await pause(500)
    expect((await stage.answers()).slice(before).map(({ text }) => text)).toEqual([whole.text])
    const { replies } = await lastPath()
    expect(replies.at(-1)!.attempts.map(({ name, outcome }) => [name, outcome])).toEqual([
      ["editMessageText", "refused"],
      ["deleteMessage", "refused"],
      ["sendMessage", "accepted"],
    ])
  } finally {
    Object.assign(model.pace, { word: 0, first: 0 })
  }
}, 40_000)

test("a server that calls the limit of tokens otherwise is asked so, and what a model only thinks is not said", async () => {
  model.act("newer")
  expect((await asked("what does a bicycle cost")).said).toEqual(["A bicycle costs 2 euros."])
  expect(model.asked.at(-1)!.body).toMatchObject({ max_completion_tokens: expect.any(Number) })
  expect(model.asked.at(-1)!.body.max_tokens).toBeUndefined()
  model.act("thinking")
  const { said, path } = await asked("what does a bicycle cost")
  expect(said).toEqual(["A bicycle costs 2 euros."])
  expect(callsOf(path)).toHaveLength(1)
})

test("a server that takes no request for a stream is asked without one", async () => {
  model.act("strict")
  const { said, path } = await asked("what does a bicycle cost")
  expect(said).toEqual(["A bicycle costs 2 euros."])
  expect(model.asked.at(-1)!.body.stream).toBeUndefined()
  expect(callsOf(path)).toHaveLength(1)
})
