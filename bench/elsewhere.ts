import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import { mkdirSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Wave, WaveResult } from "./load.ts"
import type { WobbetSubject } from "./stage.ts"
import { memoryOf } from "./stage.ts"

/** What it costs to leave turns to a program elsewhere. */
export interface ElsewhereCost {
  /** Messages a second by a text of the bot's own, and by an endpoint that answers at once, in turn. */
  baseline: number[]
  endpoint: number[]
  /** The same by a model that answers at once. */
  model?: number[]
  /** Beside models that take eight seconds, and how many. */
  besideModels?: number
  models?: number
  /** Milliseconds to a text of the bot's own, half of them: alone, and beside endpoints that take five seconds. */
  alone: number
  besideSlow: number
  slow: number
  /** Megabytes of the service before, while they are waited for, and after. */
  slowMemory: [before: number, during: number, after: number]
  /** The same for turns that wait at a queue. */
  besideQueue: number
  queued: number
  queueMemory: [before: number, after: number]
}

/** What a model says, as it streams it. */
const spoken = ["Next", " boat:", " 14:20"]
  .map((content) => ({ choices: [{ index: 0, delta: { content }, finish_reason: null as string | null }] }))
  .concat({ choices: [{ index: 0, delta: { content: "" }, finish_reason: "stop" }] })
  .map((piece) => `data: ${JSON.stringify(piece)}\n\n`)
  .concat("data: [DONE]\n\n")
  .join("")

/** An endpoint, answering at once or after five seconds, and a bot folder that asks it. */
export async function standElsewhere(folder: string): Promise<{ bot: string; stop: () => void }> {
  const server = createServer((request, answer) => {
    let body = ""
    request.on("data", (chunk) => (body += String(chunk)))
    request.on("end", () => {
      if (request.url!.startsWith("/v1/")) {
        setTimeout(
          () => answer.writeHead(200, { "content-type": "text/event-stream" }).end(spoken),
          body.includes('"slow"') ? 8000 : 0,
        )
        return
      }
      const say = () =>
        answer.writeHead(200, { "content-type": "application/json" }).end('{"replies":["Next boat: 14:20"]}')
      if (request.url === "/slow") setTimeout(say, 5000)
      else say()
    })
  })
  server.keepAliveTimeout = 60_000
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const bot = join(folder, "bot-elsewhere")
  mkdirSync(bot, { recursive: true })
  writeFileSync(
    join(bot, "bot.yaml"),
    `bot: bench
turnsPerMinute: 100000
models:
  quick: { address: "${url}/v1", model: quick }
  slow: { address: "${url}/v1", model: slow, atOnce: 1000 }
routes:
  - { name: model, when: { phrase: "model" }, handler: { model: quick, instructions: pilot.md, memory: 0 } }
  - { name: slow model, when: { phrase: "thinks" }, handler: { model: slow, instructions: pilot.md, memory: 0 } }
  - { name: hello, when: { phrase: "hello" }, handler: { text: "Next boat: 14:20" } }
  - { name: quick, when: { phrase: "quick" }, handler: { endpoint: "${url}/quick" } }
  - { name: slow, when: { phrase: "slow" }, handler: { endpoint: "${url}/slow", atOnce: 1000, within: 60s } }
  - { name: queue, when: { phrase: "queue" }, handler: { queue: bench, within: 1h } }
`,
  )
  writeFileSync(join(bot, "pilot.md"), "You are a retired pilot, and answer shortly.")
  return { bot, stop: () => (server.closeAllConnections(), server.close()) }
}

/** @param rate messages a second of a wave that is answered; @param send a wave that nobody waits for the end of */
export async function measureElsewhere(
  subject: WobbetSubject,
  sizes: { rounds: number; slow: number; models: number; queued: number },
  rate: (text: string) => Promise<number>,
  send: (wave: Pick<Wave, "text" | "count" | "people" | "firstPerson"> & Partial<Wave>) => Promise<WaveResult>,
  tell: (text: string) => void,
): Promise<ElsewhereCost> {
  const { rounds, slow, models, queued } = sizes
  const baseline: number[] = []
  const endpoint: number[] = []
  const model: number[] = []
  await rate("hello")
  await rate("quick")
  await rate("model")
  for (let round = 0; round < rounds; round++) {
    baseline.push(await rate("hello"))
    endpoint.push(await rate("quick"))
    model.push(await rate("model"))
  }
  const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))
  const p50 = async () => {
    const calm = { text: "hello", count: 200, people: 200, firstPerson: 1_000_000, atOnce: 1, gap: 10 }
    const { waits } = await send(calm)
    return waits[Math.floor((waits.length - 1) / 2)]!
  }
  const waiting = async () => {
    const { rows } = await subject.database.query<{ n: number }>("SELECT count(*)::int AS n FROM waits")
    return rows[0]!.n
  }
  await p50()
  const alone = await p50()
  tell(`  ${slow} endpoints that take five seconds …`)
  const before = memoryOf(subject.pid)
  await send({ text: "slow", count: slow, people: slow, firstPerson: 60_000_000, unanswered: true })
  await pause(1200)
  const during = memoryOf(subject.pid)
  const besideSlow = await p50()
  while ((await waiting()) > 0) await pause(100)
  await pause(2000)
  const after = memoryOf(subject.pid)
  tell(`  ${models} models that take eight seconds …`)
  await send({ text: "thinks", count: models, people: models, firstPerson: 80_000_000, unanswered: true })
  await pause(1500)
  const besideModels = await p50()
  while ((await waiting()) > 0) await pause(100)
  tell(`  ${queued} turns that wait at a queue …`)
  const empty = memoryOf(subject.pid)
  await send({ text: "queue", count: queued, people: queued, firstPerson: 70_000_000, unanswered: true })
  while ((await waiting()) < queued) await pause(100)
  await pause(3000)
  const full = memoryOf(subject.pid)
  await p50()
  const besideQueue = await p50()
  return {
    ...{ baseline, endpoint, model, besideModels, models, alone, besideSlow, slow, besideQueue, queued },
    slowMemory: [before, during, after],
    queueMemory: [empty, full],
  }
}
