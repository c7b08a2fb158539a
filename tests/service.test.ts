import pg from "pg"
import type { Service, Standin } from "./support/harness.ts"
import type { ApiError } from "../src/client/client.ts"
import { Client } from "../src/client/client.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  pause,
  quiet,
  Stage,
  startService,
  startStandin,
  tempFolder,
  transactionsIn,
} from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let service: Service
let standin: Standin
let stage: Stage
const secret = "agreed-word"
let update = 9_000_000

beforeAll(async () => {
  standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin)
  await service.client.changeChannel(stage.key, { secrets: { hookSecret: secret } })
  await service.client.connectChannel(stage.key)
  await stage.say("say hi")
  await stage.answered(1)
})
afterAll(endAll)

function post(body: string | object | Uint8Array, headers: { [name: string]: string } = {}, key = stage.key) {
  const raw = body instanceof Uint8Array || typeof body === "string" ? body : JSON.stringify(body)
  return fetch(`${service.address}/in/${key}`, {
    method: "POST",
    headers: { "content-type": "application/json", "x-telegram-bot-api-secret-token": secret, ...headers },
    body: raw as BodyInit,
  })
}
const message = (more: object = {}) => ({
  update_id: update++,
  message: {
    message_id: update,
    date: Math.floor(Date.now() / 1000),
    chat: { id: stage.person.id, type: "private" },
    from: { id: stage.person.id, is_bot: false, first_name: "Ines" },
    ...more,
  },
})
const newest = async () => (await service.client.passages({ channel: stage.key, limit: 1 })).items[0]!

/** The newest refused call: looked into and kept after its caller has had the answer. */
const refused = (after = "") =>
  eventually(async () => {
    const [last] = (await service.client.passages({ channel: stage.key, genuine: false, limit: 1 })).items
    return last && last.id > after ? service.client.passage(last.id) : undefined
  }, "the refused call")

describe("an inlet", () => {
  test("answers 200 once a genuine call is durable", async () => {
    const answer = await post(message({ text: "say quay" }))
    expect([answer.status, await answer.text()]).toEqual([200, ""])
    expect(await newest()).toMatchObject({ text: "say quay" })
  })

  test("answers 401 with nothing in it to a forged call; the verdict is on record, the guessed word is not", async () => {
    const answer = await post(message({ text: "x" }), { "x-telegram-bot-api-secret-token": "guessed-word-1234" })
    expect([answer.status, await answer.text()]).toEqual([401, ""])
    const passage = await refused()
    expect(passage.intake!.verdict).toMatchObject({
      genuine: false,
      why: expect.stringContaining("another word") as unknown,
    })
    expect(passage.paths).toEqual([])
    const kept = JSON.stringify(passage)
    for (const word of ["guessed-word-1234", secret, stage.bot.token]) expect(kept).not.toContain(word)
    expect(passage.intake!.headers["x-telegram-bot-api-secret-token"]).toMatch(/^#[0-9a-f]{12}$/)
  })

  test("says which near miss would have matched, to the operator only", async () => {
    const before = (await refused()).id
    const answer = await post(message(), { "x-telegram-bot-api-secret-token": secret.toUpperCase() })
    expect([answer.status, await answer.text()]).toEqual([401, ""])
    const passage = await refused(before)
    expect(passage.intake!.verdict).toMatchObject({ near: expect.stringContaining("upper and lower case") as unknown })
  })

  test.each([
    ["half a body", '{"update_id":1,'],
    ["no JSON", "hello"],
    ["nothing", ""],
    ["invalid UTF-8", new Uint8Array([0x7b, 0xff, 0xfe])],
    ["no update_id", '{"message":{"text":"x"}}'],
    ["very deep nesting", "[".repeat(100_000)],
  ])("answers 200 to a genuine call that cannot be read (%s), keeps it and shows it", async (_name, body) => {
    expect((await post(body)).status).toBe(200)
    const summary = await newest()
    expect(summary.stops[2]).toMatchObject({ stop: "parsed", state: "stopped" })
  })

  test.each([
    ["an unknown key", () => post({}, {}, "nobody").then((answer) => answer.status), 404],
    ["more than 4 MB", () => post("x".repeat(4 * 1024 * 1024 + 1)).then((answer) => answer.status), 413],
    [
      "any content type",
      () => post(message({ text: "say form" }), { "content-type": "text/plain" }).then((answer) => answer.status),
      200,
    ],
  ])("with %s", async (_name, ask, status) => {
    expect(await ask()).toBe(status)
  })

  test("shows a person who looks at the address a plain page", async () => {
    const answer = await fetch(`${service.address}/in/${stage.key}`)
    expect([answer.status, await answer.text()]).toEqual([
      200,
      expect.stringContaining(`This is the inlet of channel ${stage.key}`),
    ])
    expect((await fetch(`${service.address}/in/nobody`)).status).toBe(404)
  })

  test("answers 503 with Retry-After while the database is away, and 200 once it is back", async () => {
    const database = await freshDatabase()
    const own = await startService({ bot: tempFolder(quayBot), database })
    const there = await Stage.set(own, standin)
    await own.client.changeChannel(there.key, { secrets: { hookSecret: secret } })
    const call = () =>
      fetch(`${own.address}/in/${there.key}`, {
        method: "POST",
        headers: { "x-telegram-bot-api-secret-token": secret },
        body: JSON.stringify({ ...message({ text: "say back" }) }),
      })
    const name = /\/(t_\w+)/.exec(database)![1]!
    const admin = new pg.Client({ connectionString: `${process.env.TEST_DATABASE_SERVER}/postgres` })
    await admin.connect()
    await admin.query(`ALTER DATABASE ${name} ALLOW_CONNECTIONS false`)
    await admin.query("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1", [name])
    const answer = await call()
    expect([answer.status, answer.headers.get("retry-after")]).toEqual([503, "5"])
    await admin.query(`ALTER DATABASE ${name} ALLOW_CONNECTIONS true`)
    await admin.end()
    await eventually(async () => (await call()).status === 200, "the service to recover")
    await own.stop()
  }, 60_000)
})

test("a service with nothing to do asks the database little", async () => {
  const database = await freshDatabase()
  const idle = await startService({ database, bot: tempFolder(quayBot) })
  await Stage.set(idle, standin)
  await quiet(database)
  // What is done by time is asked for together; each part of it for itself was 24 a second. PostgreSQL counts what the
  // start took late, and later still where the machine is busy.
  const isIdle = async () => (await transactionsIn(database, 5000)) < 5 * 8
  await eventually(isIdle, "five seconds with fewer than 40 transactions", 60)
  await idle.stop()
})

describe("the API", () => {
  const asked = (path: string, options: RequestInit = {}) =>
    fetch(`${service.address}/api/v1${path}`, {
      ...options,
      headers: { authorization: `Bearer ${token()}`, "content-type": "application/json", ...options.headers },
    })
  const token = () => (service.client as unknown as { token: string }).token

  test("tells nobody anything without a token, and each role only what it may", async () => {
    for (const path of ["/messages", "/channels", "/passages", "/parked", "/live", "/bot"]) {
      expect((await fetch(`${service.address}/api/v1${path}`)).status).toBe(401)
    }
    const { token: reading } = await service.client.makeToken("a reader", "reader")
    const reader = new Client(service.address, reading)
    expect((await reader.messages()).items.length).toBeGreaterThan(0)
    await expect(reader.send({ to: String(stage.person.id), text: "x" })).rejects.toThrow(
      "The role reader may not do this",
    )
    await expect(reader.pauseChannel(stage.key)).rejects.toMatchObject({ status: 403 })
  })

  test("answers what is wrong as problem details that name the field", async () => {
    const answer = await asked("/messages?limit=0")
    expect(answer.headers.get("content-type")).toContain("application/problem+json")
    expect(await answer.json()).toMatchObject({
      status: 400,
      field: "limit",
      detail: expect.stringContaining("limit") as unknown,
      remedy: expect.any(String) as unknown,
    })
    // An address that cannot be read is answered by the framework, before any of ours is reached.
    for (const [path, status] of [
      ["/messages/%zz", 400],
      ["/nothing", 404],
    ] as const) {
      const strange = await asked(path)
      expect(strange.headers.get("content-type")).toContain("application/problem+json")
      expect(await strange.json()).toMatchObject({ status, remedy: expect.any(String) as unknown })
    }
    const refused = service.client.addChannel({ kind: "telegram", key: "bad", secrets: { token: "no token at all" } })
    await expect(refused).rejects.toMatchObject({ status: 400, field: "secrets.token" })
    await refused.catch((error: ApiError) => expect(error.message).not.toContain("no token at all"))
    await expect(service.client.addChannel({ kind: "pigeon", key: "bad" })).rejects.toThrow("no channel kind")
    await expect(
      service.client.addChannel({ kind: "telegram", key: stage.key, secrets: { token: "1:abcdefgh" } }),
    ).rejects.toMatchObject({ status: 409 })
    await expect(service.client.changeChannel(stage.key, { settings: { colour: "red" } })).rejects.toThrow(
      '"colour" is not known here',
    )
    await expect(service.client.passage("itk_nothing")).rejects.toMatchObject({ status: 404 })
    expect((await asked("/messages", { method: "POST", body: "{" })).status).toBe(400)
  })

  test("a handler's failure stands in the service's log, with its place and what became of the message", async () => {
    const own = await Stage.set(service, standin)
    await own.say("throw")
    await eventually(
      async () => /the handler "throws" failed: the fog is too thick; the message is parked/.test(service.said()),
      "the failure in the log",
    )
    expect(service.said()).toMatch(/the handler "throws" failed: the fog is too thick; the message is tried again/)
    expect(service.said()).toMatch(/handlers\/throws\.ts:2/)
    expect(service.said()).toContain(own.key)
  })

  test("shows no secret anywhere", async () => {
    const everything = JSON.stringify([
      await service.client.channels(),
      await service.client.channel(stage.key),
      await service.client.passages(),
    ])
    for (const word of [secret, stage.bot.token]) expect(everything).not.toContain(word)
    expect(service.said()).not.toContain(stage.bot.token)
  })

  test("finds messages by channel, conversation, direction, event, status, time and words, page by page", async () => {
    const one = await Stage.set(service, standin, { perSecond: 100 })
    for (const text of ["say Holm Island", "count", "nonsense"]) await one.say(text)
    await one.answered(2)
    await eventually(async () => (await one.messages({ status: "unrouted" }))[0], "the unrouted one")
    const texts = async (query: object) => (await one.messages(query)).map((found) => found.text)
    expect(await texts({ direction: "out" })).toEqual(["count 1", "you said Holm Island"])
    expect(await texts({ text: "holm isl" })).toEqual(["you said Holm Island", "say Holm Island"])
    expect(await texts({ text: "?!" })).toEqual([])
    expect(await texts({ status: "unrouted" })).toEqual(["nonsense"])
    expect(await texts({ event: "command" })).toEqual([])
    expect(await texts({ from: new Date(Date.now() + 60_000) })).toEqual([])
    expect(await texts({ doubtful: false, direction: "in" })).toHaveLength(3)
    const { conversation } = (await one.messages())[0]!
    const first = await service.client.messages({ conversation, limit: 3 })
    const second = await service.client.messages({ conversation, limit: 3, cursor: first.next! })
    expect([...first.items, ...second.items].map((found) => found.position).sort()).toEqual([1, 2, 3, 4, 5])
    expect(second.next).toBeNull()
  })

  test("a send with an Idempotency-Key is sent once, however often it is asked for", async () => {
    const one = await Stage.set(service, standin)
    await one.say("say hi")
    await one.answered(1)
    const send = (text: string) => service.client.send({ to: String(one.person.id), channel: one.key, text }, "key-1")
    const answers = await Promise.all([send("hello"), send("hello"), send("hello")])
    expect(new Set(answers.map((answer) => answer.messages[0])).size).toBe(1)
    await one.answered(2)
    await expect(send("something else")).rejects.toMatchObject({ status: 422 })
    await pause(300)
    expect(await one.answers()).toHaveLength(2)
  })

  test("sends parts, and says what cannot be said", async () => {
    const one = await Stage.set(service, standin)
    await one.say("say hi")
    await one.answered(1)
    const to = String(one.person.id)
    await service.client.send({
      to,
      channel: one.key,
      replies: [{ part: "location", latitude: 38.7, longitude: -9.1 }],
    })
    expect((await one.answered(2))[1]).toMatchObject({ location: { latitude: 38.7 } })
    await expect(
      service.client.send({ to, channel: one.key, replies: [{ part: "template", name: "x", language: "en" }] }),
    ).rejects.toMatchObject({ status: 422 })
    await expect(service.client.send({ to, channel: one.key, replies: [{ part: "song" }] })).rejects.toMatchObject({
      status: 400,
    })
    await expect(service.client.send({ to: "cnv_none", text: "x" })).rejects.toMatchObject({ status: 404 })
  })

  test("a conversation given to a person is left to them", async () => {
    const one = await Stage.set(service, standin)
    await one.say("say hi")
    await one.answered(1)
    const { conversation } = (await one.messages())[0]!
    await service.client.setAnsweredBy(conversation, "person")
    await one.say("say nothing")
    await eventually(async () => (await one.messages({ status: "left to a person" }))[0], "the message to be left")
    await service.client.setAnsweredBy(conversation, "bot")
    await one.say("say again")
    expect((await one.answered(2))[1]!.text).toBe("you said again")
  })

  test("the live stream tells what happens, and resumes where it was broken off", async () => {
    const one = await Stage.set(service, standin)
    const seen: string[] = []
    const stop = new AbortController()
    const watching = (async () => {
      for await (const event of service.client.live(stop.signal)) seen.push(event.what)
    })().catch(() => undefined)
    await pause(300)
    await one.say("say live")
    await one.answered(1)
    await eventually(
      async () => ["message", "turn", "attempt"].every((what) => seen.includes(what)),
      "the three happenings",
    )
    stop.abort()
    await watching
    // A cursor from before tells what came since.
    const answer = await asked("/live", { headers: { "last-event-id": "1" } })
    const reader = answer.body!.getReader()
    let text = ""
    while (!text.includes("event: happened")) text += new TextDecoder().decode((await reader.read()).value)
    await reader.cancel()
    expect(text).toMatch(/^id: 1\nevent: ready/)
    expect(text).toContain('"what":"message"')
  })

  test("describes every call in OpenAPI, from the schemas that check the input", async () => {
    const description = (await (await fetch(`${service.address}/api/openapi.json`)).json()) as {
      openapi: string
      paths: {
        [path: string]: { [method: string]: { parameters: { name: string; schema: object }[]; requestBody?: object } }
      }
    }
    expect(description.openapi).toBe("3.1.0")
    expect(Object.keys(description.paths)).toEqual(
      expect.arrayContaining(["/api/v1/messages", "/api/v1/passages/{id}", "/api/v1/parked/{id}/retry"]),
    )
    const { get, post: send } = description.paths["/api/v1/messages"]!
    expect(get!.parameters.map((parameter) => parameter.name)).toEqual(
      expect.arrayContaining([
        "channel",
        "conversation",
        "direction",
        "event",
        "status",
        "doubtful",
        "from",
        "to",
        "text",
      ]),
    )
    expect(send!.parameters.map((parameter) => parameter.name)).toContain("Idempotency-Key")
    expect(send!.requestBody).toBeDefined()
  })

  test("a cookie alone changes nothing: our own pages must prove themselves", async () => {
    const signed = await fetch(`${service.address}/api/v1/session`, {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify({ token: token() }),
    })
    const cookie = signed.headers.get("set-cookie")!.split(";")[0]!
    const { csrf } = (await signed.json()) as { csrf: string }
    expect(signed.headers.get("set-cookie")).toContain("HttpOnly")
    const pauseIt = (headers: { [name: string]: string }) =>
      fetch(`${service.address}/api/v1/channels/${stage.key}/pause`, {
        method: "POST",
        headers: { cookie, ...headers },
      })
    expect((await pauseIt({})).status).toBe(403)
    expect((await pauseIt({ "x-csrf": csrf })).status).toBe(200)
    await service.client.resumeChannel(stage.key)
    expect(
      (
        await fetch(`${service.address}/api/v1/session`, {
          method: "POST",
          headers: { "content-type": "application/json" },
          body: '{"token":"wrong"}',
        })
      ).status,
    ).toBe(401)
  })
})
