import { renameSync } from "node:fs"
import { join } from "node:path"
import type { Service, Standin } from "./support/harness.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  pause,
  Stage,
  startService,
  startStandin,
  tempFolder,
} from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

describe("handlers that misbehave", () => {
  let service: Service
  beforeAll(async () => {
    service = await startService({ bot: tempFolder(quayBot) })
  })

  test.each([
    ["throws", "throw", "the fog is too thick"],
    ["waits for ever", "wait for ever", "did not answer within 2 s"],
    ["never leaves its loop", "spin", "loop never ends"],
  ])(
    "one that %s hurts only its own message, and its author learns why",
    async (_name, text, reason) => {
      const stage = await Stage.set(service, standin)
      await stage.say(text)
      const parked = await eventually(
        async () => {
          const { items } = await service.client.parked({ channel: stage.key })
          // Others are answered while this one fails.
          return items[0]
        },
        "the failed turn to be parked",
        40,
      )
      expect(parked).toMatchObject({
        what: "turn",
        cause: "handler failed",
        reason: expect.stringContaining(reason) as unknown,
      })
      await stage.say("say still here")
      expect((await stage.answered(1))[0]!.text).toBe("you said still here")
      const { paths } = await service.client.passage(parked.message)
      expect(paths[0]!.turns.map((turn) => turn.outcome)).toEqual(["failed", "failed", "parked"])
      expect(paths[0]!.turns[0]!.error!.message).toContain(reason)
    },
    60_000,
  )

  test("a stack names the author's own file and line, and what it printed is kept", async () => {
    const stage = await Stage.set(service, standin)
    await stage.say("throw")
    const turn = await eventually(async () => {
      const [message] = await stage.messages({ direction: "in" })
      return (await service.client.passage(message!.id)).paths[0]!.turns[0]
    }, "the first failure")
    expect(turn.error!.stack).toMatch(/handlers\/throws\.ts:2/)
    expect(turn.log).toEqual(["about to fail"])
  })

  test("others running beside one that spins are answered", async () => {
    const bad = await Stage.set(service, standin)
    const others = await Promise.all([1, 2, 3].map(() => Stage.set(service, standin)))
    await bad.say("spin")
    await Promise.all(others.map((one, at) => one.say(`slow ${at}`)))
    const answers = await Promise.all(others.map((one) => one.answered(1)))
    expect(answers.map(([first]) => first!.text)).toEqual(["slow 0", "slow 1", "slow 2"])
  }, 60_000)

  test("a handler sees nothing of the service's environment", async () => {
    const stage = await Stage.set(service, standin)
    await stage.say("say secret")
    expect((await stage.answered(1))[0]!.text).toBe("you said secret")
  })
})

describe("two processes on one database", () => {
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
    await new Promise((done) => setTimeout(done, 2500))
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
          text: "count",
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

  test("when one is killed the other goes on at once, in the middle of a conversation", async () => {
    const database = await freshDatabase()
    const bot = tempFolder(quayBot)
    const first = await startService({ bot, database })
    const stage = await Stage.set(first, standin, { receive: "polling" })
    await stage.say("count")
    await stage.answered(1)
    const second = await startService({ bot, database })
    await first.stop("SIGKILL")
    await stage.say("count")
    expect((await stage.answered(2))[1]!.text).toBe("count 2")
    await second.stop()
    // Nobody is there: the provider keeps it, and a new process goes on with the offset on record.
    await stage.say("count")
    const third = await startService({ bot, database })
    expect((await stage.answered(3))[2]!.text).toBe("count 3")
    await third.stop()
    expect(await stage.answers()).toHaveLength(3)
  }, 60_000)
})

test("a service killed in the middle of a call leaves a doubt on record, not a silence", async () => {
  const database = await freshDatabase()
  const bot = tempFolder(quayBot)
  const first = await startService({ bot, database })
  const stage = await Stage.set(first, standin)
  await standin.post("faults", { kind: "silent", method: "sendMessage", count: 1 })
  await stage.say("say nothing comes back")
  await eventually(
    async () => (await stage.messages({ direction: "out", status: "sending" }))[0],
    "the call to be under way",
  )
  await first.stop("SIGKILL")
  const second = await startService({ bot, database })
  const parked = await eventually(
    async () => (await second.client.parked({ channel: stage.key })).items[0],
    "the doubt",
  )
  expect(parked).toMatchObject({
    cause: "doubt",
    reason: expect.stringContaining("the service stopped while the call was under way") as unknown,
  })
  await second.stop()
}, 60_000)

test("SIGTERM leaves nothing half done: what had begun is ended, what had not is taken by the next", async () => {
  const database = await freshDatabase()
  const bot = tempFolder(quayBot)
  const service = await startService({ bot, database })
  const stages = await Promise.all([1, 2, 3].map(() => Stage.set(service, standin)))
  for (const [at, stage] of stages.entries()) {
    await stage.say(`slow ${at}`)
    await pause(150)
  }
  expect(await service.stop("SIGTERM")).toBe(0)
  const next = await startService({ bot, database })
  for (const [at, stage] of stages.entries()) {
    expect((await stage.answered(1)).map((one) => one.text)).toEqual([`slow ${at}`])
  }
  await pause(500)
  const { items } = await next.client.messages({ direction: "out" })
  expect(items.map((one) => one.status)).toEqual(["sent", "sent", "sent"])
  expect((await next.client.parked({ open: false })).items).toEqual([])
  await next.stop()
}, 60_000)

test("a bot folder is followed on save; a version that does not check leaves the one before in place", async () => {
  const { writeFiles } = await import("./support/harness.ts")
  const folder = tempFolder(quayBot)
  const service = await startService({ bot: folder })
  const stage = await Stage.set(service, standin)
  await stage.say("say one")
  expect((await stage.answered(1))[0]!.text).toBe("you said one")
  const before = (await service.client.bot()).release

  // As many editors save: a new file put in the old one's place.
  writeFiles(folder, {
    "handlers/.echo.new": `import { handler } from "wobbet"\nexport default handler(({ slots }) => "they said " + slots.words)`,
  })
  renameSync(join(folder, "handlers/.echo.new"), join(folder, "handlers/echo.ts"))
  await eventually(async () => (await service.client.bot()).release !== before, "the new release")
  await stage.say("say two")
  expect((await stage.answered(2))[1]!.text).toBe("they said two")

  writeFiles(folder, {
    "handlers/echo.ts": `import { handler } from "wobbet"\n\nexport default handler(({ slots }) => "broken + slots.words)`,
  })
  const broken = await eventually(async () => {
    const bot = await service.client.bot()
    return bot.faults.length > 0 ? bot : undefined
  }, "the fault")
  expect(broken.faults[0]).toMatchObject({
    file: expect.stringContaining("handlers/echo.ts") as unknown,
    line: 3,
    says: expect.stringContaining("Unterminated string") as unknown,
  })
  expect(service.said()).toMatch(/echo\.ts:3:\d+ {2}Unterminated string literal/)
  expect(broken.faults[0]!.remedy).toContain("not closed")
  await stage.say("say three")
  expect((await stage.answered(3))[2]!.text).toBe("they said three")

  writeFiles(folder, {
    "handlers/echo.ts": `export const words = "none"`,
    "bot.yaml": quayBot["bot.yaml"]!.replace("handler: echo", "handler: eco"),
  })
  const two = await eventually(async () => {
    const { faults } = await service.client.bot()
    return faults.length === 2 ? faults : undefined
  }, "both faults")
  expect(two.map((fault) => fault.says)).toEqual(['there is no handler "eco"', "the file has no default export"])

  writeFiles(folder, {
    "handlers/echo.ts": `throw new Error("at load")\nexport default () => "x"`,
    "bot.yaml": quayBot["bot.yaml"]!,
  })
  const loading = await eventually(async () => {
    const { faults } = await service.client.bot()
    return faults[0]?.says.includes("at load") ? faults[0] : undefined
  }, "the fault of loading")
  expect(loading).toMatchObject({ file: expect.stringContaining("handlers/echo.ts") as unknown, line: 1 })
}, 60_000)
