import { request } from "node:http"
import type { IncomingMessage } from "node:http"
import { makeRecord } from "../../bench/record.ts"
import type { Service, Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  pause,
  query,
  Stage,
  startService,
  startStandin,
  tempFolder,
  transactionsIn,
} from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"
import { crowd, hookSecret, insist, update } from "../support/updates.ts"

let standin: Standin
let service: Service
let stage: Stage
let database: string
beforeAll(async () => {
  standin = await startStandin()
  database = await freshDatabase()
  service = await startService({ database, bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin, { gather: 0, perSecond: 1000 })
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
})
afterAll(endAll)

/** A stream that is open, and read only when somebody asks. */
async function open(token: string, headers: { [name: string]: string } = {}): Promise<IncomingMessage> {
  return new Promise((done, fail) => {
    const asked = request(`${service.address}/api/v1/live`, {
      headers: { authorization: `Bearer ${token}`, ...headers },
    })
    asked.on("response", (answer) => done(answer.pause()))
    asked.on("error", fail)
    asked.end()
  })
}

let names = 0
const newName = () => ++names

async function tokens(count: number): Promise<string[]> {
  const made = Array.from({ length: count }, (_, at) =>
    service.client.makeToken(`watcher ${newName()} ${at}`, "reader"),
  )
  return (await Promise.all(made)).map((one) => one.token)
}

/** The messages a stream tells of, as it is read from now on. */
function told(stream: IncomingMessage): Set<string> {
  const seen = new Set<string>()
  let text = ""
  stream.on("data", (chunk) => {
    text += String(chunk)
    for (let end = text.indexOf("\n\n"); end !== -1; end = text.indexOf("\n\n")) {
      const data = /^data: (\[.*\])$/m.exec(text.slice(0, end))?.[1]
      for (const one of data ? (JSON.parse(data) as { what: string; message: string }[]) : [])
        if (one.what === "message") seen.add(one.message)
      text = text.slice(end + 2)
    }
  })
  stream.on("error", () => undefined)
  stream.resume()
  return seen
}

test("three hundred streams cost the database what one does, and each is told everything", async () => {
  const one = await open(service.token)
  const quiet = await transactionsIn(database, 2000)
  const streams = (
    await Promise.all((await tokens(15)).flatMap((token) => Array.from({ length: 20 }, () => open(token))))
  ).concat(one)
  expect(new Set(streams.map((stream) => stream.statusCode))).toEqual(new Set([200]))
  // The database counts a moment later.
  await pause(2500)
  // With a reader for each there would be two hundred a second more, four hundred in all.
  expect(await transactionsIn(database, 2000)).toBeLessThan(quiet + 100)
  const all = streams.map(told)
  const people = await crowd(stage, 5)
  for (const chat of people) await insist([service], stage.key, hookSecret, update(chat, "count"))
  await Promise.all(people.map((chat) => stage.answered(1, chat)))
  const { items } = await service.client.messages({ channel: stage.key, limit: 100 })
  await eventually(
    async () => all.every((seen) => items.every((message) => seen.has(message.id))),
    "every stream to be told of every message",
  )
  for (const stream of streams) stream.destroy()
}, 60_000)

longTest(
  "a visitor may have twenty streams open, and the next is refused in words; one that is closed makes room",
  async () => {
    const [token] = await tokens(1)
    const streams = await Promise.all(Array.from({ length: 20 }, () => open(token!)))
    const refused = await fetch(`${service.address}/api/v1/live`, { headers: { authorization: `Bearer ${token}` } })
    expect(refused.status).toBe(429)
    expect(await refused.json()).toMatchObject({
      detail: expect.stringContaining("20 live streams") as unknown,
      remedy: expect.stringContaining("Close one") as unknown,
    })
    streams.pop()!.destroy()
    await eventually(async () => {
      const next = await open(token!)
      const taken = next.statusCode === 200
      next.destroy()
      return taken
    }, "room for one more")
    for (const stream of streams) stream.destroy()
  },
)

longTest("thirty streams asked for at once are counted as they open: twenty are taken", async () => {
  const [token] = await tokens(1)
  const streams = await Promise.all(Array.from({ length: 30 }, () => open(token!)))
  expect(streams.filter(({ statusCode }) => statusCode === 200)).toHaveLength(20)
  expect(streams.filter(({ statusCode }) => statusCode === 429)).toHaveLength(10)
  for (const stream of streams) stream.destroy()
})

longTest(
  "one who reads slowly is written no more than it takes, and misses nothing in the end",
  async () => {
    const [slowly] = await tokens(1)
    const stream = await open(slowly!)
    const people = await crowd(stage, 30)
    // Long words: what waits for this reader would be megabytes.
    for (let round = 0; round < 3; round++)
      await Promise.all(people.map((chat) => insist([service], stage.key, hookSecret, update(chat, "count"))))
    await Promise.all(people.map((chat) => stage.answered(3, chat)))
    const seen = told(stream)
    const { items } = await service.client.messages({ channel: stage.key, limit: 180 })
    await eventually(async () => items.every((message) => seen.has(message.id)), "all of it to be read after all")
    stream.destroy()
  },
  60_000,
)

longTest(
  "one who resumes from far back is told batch after batch, and not one a sweep",
  async () => {
    const long = await freshDatabase()
    await makeRecord(long, { messages: 4000, months: 1 })
    const other = await startService({ database: long, env: { WOBBET_ROLES: "api" } })
    const asked = new Promise<IncomingMessage>((done) =>
      request(`${other.address}/api/v1/live`, {
        headers: { authorization: `Bearer ${other.token}`, "last-event-id": "3" },
      })
        .on("response", (answer) => done(answer.pause()))
        .end(),
    )
    const stream = await asked
    const began = Date.now()
    const seen = told(stream)
    const [all] = await query<{ n: number }>(long, "SELECT count(*)::int AS n FROM messages")
    await eventually(async () => seen.size === all!.n, "all of it to be told")
    // Some twenty batches: with a sweep between them, half a minute.
    expect(Date.now() - began).toBeLessThan(15_000)
    stream.destroy()
    await other.stop()
  },
  60_000,
)

longTest("a stream resumes from its cursor while others are open, and ends when its session does", async () => {
  const signIn = await fetch(`${service.address}/api/v1/session`, {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify({ token: service.token }),
  })
  const cookie = signIn.headers.get("set-cookie")!.split(";")[0]!
  const { csrf } = (await signIn.json()) as { csrf: string }
  const other = await open(service.token)
  const first = await open("", { authorization: "", cookie })
  const cursor = await new Promise<string>((done) => {
    first.on("data", (chunk) => done(/^id: (\d+)/m.exec(String(chunk))![1]!))
    first.resume()
  })
  first.destroy()
  const [chat] = await crowd(stage, 1)
  await insist([service], stage.key, hookSecret, update(chat!, "count"))
  await stage.answered(1, chat)
  const resumed = await open("", { authorization: "", cookie, "last-event-id": cursor })
  const seen = told(resumed)
  const { items } = await service.client.messages({ channel: stage.key, limit: 2 })
  await eventually(async () => items.every((message) => seen.has(message.id)), "what was missed")
  const ended = new Promise<string>((done) => resumed.on("end", () => done("ended")))
  await fetch(`${service.address}/api/v1/session`, { method: "DELETE", headers: { cookie, "x-csrf": csrf } })
  expect(await Promise.race([ended, pause(10_000)])).toBe("ended")
  expect(other.destroyed).toBe(false)
  other.destroy()
})
