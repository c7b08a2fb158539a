import { Client } from "../src/client/client.ts"
import { setKind } from "./support/kinds.ts"
import type { Service, Standin } from "./support/harness.ts"
import {
  endAll,
  eventually,
  pause,
  placeFor,
  query,
  run,
  Stage,
  startService,
  startStandin,
} from "./support/harness.ts"

let standin: Standin
let service: Service
let stage: Stage
let place: Awaited<ReturnType<typeof placeFor>>

const bot = `
bot: tern
groups: always
turnsPerMinute: 1000
routes:
  - { name: bag, when: { phrase: "bag $text{what}" }, handler: { queue: baggage, within: 60s, meanwhile: "Somebody looks for it.", fallback: "Nobody is there." } }
  - { name: quiet, when: { phrase: "quiet $text" }, handler: { queue: quiet, within: 3s, fallback: "Nobody is there." } }
  - { name: bare, when: { phrase: "bare $text" }, handler: { queue: bare, within: 2s } }
  - { name: desk, when: { phrase: "desk $text" }, handler: { text: "The desk." } }
  - { name: hello, when: { phrase: "hello" }, handler: { text: "Hello!" } }
`

beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor({ "bot.yaml": bot })
  service = await startService(place)
  stage = await Stage.set(service, standin, { gather: 0 })
}, 60_000)
afterAll(endAll)

const client = () => service.client
const lease = async (name = "baggage", more: object = {}) =>
  (await client().leaseTurns(name, { wait: 10, ...more })).items
const refused = (asked: Promise<unknown>) =>
  asked.then(
    () => undefined,
    (error: { status: number; problem?: { type?: string } }) => error.status,
  )

test("a turn waits until a worker leases and finishes it; what it says and remembers is committed once", async () => {
  const before = (await stage.answers()).length
  await stage.say("bag red with wheels")
  expect((await stage.answered(before + 1)).at(-1)!.text).toBe("Somebody looks for it.")
  const [one] = await lease()
  expect(one).toMatchObject({
    queue: "baggage",
    leases: 1,
    turn: {
      bot: "tern",
      lane: "live",
      route: "bag",
      slots: { what: "red with wheels" },
      message: { text: "bag red with wheels" },
    },
  })
  expect(await lease("baggage", { wait: 0 })).toEqual([])
  const [shown] = (await client().queued("baggage")).items
  expect(shown).toMatchObject({ text: "bag red with wheels", leases: 1 })
  expect(shown!.leasedBy).toBeTruthy()
  await client().finishTurn("baggage", {
    lease: one!.lease,
    replies: ["It stands at **the quay**."],
    state: { bags: 1 },
  })
  expect((await stage.answered(before + 2)).at(-1)!.text).toBe("It stands at the quay.")
  expect(await refused(client().finishTurn("baggage", { lease: one!.lease, replies: ["twice"] }))).toBe(409)
  await pause(200)
  expect(await refused(client().finishTurn("baggage", { lease: one!.lease, replies: ["again"] }))).toBe(409)
  expect((await stage.answers()).length).toBe(before + 2)
  expect(await query(place.database, "SELECT 1 FROM waits")).toEqual([])
  const [newest] = (await client().passages({ limit: 1 })).items
  const [path] = (await client().passage(newest!.id)).paths
  expect(path!.turns[0]).toMatchObject({ outcome: "handled", handler: "queue", stateAfter: { bags: 1 } })
  expect(path!.turns[0]!.elsewhere!.calls[0]).toMatchObject({ to: "baggage", came: "finished" })
})

test("first in, first out in a conversation; others are leased beside it", async () => {
  const other = await Stage.set(service, standin, { gather: 0 })
  const before = (await stage.answers()).length
  for (const what of ["one", "two"]) await stage.say(`quiet ${what}`)
  await other.say("quiet other")
  const leased: Awaited<ReturnType<typeof lease>> = []
  await eventually(async () => leased.push(...(await lease("quiet", { most: 10 }))) >= 2, "both", 5)
  const [first, beside] = leased
  expect([first!.turn.message.text, beside!.turn.message.text].sort()).toEqual(["quiet one", "quiet other"])
  for (const { lease, turn } of leased)
    await client().finishTurn("quiet", { lease, replies: `done ${turn.message.text}` })
  const [second] = await lease("quiet")
  expect(second!.turn.message.text).toBe("quiet two")
  await client().finishTurn("quiet", { lease: second!.lease, replies: "done too" })
  expect((await stage.answered(before + 2)).slice(before).map(({ text }) => text)).toEqual([
    "done quiet one",
    "done too",
  ])
})

test("a lease that is over comes back; who had it may still finish until it is another's", async () => {
  const before = (await stage.answers()).length
  await stage.say("bag small")
  const [mine] = await lease("baggage", { seconds: 1 })
  await pause(1200)
  const [again] = await lease()
  expect(again).toMatchObject({ leases: 2, turn: { id: mine!.turn.id } })
  expect(await refused(client().finishTurn("baggage", { lease: mine!.lease, replies: ["late"] }))).toBe(409)
  expect(await refused(client().finishTurn("quiet", { lease: again!.lease, replies: ["wrong queue"] }))).toBe(409)
  const { until } = await client().extendLease("baggage", again!.lease, 3600)
  expect(until).toBe(again!.until)
  await client().releaseTurn("baggage", again!.lease)
  const [third] = await lease("baggage", { seconds: 1 })
  await pause(1200)
  await client().finishTurn("baggage", { lease: third!.lease, replies: ["Found."] })
  expect((await stage.answered(before + 2)).at(-1)!.text).toBe("Found.")
})

test("nobody answers in time: the fallback; without one, parked; a later answer is refused", async () => {
  const before = (await stage.answers()).length
  await stage.say("quiet please")
  const [one] = await lease("quiet", { seconds: 1 })
  expect((await stage.answered(before + 1)).at(-1)!.text).toBe("Nobody is there.")
  expect(await refused(client().finishTurn("quiet", { lease: one!.lease, replies: ["late"] }))).toBe(409)
  await stage.say("bare bones")
  const parked = await eventually(async () => (await client().parked({ channel: stage.key })).items[0], "parked")
  expect(parked.reason).toContain('no answer came in time from the queue "bare": nobody leased it')
  await client().dropParked(parked.id)
})

test("leased five times and never finished, it is given up before its time", async () => {
  const before = (await stage.answers()).length
  await stage.say("bag lost")
  await stage.answered(before + 1)
  for (let n = 1; n <= 5; n++) {
    const [one] = await lease("baggage", { seconds: 1 })
    expect(one!.leases).toBe(n)
  }
  expect(await lease("baggage", { wait: 0 })).toEqual([])
  expect((await stage.answered(before + 2)).at(-1)!.text).toBe("Nobody is there.")
  const [newest] = (await client().passages({ limit: 1 })).items
  const [path] = (await client().passage(newest!.id)).paths
  expect(path!.turns[0]!.elsewhere!.instead).toContain("leased 5 times and never finished")
}, 60_000)

test("replies that cannot be said are refused while the worker can still do something about it", async () => {
  const before = (await stage.answers()).length
  await stage.say("bag odd")
  const [one] = await lease()
  for (const wrong of [
    { replies: [{ part: "text" }] },
    { replies: "" },
    { state: "x" },
    { answer: "hello" },
    { leave: "nowhere" },
  ])
    expect(await refused(client().finishTurn("baggage", { lease: one!.lease, ...wrong } as never))).toBe(400)
  expect(
    await refused(
      client().finishTurn("baggage", { lease: one!.lease, state: { at: "x".repeat(300_000) }, replies: "big" }),
    ),
  ).toBe(400)
  await client().finishTurn("baggage", { lease: one!.lease, leave: { route: "desk" } })
  expect((await stage.answered(before + 2)).at(-1)!.text).toBe("The desk.")
})

test("what was said in one go waits as one turn, and all of it is shown so", async () => {
  const gathering = await Stage.set(service, standin, { gather: "1s" })
  await gathering.say("bag in two")
  await gathering.say("bag in parts")
  await gathering.answered(1)
  const [one] = await lease()
  expect(one!.turn.messages.map(({ text }) => text)).toEqual(["bag in two", "bag in parts"])
  const said = await gathering.messages({ direction: "in" })
  expect(said.map(({ status }) => status)).toEqual(["being handled", "being handled"])
  expect((await gathering.messages({ status: "being handled" })).length).toBe(2)
  await client().finishTurn("baggage", { lease: one!.lease, replies: ["Both."] })
  expect((await gathering.answered(2)).at(-1)!.text).toBe("Both.")
})

test("a worker waits for the next, and hanging up loses nothing", async () => {
  const before = (await stage.answers()).length
  const waiting = lease("baggage", { wait: 20 })
  const gone = new AbortController()
  const hung = fetch(`${service.address}/api/v1/queues/baggage/lease`, {
    method: "POST",
    headers: { authorization: `Bearer ${service.token}`, "content-type": "application/json" },
    body: JSON.stringify({ wait: 20 }),
    signal: gone.signal,
  }).catch(() => undefined)
  await pause(200)
  gone.abort()
  await hung
  const began = Date.now()
  await stage.say("bag waited for")
  const [one] = await waiting
  expect(Date.now() - began).toBeLessThan(5000)
  await client().finishTurn("baggage", { lease: one!.lease, replies: ["There."] })
  await stage.answered(before + 2)
})

test("whoever takes a conversation over ends its waiting, and the lease with it", async () => {
  const before = (await stage.answers()).length
  await stage.say("bag taken over")
  const [one] = await lease()
  const { conversation } = one!.turn
  await client().takeConversation(conversation.id)
  await eventually(async () => (await query(place.database, "SELECT 1 FROM waits")).length === 0, "the turn's end")
  expect(await refused(client().finishTurn("baggage", { lease: one!.lease, replies: ["late"] }))).toBe(409)
  await client().setAnsweredBy(conversation.id, "bot")
  await stage.say("hello")
  expect((await stage.answered(before + 2)).at(-1)!.text).toBe("Hello!")
})

test("in the shell: lease and finish", async () => {
  const before = (await stage.answers()).length
  const none = await run(["queue", "lease", "baggage"], service.env)
  expect(none).toMatchObject({ code: 1, out: 'Nothing waits at the queue "baggage".\n' })
  await stage.say("bag by shell\u001b[31m")
  const taken = await run(["queue", "lease", "baggage", "--wait", "10", "--json"], service.env)
  const [item] = (JSON.parse(taken.out) as { items: { lease: string }[] }).items
  expect((await run(["queue", "list"], service.env)).out).toMatch(/baggage\s+0\s+1/)
  const shown = await run(["queue", "show", "baggage"], service.env)
  expect(shown.out).toContain("bag by shell")
  expect(shown.out).not.toContain("\u001b")
  expect(await run(["queue", "finish", "baggage", item!.lease], service.env)).toMatchObject({ code: 1 })
  const done = await run(
    ["queue", "finish", "baggage", item!.lease, "--text", "By shell.", "--state", '{"by":"shell"}'],
    service.env,
  )
  expect(done).toMatchObject({ code: 0 })
  expect((await stage.answered(before + 2)).at(-1)!.text).toBe("By shell.")
  const twice = await run(["queue", "finish", "baggage", item!.lease, "--text", "Twice."], service.env)
  expect(twice.code).toBe(1)
  expect(twice.err).toMatch(/not held any more|answered already/)
})

test("STOP ends the waiting of a number at once, and nothing is said to it any more", async () => {
  const phone = await setKind(service, "sms", { gather: 0 })
  await phone.says("bag and gone")
  await phone.answered(1)
  const [one] = await lease()
  await phone.says("STOP")
  await eventually(async () => (await query(place.database, "SELECT 1 FROM waits")).length === 0, "the end", 5)
  expect(await refused(client().finishTurn("baggage", { lease: one!.lease, replies: ["late"] }))).toBe(409)
  const { items } = await client().messages({ channel: phone.key, direction: "in" })
  expect(items.map(({ text, status }) => [text, status])).toEqual([
    ["STOP", "opted out"],
    ["bag and gone", "opted out"],
  ])
})

test("a queue is looked at page by page", async () => {
  await query(
    place.database,
    `INSERT INTO waits (conversation, message, position, kind, place, bot, lane, channel, turn, asked, until, due_at)
     SELECT v.id, m.id, m.position, 'queue', 'crowd', 'tern', 'live', m.channel, '{}', '{}', now() + interval '1 hour', now()
     FROM (SELECT DISTINCT ON (conversation) * FROM messages) m JOIN conversations v ON v.id = m.conversation`,
  )
  const first = await client().queued("crowd", { limit: 1 })
  expect(first.items).toHaveLength(1)
  const second = await client().queued("crowd", { limit: 1, cursor: first.next! })
  expect(second.items[0]!.conversation).not.toBe(first.items[0]!.conversation)
  expect((await client().queued("crowd", { limit: 100 })).items.slice(0, 2)).toEqual([...first.items, ...second.items])
  await query(place.database, "DELETE FROM waits")
})

test("a look at the queues reads no more of one at which very many wait than it counts", async () => {
  await query(
    place.database,
    `INSERT INTO waits (conversation, message, position, kind, place, bot, lane, channel, turn, asked, until, due_at, since, lease)
     SELECT 'cnv_crowd' || n, 'msg_crowd' || n, 1, 'queue', CASE WHEN n < 3 THEN 'few' ELSE 'many' END, 'tern', 'live', 'x', '{}', '{}',
       now() + interval '1 hour', now() + CASE WHEN n = 1 THEN 60 ELSE 0 END * interval '1 second', '2026-11-30T10:00:00Z'::timestamptz + n * interval '1 ms', CASE WHEN n = 1 THEN 'lse_crowd' END
     FROM generate_series(1, 10010) n`,
  )
  const { items } = await client().queues()
  expect(items).toEqual([
    { queue: "few", waiting: 1, more: false, leased: 1, oldest: "2026-11-30T10:00:00.001Z" },
    { queue: "many", waiting: 10_000, more: true, leased: 0, oldest: "2026-11-30T10:00:00.003Z" },
  ])
  expect((await run(["queue", "list"], service.env)).out).toMatch(/^many +10000\+ +0 /m)
  await query(place.database, "DELETE FROM waits")
})

test("a worker's token opens its queue and nothing else", async () => {
  const { code, out } = await run(["token", "make", "bare-desk", "--queue", "bare"], service.env)
  expect(code).toBe(0)
  const worker = new Client(service.address, out.trim())
  expect((await worker.leaseTurns("bare")).items).toEqual([])
  expect(await refused(worker.finishTurn("bare", { lease: "lease_none", replies: "x" }))).toBe(409)
  for (const closed of [
    worker.leaseTurns("baggage"),
    worker.finishTurn("baggage", { lease: "lease_none", replies: "x" }),
    worker.queues(),
    worker.queued("bare"),
    worker.messages(),
    worker.secrets(),
    worker.session(),
  ])
    expect([401, 403]).toContain(await refused(closed))
  expect((await run(["token", "list"], service.env)).out).toContain("worker (bare)")
  expect(await run(["token", "make", "x", "--queue", "Not A Queue"], service.env)).toMatchObject({ code: 2 })
})
