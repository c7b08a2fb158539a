import { existsSync, readdirSync } from "node:fs"
import { join } from "node:path"
import type { Service, ServiceProcess, Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freePort,
  pause,
  quiet,
  Stage,
  startDatabaseServer,
  startProcess,
  startService,
  startStandin,
  takenUp,
  tempFolder,
} from "../support/harness.ts"
import { long } from "../support/killTable.ts"
import { setKind } from "../support/kinds.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, crowd, hookSecret, insist, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

let server: Awaited<ReturnType<typeof startDatabaseServer>>
beforeAll(async () => {
  server = await startDatabaseServer()
}, 60_000)

/** A service with a database of its own on the server that is stopped; one that is killed has a process of its own. */
async function scene<Started extends Service>(
  settings: object,
  start: (where: { database: string; bot: string; home: string; port: number }) => Promise<Started>,
) {
  const where = {
    database: await server.freshDatabase(),
    bot: tempFolder(quayBot),
    home: tempFolder(),
    port: await freePort(),
  }
  const service = await start(where)
  const stage = await Stage.set(service, standin, { perSecond: 1000, gather: 0, ...settings })
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
  await standin.post("start", { bot: stage.bot.username, from: stage.person.id })
  await takenUp(service, stage.key)
  const say = (text: string, to: Service = service) => bring(to, stage.key, hookSecret, update(stage.person.id, text))
  return { where, service, stage, say }
}

const counts = (n: number) => Array.from({ length: n }, (_, at) => `count ${at + 1}`)

test.each(["SIGINT", ...long("SIGQUIT" as const)] as const)(
  "answered means kept: PostgreSQL ended with %s and started again under load; 503 meanwhile, nothing lost or doubled",
  async (signal) => {
    const { service, stage, say } = await scene({ onDoubt: "resend" }, startService)
    const people = await crowd(stage, 10)
    const rounds = 6
    const talking = people.map(async (chat) => {
      for (let n = 0; n < rounds; n++) {
        await insist([service], stage.key, hookSecret, update(chat, "count"))
        await pause(500)
      }
    })
    await pause(1200)
    await server.stop(signal)
    const begun = Date.now()
    expect(await say("say away")).toBe(503)
    // A provider waits a few seconds for an answer, no more.
    expect(Date.now() - begun).toBeLessThan(5000)
    await pause(1500)
    await server.start()
    await Promise.all(talking)
    for (const chat of people) {
      const said = await eventually(
        async () => {
          const answers = (await stage.answers(chat)).map((answer) => answer.text!)
          return answers.includes(`count ${rounds}`) ? answers : undefined
        },
        `person ${chat} to have all answers`,
        60,
      )
      expect(said).toEqual(counts(rounds))
    }
    await service.stop()
  },
  120_000,
)

describe("answered means kept, where the provider never repeats: the local journal", () => {
  const texts = async (stage: Stage, n: number) => (await stage.answered(n)).map((one) => one.text)
  const said = (n: number) => Array.from({ length: n }, (_, at) => `you said ${at + 1}`)
  type Scene<Started extends Service> = Awaited<ReturnType<typeof scene<Started>>>
  let leaves: Scene<ServiceProcess>
  let stays: Scene<ServiceProcess>
  let press: Scene<Service>
  let atWrite: Scene<ServiceProcess>
  let atRead: Scene<ServiceProcess>
  let slow: Scene<ServiceProcess>

  beforeAll(async () => {
    const alone = (faults = "") => scene({ repeats: false }, (where) => startProcess({ ...where, faults }))
    ;[leaves, atWrite, atRead, slow, stays, press] = await Promise.all([
      alone(),
      alone("journal: call written=kill"),
      alone("journal: calls read in=kill"),
      alone("journal: file made=hold6000"),
      alone(),
      scene({ repeats: false }, startService),
    ])
    await stays.say("say 1")
    await stays.stage.answered(1)
    // One outage for all: what happens in it stands in each test.
    await server.stop("SIGINT")
  }, 120_000)

  test("while the database is away calls are kept on disk and acknowledged", async () => {
    for (const n of [1, 2, 3]) expect(await leaves.say(`say ${n}`)).toBe(200)
    for (const n of [2, 3]) expect(await stays.say(`say ${n}`)).toBe(200)
    expect(readdirSync(join(leaves.where.home, "journal"))).toHaveLength(1)
    expect(await leaves.service.stop("SIGKILL")).toBe("SIGKILL")
    // Ends before its answer: the call is on disk all the same, since it comes only once.
    expect(await atWrite.say("count")).toBe(0)
    expect(await atWrite.service.ended).toBe("SIGKILL")
    expect(await atRead.say("count")).toBe(200)
  }, 60_000)

  test("somebody who pressed a button is told that the answer will be late", async () => {
    const { id } = press.stage.person
    const answer = await fetch(`${press.service.address}/in/${press.stage.key}`, {
      method: "POST",
      headers: { "content-type": "application/json", "x-telegram-bot-api-secret-token": hookSecret },
      body: JSON.stringify({
        update_id: 77_000_001,
        callback_query: {
          id: "4711",
          from: { id, is_bot: false, first_name: "Ines" },
          message: { message_id: 1, date: 1_760_000_000, chat: { id, type: "private" }, text: "Boat?" },
          data: "no",
        },
      }),
    })
    expect(answer.status).toBe(200)
    expect(await answer.json()).toEqual({
      method: "answerCallbackQuery",
      callback_query_id: "4711",
      text: expect.stringContaining("longer than usual") as unknown,
    })
  })

  test("where the disk is slow while the database comes back, none of its calls is lost", async () => {
    // The first call's file has been made, and its name is not durable yet; many rounds look for files meanwhile.
    const called = slow.say("say 1")
    await eventually(async () => existsSync(join(slow.where.home, "journal")), "a file of the journal")
    await server.start()
    await pause(2500)
    expect(await called).toBe(200)
    for (const n of [2, 3, 4]) expect(await slow.say(`say ${n}`)).toBe(200)
    expect(await texts(slow.stage, 4)).toEqual(said(4))
    await eventually(
      async () => readdirSync(join(slow.where.home, "journal")).length === 0,
      "nothing to be left on disk",
    )
  }, 60_000)

  test("a process that lives on reads them in before what comes after, without a gap in the order", async () => {
    for (let n = 4; n <= 8; n++) {
      expect(await stays.say(`say ${n}`)).toBe(200)
      await pause(200)
    }
    expect(await texts(stays.stage, 8)).toEqual(said(8))
    expect((await stays.service.client.journal()).items).toEqual([])
  }, 60_000)

  test("they outlive kill -9 of the service, and are read in first by the next", async () => {
    const next = await startService({ ...leaves.where })
    expect(await leaves.say("say 4", next)).toBe(200)
    expect(await texts(leaves.stage, 4)).toEqual(said(4))
    expect(readdirSync(join(leaves.where.home, "journal"))).toEqual([])
    const { items } = await next.client.passages({ channel: leaves.stage.key, limit: 4 })
    const { intake } = await next.client.passage(items.at(-1)!.id)
    expect(intake!.notes.join()).toMatch(/the database was away: kept on local disk at .*, read in at /)
    await next.stop()
  }, 60_000)

  test.each([
    ["the call is on disk and not answered", () => atWrite],
    ["the calls are in the database and still on disk", () => atRead],
  ])(
    "killed where %s: handled once, all the same",
    async (_where, which) => {
      const { where, service, stage, say } = which()
      expect(await service.ended).toBe("SIGKILL")
      const next = await startService(where)
      expect(await say("count", next)).toBe(200)
      await stage.answered(2)
      await quiet(where.database)
      expect((await stage.answers()).map((answer) => answer.text)).toEqual(counts(2))
      await next.stop()
    },
    60_000,
  )
})

for (const kind of long("slack", "sms"))
  test(`on ${kind}, whose calls never come again, what is said meanwhile is answered later`, async () => {
    const { service } = await scene({}, startService)
    const stage = await setKind(service, kind)
    await stage.says("count")
    await stage.answered(1)
    await server.stop()
    try {
      if (kind === "slack") {
        // Who gave a slash command reads that the answer will take longer.
        const taken = await stage.does("command", { channel: "C2", command: "/start" })
        expect(taken).toMatchObject({ status: 200, body: expect.stringContaining("a little longer") as unknown })
      } else await stage.says("count")
      await pause(300)
    } finally {
      await server.start()
    }
    if (kind === "sms") expect((await stage.answered(2)).map((one) => one.text)).toEqual(["count 1", "count 2"])
    else {
      const room = () => stage.standin.stage.screen("C2").filter((one) => !one.text.startsWith("(only you)"))
      await eventually(async () => room().some((one) => one.text.startsWith("Hello")), "the answer")
    }
    await stage.stop()
  })
