import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import type { ModelStandin } from "../../src/standins/model/server.ts"
import type { Standin } from "../support/harness.ts"
import {
  atEnd,
  endAll,
  eventually,
  inside,
  placeFor,
  query,
  Stage,
  startService,
  startStandin,
} from "../support/harness.ts"
import { killTable, dying } from "../support/killTable.ts"

let standin: Standin
let quick: ModelStandin
let slow: ModelStandin
let office: string
/** Every booking that was made at the office, by its key. */
const booked: string[] = []
const env = { WOBBET_PRIVATE_NETWORKS: "127.0.0.1" }

beforeAll(async () => {
  standin = await startStandin()
  quick = await (await inside()).startModel()
  slow = await (await inside()).startModel()
  Object.assign(slow.pace, { first: 900, word: 60 })
  atEnd(() => quick.stop())
  atEnd(() => slow.stop())
  const server = createServer((request, answer) => {
    booked.push(request.url!)
    answer.writeHead(200, { "content-type": "application/json" }).end('"TP-7"')
  })
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  atEnd(() => new Promise((done) => (server.closeAllConnections(), server.close(done))))
  office = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
}, 60_000)
afterAll(endAll)

const booking = () => `
import { tool } from "wobbet"
export default tool({
  description: "Books a seat",
  async run(_given, { once, conversation }) {
    const ticket = await once("book", async (key) => (await fetch("${office}/" + conversation.id + "/" + key)).json())
    return [{ time: ticket, to: "Your ticket" }]
  },
})
`

const bot = () => ({
  "bot.yaml": `
bot: tern
groups: always
models:
  quick: { address: "${quick.address}", model: small, limits: { person: { calls: 20, tokens: 100000 } } }
  slow: { address: "${slow.address}", model: small }
routes:
  - { name: plain, when: { phrase: "plain [$GARBAGE]" }, handler: { model: quick, instructions: persona.md, facts: facts.md, memory: 0 } }
  - { name: tool, when: { phrase: "booking" }, handler: { model: quick, instructions: persona.md, tools: booking, memory: 0 } }
  - { name: slow, when: { phrase: "slow [$GARBAGE]" }, handler: { model: slow, instructions: persona.md, facts: facts.md, memory: 0, meanwhile: "One moment." } }
  - { name: slow tool, when: { phrase: "a booking" }, handler: { model: slow, instructions: persona.md, tools: booking, memory: 0, meanwhile: "One moment." } }
  - { name: growing, when: { phrase: "growing [$GARBAGE]" }, handler: { model: slow, instructions: persona.md, facts: facts.md, memory: 0, stream: true } }
`,
  "persona.md": "You are a retired pilot.",
  "facts.md": "Dogs travel free, on a lead, at the stern of the boat, and with whoever brought them along.",
  "tools/booking.ts": booking(),
})

interface Case {
  says: "plain dogs" | "booking" | "slow dogs" | "a booking" | "growing dogs"
  point: string
  /** Played by `npm test`, too. */
  always?: true
}

const killed: Case[] = [
  { says: "plain dogs", point: "model: reserved=kill" },
  { says: "plain dogs", point: "model: answered=kill" },
  { says: "plain dogs", point: "turn: handler answered=kill" },
  { says: "plain dogs", point: "turn: committed=kill" },
  { says: "booking", point: "once: start recorded=kill@2" },
  { says: "booking", point: "once: callback ended=kill@2" },
  { says: "booking", point: "model: tool used=kill", always: true },
  { says: "booking", point: "model: answered=kill@2" },
  { says: "slow dogs", point: "turn: committed=kill@1" },
  { says: "slow dogs", point: "model: answered=kill" },
  { says: "slow dogs", point: "elsewhere: answer kept=kill" },
  { says: "slow dogs", point: "turn: committed=kill@2" },
  { says: "a booking", point: "model: tool used=kill" },
  { says: "a booking", point: "model: answered=kill@2" },
  { says: "growing dogs", point: "turn: committed=kill@1" },
  { says: "growing dogs", point: "elsewhere: answer kept=kill" },
  { says: "growing dogs", point: "send: call answered=kill@2" },
]

async function course({ says, point }: Case) {
  const scene = await dying(standin, { bot: bot(), env, faults: point, settings: { onDoubt: "resend" } })
  const { stage, where } = scene
  await stage.say(says)
  const last = says.endsWith("booking") ? "Your ticket: TP-7." : /^Dogs travel free.*along\.$/
  await eventually(
    async () => {
      const text = (await stage.answers()).at(-1)?.text ?? ""
      return typeof last === "string" ? text === last : last.test(text)
    },
    `"${String(last)}"`,
    60,
  )
  const service = await scene.settled()
  const said = (await stage.answers()).map(({ text }) => text)
  const [left] = await query<{ n: number }>(where.database, "SELECT count(*)::int AS n FROM waits")
  const [spent] = await query<{ calls: number }>(where.database, "SELECT calls FROM spending")
  const [line] = await query<{ conversation: string }>(where.database, "SELECT conversation FROM work")
  await service.stop()
  const keys = booked.filter((url) => url.startsWith(`/${line!.conversation}/`))
  return { said, left: left!.n, spent: spent?.calls, keys }
}

describe("kill -9 between two steps of a model's answer", () => {
  const { scenes, found } = killTable(killed, 2, course)

  test.each(scenes)("$says: $point", ({ says, point, at }) => {
    const { said, left, spent, keys } = found(at)
    const early = said.filter((text) => text === "One moment.")
    const answers = said.filter((text) => text !== "One moment.")
    expect(answers).toHaveLength(1)
    expect(early.length).toBeLessThanOrEqual(1)
    // However often the tool ran, its side effect could tell that it was one.
    if (says.endsWith("booking")) expect(new Set(keys).size).toBe(1)
    // What the tool gave is used again, not asked for again.
    if (point === "model: tool used=kill" || point === "model: answered=kill@2") expect(keys).toHaveLength(1)
    // What was reserved when it was killed stays counted.
    // Where the model takes longer than a turn is held for it, what is committed first is that the turn waits.
    if (says === "plain dogs") expect(point.includes("committed") ? [1, 2] : [2]).toContain(spent)
    expect(left).toBe(0)
  })
})

test("two processes: what a person may use in a day is counted over both", async () => {
  const where = await placeFor({
    ...bot(),
    "bot.yaml": `
bot: tern
groups: always
models: { quick: { address: "${quick.address}", model: small, limits: { person: { calls: 10 } } } }
routes: [{ name: plain, when: { event: text }, handler: { model: quick, instructions: persona.md, facts: facts.md, memory: 0, fallback: "No more today." } }]`,
  })
  const service = await startService({ ...where, env })
  const other = await startService({ ...where, port: where.port + 1, env })
  const stage = await Stage.set(service, standin, { gather: 0 })
  for (let n = 0; n < 14; n++) await stage.say(`dogs ${n}`)
  const said = (await stage.answered(14)).map(({ text }) => text)
  expect(said.filter((text) => text === "No more today.")).toHaveLength(4)
  await service.stop()
  await other.stop()
}, 90_000)
