import { Client } from "../../src/client/client.ts"
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
import { killTable, dying } from "../support/killTable.ts"
import { json, startEndpoint } from "../support/endpoint.ts"

let standin: Standin
let office: Awaited<ReturnType<typeof startEndpoint>>
const env = { WOBBET_PRIVATE_NETWORKS: "127.0.0.1" }

beforeAll(async () => {
  standin = await startStandin()
  office = await startEndpoint(async ({ event, url }, answer) => {
    if (url === "/slow") await pause(1800)
    if (url === "/slower") await pause(6000)
    if (url === "/early") {
      answer.writeHead(202).end()
      const { to, token } = event.data.answer
      await fetch(to, {
        method: "POST",
        headers: { "content-type": "application/json", authorization: `Bearer ${token}` },
        body: JSON.stringify({ replies: "/early 1" }),
      })
      return
    }
    if (url === "/later") {
      answer.writeHead(202).end()
      const { to, token } = event.data.answer
      void answerLater(to, token)
      return
    }
    const n = Number(event.data.state.n ?? 0) + 1
    json(answer, { replies: `${url} ${n}`, state: { n } })
  })
}, 60_000)
afterAll(endAll)

/** As a program would: again until it is kept, or refused as answered before. */
async function answerLater(to: string, token: string): Promise<void> {
  await pause(700)
  await eventually(
    async () => {
      const { status } = await fetch(to, {
        method: "POST",
        headers: { "content-type": "application/json", authorization: `Bearer ${token}` },
        body: JSON.stringify({ replies: "/later 1", state: { n: 1 } }),
      })
      return status === 204 || status === 409
    },
    "the answer to be kept",
    60,
  )
}

const bot = () => ({
  "bot.yaml": `
bot: tern
groups: always
routes:
  - { name: quick, when: { phrase: "quick" }, handler: { endpoint: "${office.url}/quick" } }
  - { name: slow, when: { phrase: "slow" }, handler: { endpoint: "${office.url}/slow", meanwhile: "One moment." } }
  - { name: slower, when: { phrase: "slower" }, handler: { endpoint: "${office.url}/slower", meanwhile: "One moment." } }
  - { name: later, when: { phrase: "later" }, handler: { endpoint: "${office.url}/later", meanwhile: "One moment." } }
  - { name: queue, when: { phrase: "queue" }, handler: { queue: baggage, meanwhile: "One moment." } }
  - { name: short, when: { phrase: "short" }, handler: { queue: short, within: 3s, fallback: "Nobody." } }
`,
})

interface Case {
  says: "quick" | "slow" | "later" | "queue" | "short"
  point: string
  /** Played by `npm test`, too. */
  always?: true
}

const killed: Case[] = [
  { says: "quick", point: "turn: handler chosen=kill" },
  { says: "quick", point: "endpoint: about to ask=kill" },
  { says: "quick", point: "endpoint: answered=kill" },
  { says: "quick", point: "turn: handler answered=kill" },
  { says: "quick", point: "turn: committed=kill" },
  { says: "slow", point: "turn: committed=kill@1" },
  { says: "slow", point: "endpoint: answered=kill" },
  { says: "slow", point: "elsewhere: answer kept=kill" },
  { says: "slow", point: "turn: handler answered=kill" },
  { says: "slow", point: "turn: committed=kill@2" },
  { says: "later", point: "endpoint: answered=kill" },
  { says: "later", point: "turn: committed=kill@1" },
  { says: "later", point: "turn: committed=kill@2" },
  { says: "queue", point: "turn: committed=kill@1" },
  { says: "queue", point: "elsewhere: leased=kill", always: true },
  { says: "queue", point: "elsewhere: answer kept=kill" },
  { says: "queue", point: "turn: handler answered=kill" },
  { says: "queue", point: "turn: committed=kill@2" },
  { says: "short", point: "turn: committed=kill@1" },
  { says: "short", point: "turn: committed=kill@2" },
]

/** A worker as the docs have it: it leases, answers, and asks again whatever happens. */
function worker(address: string, token: string) {
  const client = new Client(address, token)
  let over = false
  const done = (async () => {
    while (!over) {
      try {
        for (const { lease, turn } of (await client.leaseTurns("baggage", { wait: 1, seconds: 2 })).items) {
          const n = Number(turn.state.n ?? 0) + 1
          await client.finishTurn("baggage", { lease, replies: `queue ${n}`, state: { n } })
        }
      } catch {
        await pause(200)
      }
    }
  })()
  const end = () => ((over = true), done)
  atEnd(end)
  return end
}

async function course({ says, point }: Case) {
  const scene = await dying(standin, { bot: bot(), env, faults: point, settings: { onDoubt: "resend" } })
  const { first, stage, where } = scene
  const end = worker(first.address, first.token)
  const asked = office.calls.length
  await stage.say(says)
  const last = says === "short" ? "Nobody." : says === "queue" ? "queue 1" : `/${says} 1`
  await eventually(async () => (await stage.answers()).at(-1)?.text === last, `"${last}"`, 40)
  const service = await scene.settled()
  await end()
  const said = (await stage.answers()).map(({ text }) => text)
  const [left] = await query<{ n: number }>(where.database, "SELECT count(*)::int AS n FROM waits")
  const [state] = await query<{ state: object }>(where.database, "SELECT state FROM states")
  const own = office.calls.slice(asked).filter(({ event }) => event.data.channel.key === stage.key)
  await service.stop()
  return { said, left: left!.n, state: state?.state, ids: new Set(own.map(({ event }) => event.data.id)) }
}

describe("kill -9 between two steps of an endpoint's answer and of a lease", () => {
  const { scenes, found } = killTable(killed, 2, course)

  test.each(scenes)("$says: $point", ({ says, at }) => {
    const { said, left, state, ids } = found(at)
    if (says === "short") expect(said).toEqual(["Nobody."])
    else {
      const answer = says === "queue" ? "queue 1" : `/${says} 1`
      // An answer that was there before the turn had to wait needs no text before it.
      const early = says === "quick" || (says === "later" && said.length === 1) ? [] : ["One moment."]
      expect(said).toEqual([...early, answer])
      expect(state).toEqual({ n: 1 })
    }
    // However often it was asked, whoever was asked could tell that it was one turn.
    expect(ids.size).toBe(says === "queue" || says === "short" ? 0 : 1)
    expect(left).toBe(0)
  })
})

test("a worker that ends with its lease holds up nobody: the turn comes back to the next", async () => {
  const where = await placeFor(bot())
  const service = await startService(where)
  const stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("queue")
  const [held] = (await service.client.leaseTurns("baggage", { wait: 10, seconds: 1 })).items
  // Ends here: it neither finishes nor releases.
  const [again] = (await service.client.leaseTurns("baggage", { wait: 10 })).items
  expect(again!.turn.id).toBe(held!.turn.id)
  await expect(service.client.finishTurn("baggage", { lease: held!.lease, replies: "late" })).rejects.toMatchObject({
    status: 409,
  })
  await service.client.finishTurn("baggage", { lease: again!.lease, replies: "queue 1" })
  await expect(service.client.finishTurn("baggage", { lease: held!.lease, replies: "queue 2" })).rejects.toMatchObject({
    status: 409,
  })
  expect((await stage.answered(2)).map(({ text }) => text)).toEqual(["One moment.", "queue 1"])
  await service.stop()
}, 60_000)

test("two processes: a turn is leased once, and what one asked the other continues when it ends", async () => {
  const where = await placeFor(bot())
  const one = await startProcess({ ...where, env })
  const two = await startService({ ...where, env, port: where.port + 1 })
  const stage = await Stage.set(one, standin, { gather: 0 })
  const people = await Promise.all(
    Array.from({ length: 20 }, () =>
      standin.post<{ id: number }>("people", { first_name: "Ana", language_code: "en" }),
    ),
  )
  await Promise.all(people.map((from) => stage.send({ from: from.id, text: "queue" })))
  await Promise.all(people.map(({ id }) => stage.answered(1, id)))
  const leased = await Promise.all(
    Array.from({ length: 8 }, (_, n) => (n % 2 === 0 ? one : two).client.leaseTurns("baggage", { most: 5 })),
  )
  const turns = leased.flatMap(({ items }) => items)
  expect(new Set(turns.map(({ turn }) => turn.id)).size).toBe(turns.length)
  expect(turns.length).toBe(20)
  await Promise.all(turns.map(({ lease }) => two.client.finishTurn("baggage", { lease, replies: "done" })))
  await Promise.all(people.map(({ id }) => stage.answered(2, id)))
  await Promise.all(people.map((from) => stage.send({ from: from.id, text: "slower" })))
  // Once their turns wait, they have been told so, and their endpoints have not answered.
  await eventually(
    async () => {
      const sent = await two.client.messages({ channel: stage.key, text: "One moment.", status: "sent", limit: 200 })
      return sent.items.length === 40
    },
    "everybody to be told",
    20,
  )
  await one.stop("SIGKILL")
  // Long before the leases of the calls it was making run out.
  await eventually(
    async () => (await Promise.all(people.map(({ id }) => stage.answers(id)))).every((said) => said.length >= 4),
    "all answers",
    25,
  )
  for (const { id } of people)
    expect((await stage.answers(id)).map(({ text }) => text).slice(2)).toEqual(["One moment.", "/slower 1"])
  await two.stop()
}, 120_000)

test("whoever goes on talking while a turn waits is answered in order, over a restart", async () => {
  const where = await placeFor(bot())
  const first = await startProcess(where)
  const stage = await Stage.set(first, standin, { gather: 0 })
  await stage.say("queue")
  await stage.answered(1)
  await stage.say("queue")
  await pause(500)
  await first.stop("SIGKILL")
  const service = await startService(where)
  await pause(1500)
  expect((await stage.answers()).length).toBe(1)
  for (const n of [1, 2]) {
    const [one] = (await service.client.leaseTurns("baggage", { wait: 10, most: 5 })).items
    await service.client.finishTurn("baggage", { lease: one!.lease, replies: `queue ${n}` })
  }
  expect((await stage.answered(4)).map(({ text }) => text)).toEqual([
    "One moment.",
    "queue 1",
    "One moment.",
    "queue 2",
  ])
  await service.stop()
}, 60_000)

test("an answer that comes before the turn waits is there when it does", async () => {
  const where = await placeFor({
    "bot.yaml": `
bot: tern
groups: always
routes: [{ name: early, when: { phrase: "early" }, handler: { endpoint: "${office.url}/early", within: 20s } }]`,
  })
  // The turn is held back after the endpoint has said 202, so that its answer is there first.
  const service = await startProcess({
    ...where,
    env,
    faults: "turn: handler chosen=hold1, endpoint: answered=hold700",
  })
  const stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("early")
  expect((await eventually(async () => (await stage.answers())[0], "the answer", 8)).text).toBe("/early 1")
  await service.stop()
}, 60_000)
