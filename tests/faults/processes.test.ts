import { Agent, request } from "node:http"
import type { Service, ServiceProcess, Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  pause,
  query,
  Stage,
  startProcess,
  startService,
  startStandin,
  takenUp,
  tempFolder,
} from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, crowd, hookSecret, insist, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

describe("one turn at a time, in order, over two processes on one database", () => {
  test("share the work: every message answered once and in order, whichever process takes the call", async () => {
    const database = await freshDatabase()
    const bot = tempFolder(quayBot)
    const [one, two] = await Promise.all([startService({ bot, database }), startService({ bot, database })])
    const first = await Stage.set(one, standin, { perSecond: 1000, gather: 0 })
    await eventually(
      async () => (await two.client.channels()).items.some((channel) => channel.key === first.key),
      "the second process to know the channel",
    )
    const secret = "quay-secret-word"
    await one.client.changeChannel(first.key, { secrets: { hookSecret: secret } })
    const people = Array.from({ length: 4 }, (_, at) => 8_000_000 + at)
    await one.client.connectChannel(first.key)
    for (const id of people) await standin.post("people", { id, first_name: `P${id}` })
    for (const id of people) await standin.post("say", { bot: first.bot.username, from: id, text: "say warm" })
    await eventually(
      async () => (await Promise.all(people.map((id) => first.answers(id)))).every((answers) => answers.length === 1),
      "everybody to be known",
    )
    await takenUp([one, two], first.key)
    // The same updates to both processes at once, as a redelivery in parallel would be.
    let update = 5_000_000
    const post = (service: Service, body: object) =>
      fetch(`${service.address}/in/${first.key}`, {
        method: "POST",
        headers: { "content-type": "application/json", "x-telegram-bot-api-secret-token": secret },
        body: JSON.stringify(body),
      }).then((answer) => answer.status)
    for (let n = 1; n <= 5; n++) {
      const bodies = people.map((id) => ({
        update_id: update++,
        message: {
          message_id: n,
          date: Math.floor(Date.now() / 1000),
          chat: { id, type: "private" },
          from: { id, is_bot: false, first_name: "P" },
          // Takes longer than the next call to come: two processes that both took the turn would both count.
          text: "count slowly",
        },
      }))
      const statuses = await Promise.all(bodies.flatMap((body) => [post(one, body), post(two, body)]))
      expect(new Set(statuses)).toEqual(new Set([200]))
    }
    for (const id of people) {
      const answers = await first.answered(6, id)
      expect(answers.slice(1).map((answer) => answer.text)).toEqual([1, 2, 3, 4, 5].map((n) => `count ${n}`))
    }
    const { items } = await two.client.messages({ channel: first.key, direction: "out", text: "count", limit: 200 })
    expect(items).toHaveLength(20)
    await two.stop()
    await one.stop()
  }, 60_000)

  longTest(
    "when one is killed the other goes on at once, in the middle of a conversation",
    async () => {
      const database = await freshDatabase()
      const bot = tempFolder(quayBot)
      const first = await startProcess({ bot, database })
      const stage = await Stage.set(first, standin, { receive: "polling" })
      await stage.say("count")
      await stage.answered(1)
      const second = await startProcess({ bot, database })
      await first.stop("SIGKILL")
      await stage.say("count")
      expect((await stage.answered(2))[1]!.text).toBe("count 2")
      await second.stop()
      // Nobody is there: the provider keeps it, and a new process goes on with the offset on record.
      await stage.say("count")
      const third = await startProcess({ bot, database })
      expect((await stage.answered(3))[2]!.text).toBe("count 3")
      await third.stop()
      expect(await stage.answers()).toHaveLength(3)
    },
    60_000,
  )
})

longTest(
  "SIGTERM leaves nothing half done: what had begun is ended, what had not is taken by the next",
  async () => {
    const database = await freshDatabase()
    // On a busy machine a handler must not reach its deadline.
    const unhurried = quayBot["bot.yaml"]!.replace("deadline: 2s", "deadline: 20s")
    const bot = tempFolder({ ...quayBot, "bot.yaml": unhurried })
    const service = await startProcess({ bot, database })
    const stages = await Promise.all([1, 2, 3].map(() => Stage.set(service, standin)))
    for (const [at, stage] of stages.entries()) {
      await stage.say(`slow ${at}`)
      await pause(150)
    }
    expect(await service.stop("SIGTERM")).toBe(0)
    const next = await startProcess({ bot, database })
    for (const [at, stage] of stages.entries()) {
      expect((await stage.answered(1)).map((one) => one.text)).toEqual([`slow ${at}`])
    }
    await pause(500)
    const { items } = await next.client.messages({ direction: "out" })
    expect(items.map((item) => item.status)).toEqual(["sent", "sent", "sent"])
    expect((await next.client.parked({ open: false })).items).toEqual([])
    await next.stop()
  },
  60_000,
)

test("SIGTERM waits for the answer to a call, and not for the connection that its caller keeps open", async () => {
  const service = await startProcess({ bot: tempFolder(quayBot), faults: "inlet: call read=hold1500" })
  const stage = await Stage.set(service, standin)
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
  const agent = new Agent({ keepAlive: true })
  const answered = new Promise<number | undefined>((done, fail) => {
    const headers = { "x-telegram-bot-api-secret-token": hookSecret }
    const call = request(`${service.address}/in/${stage.key}`, { method: "POST", agent, headers }, (answer) =>
      answer.resume().once("end", () => done(answer.statusCode)),
    )
    call.once("error", fail).end(JSON.stringify(update(stage.person.id, "say it")))
  })
  await pause(500)
  const begun = Date.now()
  const ended = service.stop("SIGTERM")
  expect(await answered).toBe(200)
  expect(await ended).toBe(0)
  // A connection may be kept for a minute and more.
  expect(Date.now() - begun).toBeLessThan(9000)
  agent.destroy()
}, 120_000)

test.each(["send: attempt begun=hold1500", "send: call answered=hold1500@2"])(
  "SIGTERM ends what has begun, also between two of its steps: %s",
  async (faults) => {
    const database = await freshDatabase()
    const service = await startProcess({ bot: tempFolder(quayBot), database, faults })
    const stage = await Stage.set(service, standin, { gather: 0 })
    await takenUp(service, stage.key)
    await stage.say("count")
    await stage.answered(1)
    const [said] = await stage.messages({ direction: "in" })
    await service.client.send({ to: said!.conversation, text: "The 14:20 is late." }, "late-1")
    const sending = "SELECT 1 FROM outbox WHERE state = 'sending'"
    await eventually(async () => (await query(database, sending)).length > 0, "the second to begin")
    expect(await service.stop("SIGTERM")).toBe(0)
    expect(await stage.answers()).toHaveLength(2)
    expect(await query(database, "SELECT 1 FROM outbox")).toEqual([])
    const accepted = { outcome: "accepted" }
    expect(await query(database, "SELECT outcome FROM attempts")).toEqual([accepted, accepted])
  },
  60_000,
)

longTest(
  "under load one of two is killed and the other told to stop: every message answered once, in order",
  async () => {
    const database = await freshDatabase()
    const bot = tempFolder(quayBot)
    const start = () => startProcess({ bot, database })
    const services = await Promise.all([start(), start()])
    const stage = await Stage.set(services[0]!, standin, { perSecond: 1000, gather: 0, onDoubt: "resend" })
    await services[0]!.client.changeChannel(stage.key, { secrets: { hookSecret } })
    const people = await crowd(stage, 12)
    await takenUp(services, stage.key)
    const rounds = 8
    const talking = people.map(async (chat) => {
      for (let n = 1; n <= rounds; n++) {
        await insist(services, stage.key, hookSecret, update(chat, "count"))
        await pause(600)
      }
    })
    await pause(1500)
    await services[0]!.stop("SIGKILL")
    services[0] = await start()
    await pause(500)
    expect(await services[1]!.stop("SIGTERM")).toBe(0)
    services[1] = await start()
    await Promise.all(talking)
    for (const chat of people) {
      const said = await eventually(
        async () => {
          const answers = (await stage.answers(chat)).map((answer) => answer.text!)
          return answers.includes(`count ${rounds}`) ? answers : undefined
        },
        `person ${chat} to have all answers`,
        40,
      )
      // Nothing twice but what was in doubt when a process was killed, and nothing out of order.
      expect([...new Set(said)]).toEqual(Array.from({ length: rounds }, (_, at) => `count ${at + 1}`))
    }
    const twice = (await Promise.all(people.map((chat) => stage.answers(chat)))).flat().length - people.length * rounds
    const { items } = await services[0]!.client.messages({ channel: stage.key, doubtful: true, limit: 200 })
    expect(twice).toBeLessThanOrEqual(items.length)
    await Promise.all(services.map((service) => service.stop()))
  },
  120_000,
)

test("a rolling restart under load leaves no doubt: each gives up its duties only when it has ended them", async () => {
  const database = await freshDatabase()
  const bot = tempFolder(quayBot)
  // What is under way when it ends is cut off only where its process ends as well.
  const services: (Service | ServiceProcess)[] = await Promise.all([1, 2].map(() => startProcess({ bot, database })))
  const stage = await Stage.set(services[0]!, standin, { perSecond: 1000, gather: 0 })
  await services[0]!.client.changeChannel(stage.key, { secrets: { hookSecret } })
  const people = await crowd(stage, 12)
  await eventually(async () => (await services[1]!.client.channels()).items.length > 0, "both to know the channel")
  // Every call is under way for a while, so that one is whenever a process is told to stop.
  await standin.post("faults", {
    kind: "slow",
    method: "sendMessage",
    count: 1000,
    seconds: 0.4,
    bot: stage.bot.username,
  })
  let talking = true
  const rounds = people.map(async (chat) => {
    let n = 0
    while (talking) {
      await insist(services, stage.key, hookSecret, update(chat, "count"))
      n++
      await pause(500)
    }
    return n
  })
  for (const at of [0, 1]) {
    await pause(1200)
    expect(await (services[at] as ServiceProcess).stop("SIGTERM")).toBe(0)
    services[at] = await startService({ bot, database })
  }
  talking = false
  const said = await Promise.all(rounds)
  for (const [at, chat] of people.entries()) {
    const counts = Array.from({ length: said[at]! }, (_, n) => `count ${n + 1}`)
    expect((await stage.answered(said[at]!, chat)).map((one) => one.text)).toEqual(counts)
  }
  const [service] = services
  expect((await service!.client.messages({ channel: stage.key, doubtful: true })).items).toEqual([])
  const attempts = await query<{ outcome: string }>(database, "SELECT DISTINCT outcome FROM attempts")
  expect(attempts).toEqual([{ outcome: "accepted" }])
  await Promise.all(services.map((service) => service.stop()))
}, 120_000)

describe("order does not hang on ids or clocks", () => {
  let database: string
  let service: Service
  let stage: Stage

  test("what was accepted first is first, also where its id is higher", async () => {
    database = await freshDatabase()
    const bot = tempFolder(quayBot)
    // The third call to come waits with its ids made, and is kept after the fourth.
    const slow = await startProcess({ bot, database, faults: "inlet: ids made=hold700@3" })
    service = await startService({ bot, database })
    stage = await Stage.set(service, standin, { perSecond: 1000, gather: 0 })
    await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
    const [chat] = await crowd(stage, 1)
    await eventually(
      async () => (await slow.client.channels()).items.length > 0,
      "the other process to know the channel",
    )
    await takenUp([slow, service], stage.key)
    // While this turn lasts, both messages come to wait in the line.
    for (const text of ["say 1", "nap"]) await insist([slow], stage.key, hookSecret, update(chat!, text))
    const late = bring(slow, stage.key, hookSecret, update(chat!, "say later"))
    await pause(200)
    await insist([service], stage.key, hookSecret, update(chat!, "say sooner"))
    expect(await late).toBe(200)
    const answers = await stage.answered(4, chat)
    expect(answers.map((answer) => answer.text)).toEqual(["you said 1", "awake", "you said sooner", "you said later"])
    const rows = await query<{ id: string; words: string }>(
      database,
      "SELECT id, words FROM messages WHERE direction = 'in' AND words IN ('say sooner', 'say later') ORDER BY id",
    )
    // Only then does this test show anything.
    expect(rows.map((row) => row.words)).toEqual(["say later", "say sooner"])
    await slow.stop()
  }, 60_000)

  test("two first messages of somebody new, kept at the same moment, are both heard", async () => {
    const own = await Stage.set(service, standin, { perSecond: 1000, gather: "500ms" })
    await service.client.changeChannel(own.key, { secrets: { hookSecret } })
    const [chat] = await crowd(own, 1)
    const pg = (await import("pg")).default
    const hold = new pg.Client({ connectionString: database })
    await hold.connect()
    const month = new Date().toISOString().slice(0, 7).replace("-", "_")
    await hold.query("BEGIN")
    // The first has its place in the line and waits; the second comes to the same line before the first is committed.
    await hold.query(`LOCK TABLE ONLY intakes_${month} IN SHARE MODE`)
    const both = [bring(service, own.key, hookSecret, update(chat!, "say one"))]
    await pause(400)
    both.push(bring(service, own.key, hookSecret, update(chat!, "say two")))
    await pause(400)
    await hold.query("COMMIT")
    await hold.end()
    expect(await Promise.all(both)).toEqual([200, 200])
    await eventually(async () => {
      const heard = await own.messages({ direction: "in" })
      return heard.length === 2 && heard.every((one) => one.status === "handled")
    }, "both to be handled")
  }, 60_000)

  test("the live stream passes nothing that a running transaction may still precede", async () => {
    const people = await crowd(stage, 2)
    for (const chat of people) await insist([service], stage.key, hookSecret, update(chat, "say hello"))
    await Promise.all(people.map((chat) => stage.answered(1, chat)))
    const [held] = await query<{ id: string }>(database, `SELECT id FROM conversations WHERE address = '${people[0]}'`)
    const seen: string[] = []
    const broken = new AbortController()
    const watching = (async () => {
      for await (const event of service.client.live(broken.signal))
        if (event.what === "message") seen.push(event.message!)
    })().catch(() => undefined)
    const told = async () => {
      const found = await Promise.all(seen.map((id) => service.client.message(id)))
      return found.map((one) => one.text).filter((text) => /^say (first|second)/.test(text))
    }
    const pg = (await import("pg")).default
    const hold = new pg.Client({ connectionString: database })
    await hold.connect()
    await hold.query("BEGIN")
    await hold.query("SELECT 1 FROM work WHERE conversation = $1 FOR UPDATE", [held!.id])
    // Has its number in the order of transactions, and waits for the line.
    const waits = bring(service, stage.key, hookSecret, update(people[0]!, "say first"))
    await pause(500)
    await insist([service], stage.key, hookSecret, update(people[1]!, "say second"))
    await pause(800)
    expect(await told()).toEqual([])
    await hold.query("COMMIT")
    await hold.end()
    expect(await waits).toBe(200)
    await eventually(async () => (await told()).length === 2, "both in the stream")
    broken.abort()
    await watching
    await service.stop()
  }, 60_000)
})
