import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import fastify from "fastify"
import { phonePage } from "./phone.ts"

export type Body = { [field: string]: unknown }

/** Something the stand-in refuses, in the provider's own form. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly answer: object = { error: message },
    readonly headers: { [name: string]: string } = {},
  ) {
    super(message)
  }
}

export const faultKinds = ["429", "500", "slow", "drop", "garbage", "silent"] as const

export interface Fault {
  kind: (typeof faultKinds)[number]
  left: number
  seconds: number
}

/** A call made to the provider's interface, for tests that keep their own books. */
export interface CallRecord {
  at: number
  name: string
  body: Body
  status: number
  /** Whether it took effect, also where no answer was given. */
  took: boolean
}

/** One thing on a person's screen. */
export interface Shown {
  id: string
  mine: boolean
  text: string
  /** What can be pressed, by its words. */
  buttons?: { id: string; label: string }[]
  picture?: string
  /** How far it got, for the bot's messages. */
  status?: string
  gone?: boolean
}

/** What every stand-in has: faults on demand, a record of calls, screens of made-up people. */
export class Stage {
  readonly calls: CallRecord[] = []
  /** What stands on the screen of each person or in each room. */
  readonly screens = new Map<string, Shown[]>()
  readonly people = new Map<string, { id: string; name: string }>()
  faults: Fault[] = []
  /** How many calls to the service are made twice. */
  duplicates = 0
  private nextNumber = Date.now()

  screen(of: string): Shown[] {
    let screen = this.screens.get(of)
    if (!screen) this.screens.set(of, (screen = []))
    return screen
  }

  show(of: string, shown: Shown): Shown {
    const screen = this.screen(of)
    screen.push(shown)
    if (screen.length > 20_000) screen.splice(0, 10_000)
    return shown
  }

  record(name: string, body: Body, status: number, took: boolean): void {
    this.calls.push({ at: Date.now(), name, body, status, took })
    if (this.calls.length > 200_000) this.calls.splice(0, 100_000)
  }

  number(): number {
    return ++this.nextNumber
  }

  takeFault(): Fault | undefined {
    const fault = this.faults.find((fault) => fault.left > 0)
    if (fault) fault.left--
    this.faults = this.faults.filter((fault) => fault.left > 0)
    return fault
  }
}

export interface Standin {
  app: FastifyInstance
  address: string
  stop(): Promise<void>
}

/** A stand-in that runs: what is on its people's screens, what it knows, and what brings its calls to the service. */
export interface Played<World> extends Standin {
  stage: Stage
  world: World
  postman: Postman
}

/**
 * Opens a stand-in on loopback: the provider's interface as `serve` sets it up, and a page to play a person with.
 *
 * @param title the page's
 */
export async function playStandin<World>(
  title: string,
  people: { id: string; name: string }[],
  world: World,
  port: number | undefined,
  serve: (app: FastifyInstance, stage: Stage, postman: Postman) => void,
): Promise<Played<World>> {
  const stage = new Stage()
  const postman = new Postman(stage)
  for (const person of people) stage.people.set(person.id, person)
  const { app, address, stop } = await openStandin(stage, title, port, (inside) => serve(inside, stage, postman))
  const stopAll = async () => {
    postman.stop()
    await stop()
  }
  return { app, address, stage, world, postman, stop: stopAll }
}

async function openStandin(
  stage: Stage,
  title: string,
  port: number | undefined,
  serve: (app: FastifyInstance) => void,
): Promise<Standin> {
  const app = fastify({
    forceCloseConnections: true,
    bodyLimit: 120 * 1024 * 1024,
    routerOptions: { maxParamLength: 400 },
  })
  app.removeAllContentTypeParsers()
  app.addContentTypeParser("*", { parseAs: "buffer" }, (_request, body, done) => done(null, body))
  app.setErrorHandler((error: Error, _request, reply) => {
    if (error instanceof Refusal) return reply.headers(error.headers).code(error.status).send(error.answer)
    return reply.code(500).send({ error: error.message })
  })
  app.get("/", async (_request, reply) => reply.type("text/html; charset=utf-8").send(phonePage(title)))
  app.get("/standin/people", async () => [...stage.people.values()])
  app.get("/standin/calls", async () => stage.calls.slice(-1000))
  app.get<{ Params: { of: string } }>("/standin/screens/:of", async (request) =>
    stage.screen(request.params.of).filter((one) => !one.gone),
  )
  app.post("/standin/faults", async (request) => {
    const { kind, count, seconds } = jsonOf(request) as { kind: string; count?: number; seconds?: number }
    if (kind === "duplicates") stage.duplicates += count ?? 1
    else stage.faults.push({ kind: kind as Fault["kind"], left: count ?? 1, seconds: seconds ?? 2 })
    return { done: true }
  })
  serve(app)
  await app.listen({ host: "127.0.0.1", port: port ?? 0 })
  const { port: taken } = app.server.address() as { port: number }
  return { app, address: `http://127.0.0.1:${taken}`, stop: () => app.close() }
}

/** What people do: `POST /standin/<what>` with JSON. */
export function act(app: FastifyInstance, what: string, run: (body: Body) => unknown): void {
  app.post(`/standin/${what}`, async (request) => (await run(jsonOf(request))) ?? { done: true })
}

export function jsonOf(request: FastifyRequest): Body {
  const raw = request.body as Buffer | undefined
  if (!raw || raw.length === 0) return {}
  try {
    return JSON.parse(raw.toString("utf8")) as Body
  } catch {
    throw new Refusal(400, "the body is not JSON")
  }
}

/**
 * Runs a call of the provider's interface with the fault that is due, if one is. Gives the answer, or nothing when the
 * connection was left without one.
 */
export async function withFault(
  stage: Stage,
  reply: FastifyReply,
  refuse: (fault: "429" | "500", seconds: number) => Refusal,
  run: () => unknown,
): Promise<unknown> {
  const fault = stage.takeFault()
  if (fault?.kind === "429" || fault?.kind === "500") throw refuse(fault.kind, fault.seconds)
  if (fault?.kind === "slow") await new Promise((resolve) => setTimeout(resolve, fault.seconds * 1000))
  if (fault?.kind === "silent") {
    reply.hijack()
    return reply
  }
  const answer = run()
  if (fault?.kind === "drop") {
    reply.hijack()
    reply.raw.socket?.destroy()
    return reply
  }
  if (fault?.kind === "garbage") return reply.type("text/html").send("<html>the gateway is having a moment</html>")
  return answer
}

export interface Post {
  url: string
  method?: string
  headers: { [name: string]: string }
  body: string
  /** Whether the provider brings it again until it is taken. */
  repeats: boolean
  /** How it is signed when it leaves, where its signature says when that was. */
  signed?: () => Post["headers"]
}

/** Brings calls to the service, one after the other, as the provider would. */
export class Postman {
  /** Every answer of the service. */
  readonly answers: { status: number; body: string; ms: number }[] = []
  private readonly queue: Post[] = []
  private running = false
  private stopped = false

  constructor(private readonly stage: Stage) {}

  bring(post: Post): void {
    this.queue.push(post)
    if (this.stage.duplicates > 0) {
      this.stage.duplicates--
      this.queue.push(post)
    }
    if (!this.running) void this.run()
  }

  /** One call, whose answer the caller wants. */
  async ask(post: Post): Promise<{ status: number; body: string; ms: number }> {
    const begun = Date.now()
    const answer = await fetch(post.url, {
      method: post.method ?? "POST",
      headers: post.signed?.() ?? post.headers,
      ...(post.method === "GET" ? {} : { body: post.body }),
      signal: AbortSignal.timeout(15_000),
    })
    const taken = { status: answer.status, body: await answer.text(), ms: Date.now() - begun }
    this.answers.push(taken)
    if (this.answers.length > 10_000) this.answers.splice(0, 5000)
    return taken
  }

  /** How many calls are still to be brought. */
  get waiting(): number {
    return this.queue.length
  }

  stop(): void {
    this.stopped = true
  }

  private async run(): Promise<void> {
    this.running = true
    let failures = 0
    while (!this.stopped && this.queue.length > 0) {
      const post = this.queue[0]!
      const status = await this.ask(post).then(
        (answer) => answer.status,
        () => 0,
      )
      if ((status >= 200 && status < 300) || !post.repeats) {
        failures = 0
        this.queue.shift()
        continue
      }
      failures++
      await new Promise((resolve) => setTimeout(resolve, Math.min(100 * 2 ** failures, 1500)).unref())
    }
    this.running = false
  }
}

/** A small picture, drawn as SVG: what people photograph here. */
export function snapshot(words: string): Buffer {
  const safe = words.replace(/[<&>]/g, " ").slice(0, 24)
  return Buffer.from(
    `<svg xmlns="http://www.w3.org/2000/svg" width="320" height="200"><rect width="320" height="200" fill="#c8d6d2"/><circle cx="160" cy="84" r="44" fill="#12332E"/><text x="160" y="172" font-family="sans-serif" font-size="20" text-anchor="middle" fill="#12332E">${safe}</text></svg>`,
  )
}
