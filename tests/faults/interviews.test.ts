import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import type { Standin } from "../support/harness.ts"
import {
  atEnd,
  endAll,
  eventually,
  pause,
  placeFor,
  query,
  Stage,
  startProcess,
  startService,
  startStandin,
} from "../support/harness.ts"
import { longTest, killTable, dying } from "../support/killTable.ts"

let standin: Standin
/** Keys with which the side effect was asked for, by whose it was. */
const asked = new Map<string, string[]>()
let effects: string

beforeAll(async () => {
  standin = await startStandin()
  const server = createServer((call, answer) => {
    const [, who, key] = call.url!.split("/")
    asked.set(who!, [...(asked.get(who!) ?? []), key!])
    answer.end("done")
  })
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  effects = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  atEnd(() => server.close() && undefined)
}, 60_000)
afterAll(endAll)

const bot = () => ({
  "bot.yaml": `
bot: tern
groups: always
routes:
  - { name: ferry, when: { phrase: "go" }, handler: ferry }
  - { name: plain, when: { phrase: "plainly" }, handler: plain }
  - { name: unsure, when: { phrase: "unsure" }, handler: unsure }
  - { name: short, when: { phrase: "quickly" }, handler: short }
`,
  "handlers/ferry.ts": `import { answer, interview, once, pause, tell } from "wobbet"
export default interview(function* ({ contact }) {
  const seats = yield* answer.integer("How many?")
  const done = yield* once("book", async (key) => (await fetch("${effects}/" + contact.address + "/" + key)).text())
  yield* tell(seats + " " + done)
  yield* pause({ for: "1s" })
  yield* tell("later")
})`,
  "handlers/plain.ts": `import { handler } from "wobbet"
export default handler(async ({ once, contact, messages }) => {
  const done = await once("book", async (key) => (await fetch("${effects}/" + contact.address + "/" + key)).text())
  return messages.length + " " + done
})`,
  "handlers/unsure.ts": `import { handler } from "wobbet"
export default handler(async ({ once, contact }) =>
  once("book", async (key) => (await fetch("${effects}/" + contact.address + "/" + key)).text(), { ifUnclear: "report" }))`,
  "handlers/short.ts": `import { answer, interview } from "wobbet"
export default interview(function* () { return yield* answer.text("Quick?") }, { within: "2s", remind: "1s" })`,
})

interface Case {
  point: string
  /** How often the side effect is asked for, always with one key. */
  effects: number
  /** Played by `npm test`, too. */
  always?: true
}

const killed: Case[] = [
  { point: "turn: handler chosen=kill@2", effects: 1 },
  { point: "once: start recorded=kill", effects: 1 },
  { point: "once: callback ended=kill", effects: 2, always: true },
  { point: "once: result recorded=kill", effects: 1, always: true },
  { point: "turn: handler answered=kill@1", effects: 1 },
  { point: "turn: handler answered=kill@2", effects: 1 },
  { point: "turn: committed=kill@2", effects: 1 },
  { point: "turn: handler answered=kill@3", effects: 1 },
  { point: "turn: committed=kill@3", effects: 1 },
  { point: "timer: due=kill", effects: 1, always: true },
  { point: "timer: in line=kill", effects: 1 },
]

async function course({ point }: Case) {
  const scene = await dying(standin, { bot: bot(), faults: point, settings: { onDoubt: "resend" } })
  const { stage, where } = scene
  await stage.say("go")
  await stage.answered(1)
  await stage.say("2")
  await stage.answered(3)
  const service = await scene.settled()
  const said = (await stage.answers()).map(({ text }) => text)
  const interviews = await query<{ ended: string }>(where.database, "SELECT ended FROM interviews")
  const [left] = await query<{ n: number }>(where.database, "SELECT count(*)::int AS n FROM timers")
  await service.stop()
  return {
    said,
    keys: asked.get(String(stage.person.id)) ?? [],
    ended: interviews.map(({ ended }) => ended),
    left: left!.n,
  }
}

describe("kill -9 between two steps of a question, of a side effect and of a time", () => {
  const { scenes, found } = killTable(killed, 2, course)

  test.each(scenes)("$point", ({ effects, at }) => {
    const { said, keys, ended, left } = found(at)
    expect(said).toEqual(["How many?", "2 done", "later"])
    expect(keys).toHaveLength(effects)
    expect(new Set(keys).size).toBe(1)
    expect(ended).toEqual(["done"])
    expect(left).toBe(0)
  })
})

longTest(
  "a side effect whose result was lost is reported where its author wants that, and not run again",
  async () => {
    const where = await placeFor(bot())
    const first = await startProcess({ ...where, faults: "once: callback ended=kill" })
    const stage = await Stage.set(first, standin, { gather: 0 })
    await stage.say("unsure")
    await first.ended
    const service = await startService(where)
    const [parked] = await eventually(
      async () => {
        const { items } = await service.client.parked({ channel: stage.key })
        return items.length > 0 ? items : undefined
      },
      "the report",
      60,
    )
    expect(parked!.reason).toMatch(/once "book": it was begun at .*, and whether it was done is not known/)
    expect(asked.get(String(stage.person.id))).toHaveLength(1)
    await service.stop()
  },
  90_000,
)

test("once a side effect has begun, what comes meanwhile belongs to the next turn, also after a crash", async () => {
  const where = await placeFor(bot())
  const first = await startProcess({ ...where, faults: "once: start recorded=hold1500, once: callback ended=kill" })
  const stage = await Stage.set(first, standin, { gather: 0 })
  await stage.say("plainly")
  await pause(300)
  await stage.say("plainly")
  await first.ended
  // From now on they would be one turn, said within so short a time.
  await query(where.database, `UPDATE channels SET settings = settings || '{"gather": "3s"}'`)
  const service = await startService(where)
  expect((await stage.answered(2)).map(({ text }) => text)).toEqual(["1 done", "1 done"])
  expect(new Set(asked.get(String(stage.person.id))).size).toBe(2)
  await service.stop()
}, 90_000)

longTest(
  "times fire once over two processes, and after a standstill at once, with no reminder of what is over",
  async () => {
    const where = await placeFor(bot())
    const [first, second] = [await startProcess(where), await startProcess({ ...where, port: where.port + 1 })]
    const stage = await Stage.set(first, standin, { gather: 0 })
    const people = await Promise.all(
      Array.from({ length: 12 }, () =>
        standin.post<{ id: number }>("people", { first_name: "Ana", language_code: "en" }),
      ),
    )
    const say = (text: string) => Promise.all(people.map((from) => stage.send({ from: from.id, text })))
    const heard = (count: number) => Promise.all(people.map(({ id }) => stage.answered(count, id)))
    await say("go")
    await heard(1)
    await say("3")
    await heard(3)
    await say("quickly")
    await heard(4)
    await Promise.all([first.stop("SIGKILL"), second.stop("SIGKILL")])
    await pause(2500)
    const [third, fourth] = [await startService(where), await startService({ ...where, port: where.port + 1 })]
    await heard(5)
    await pause(2000)
    for (const answers of await heard(5))
      expect(answers.map(({ text }) => text)).toEqual([
        "How many?",
        "3 done",
        "later",
        "Quick?",
        expect.stringContaining("stopped waiting"),
      ])
    await Promise.all([third.stop(), fourth.stop()])
  },
  120_000,
)
