import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import fastify from "fastify"
import { snapshot } from "../shared/standin.ts"
import { Delivery } from "./deliver.ts"
import { methods, Refusal } from "./methods.ts"
import { PersonSide } from "./person.ts"
import { phonePage } from "./phone.ts"
import { Pace } from "./pace.ts"
import type { Bot, Fault } from "./world.ts"
import { publicChat, World } from "./world.ts"

type Body = { [field: string]: unknown }

export interface TelegramStandin {
  world: World
  delivery: Delivery
  address: string
  stop(): Promise<void>
}

/** Starts a simulated Telegram on loopback: the Bot API under `/bot<token>/`, the people's side under `/standin/`. */
export async function startTelegram(options: { port?: number; pace?: boolean } = {}): Promise<TelegramStandin> {
  const world = new World()
  const delivery = new Delivery(world)
  const pace = new Pace()
  const app = fastify({
    forceCloseConnections: true,
    bodyLimit: 60 * 1024 * 1024,
    routerOptions: { maxParamLength: 300 },
  })
  app.removeAllContentTypeParsers()
  app.addContentTypeParser("*", { parseAs: "buffer" }, (_request, body, done) => done(null, body))
  serveApi(app, world, delivery, options.pace === false ? undefined : pace)
  servePeople(app, world, delivery)
  await app.listen({ host: "127.0.0.1", port: options.port ?? 0 })
  const { port } = app.server.address() as { port: number }
  return {
    world,
    delivery,
    address: `http://127.0.0.1:${port}`,
    async stop() {
      delivery.stop()
      for (const bot of world.bots.values()) bot.polls?.conflict()
      await app.close()
    },
  }
}

function serveApi(app: FastifyInstance, world: World, delivery: Delivery, pace: Pace | undefined): void {
  app.all<{ Params: { bot: string; method: string } }>("/:bot/:method", async (request, reply) => {
    const { method } = request.params
    const token = /^bot(\d+:[A-Za-z0-9_-]+)$/.exec(request.params.bot)?.[1]
    if (token === undefined) return reply.code(404).send({ ok: false, error_code: 404, description: "Not Found" })
    const bot = world.botByToken(token)
    if (!bot) return reply.code(401).send({ ok: false, error_code: 401, description: "Unauthorized" })
    const body = await readBody(request)
    const fault = takeFault(world, bot, method)
    if (fault && (await spoil(fault, reply))) {
      record(world, bot, method, body, fault.kind === "429" ? 429 : 500, false)
      return reply
    }
    try {
      if (method === "getUpdates") return await poll(bot, body, reply)
      const run = methods[method]
      if (!run) throw new Refusal(404, "Not Found")
      pace?.check(world, bot, method, body)
      const result = run(world, bot, body)
      pace?.count(world, bot, method, body)
      record(world, bot, method, body, 200, true)
      if (method === "setWebhook") delivery.wake(bot)
      if (fault?.kind === "drop") {
        reply.hijack()
        request.raw.socket.destroy()
        return reply
      }
      if (fault?.kind === "garbage") return reply.type("text/html").send("<html>the gateway is having a moment</html>")
      return { ok: true, result }
    } catch (error) {
      if (!(error instanceof Refusal)) throw error
      record(world, bot, method, body, error.code, false)
      return reply.code(error.code).send({
        ok: false,
        error_code: error.code,
        description: error.message,
        ...(error.parameters ? { parameters: error.parameters } : {}),
      })
    }
  })
  app.get<{ Params: { bot: string; "*": string } }>("/file/:bot/*", async (request, reply) => {
    if (!world.botByToken(request.params.bot.slice(3)))
      return reply.code(401).send({ ok: false, error_code: 401, description: "Unauthorized" })
    return reply.type("image/svg+xml").send(snapshot(request.params["*"].replace(/^photos\/|-\d+|\.png$/g, "")))
  })
}

async function readBody(request: FastifyRequest): Promise<Body> {
  const raw = request.body as Buffer | undefined
  const query = request.query as Body
  if (!raw || raw.length === 0) return query
  const type = request.headers["content-type"] ?? ""
  if (type.startsWith("multipart/form-data") || type.startsWith("application/x-www-form-urlencoded")) {
    const form = await new Response(raw as unknown as BodyInit, { headers: { "content-type": type } }).formData()
    const body: Body = {}
    for (const [name, value] of form)
      body[name] = typeof value === "string" ? fieldValue(value) : `upload-${value.name}-${value.size}`
    return body
  }
  try {
    return JSON.parse(raw.toString("utf8")) as Body
  } catch {
    throw new Refusal(400, "Bad Request: can't parse JSON")
  }
}

function fieldValue(value: string): unknown {
  if (!/^[[{]|^-?\d+$|^(true|false)$/.test(value)) return value
  try {
    return JSON.parse(value) as unknown
  } catch {
    return value
  }
}

function takeFault(world: World, bot: Bot, method: string): Fault | undefined {
  const fault = world.faults.find(
    (fault) =>
      fault.left > 0 &&
      (fault.bot === undefined || fault.bot === bot.username) &&
      (fault.method === undefined ? !/^(get|set|delete)W|^get/.test(method) : fault.method === method),
  )
  if (fault) fault.left--
  world.faults = world.faults.filter((fault) => fault.left > 0)
  return fault
}

/** Whether the fault answers instead of the method. */
async function spoil(fault: Fault, reply: FastifyReply): Promise<boolean> {
  if (fault.kind === "slow") {
    await new Promise((resolve) => setTimeout(resolve, fault.seconds * 1000))
    return false
  }
  if (fault.kind === "429") {
    void reply.code(429).send({
      ok: false,
      error_code: 429,
      description: `Too Many Requests: retry after ${fault.seconds}`,
      parameters: { retry_after: fault.seconds },
    })
    return true
  }
  if (fault.kind === "500") {
    void reply.code(500).send({ ok: false, error_code: 500, description: "Internal Server Error" })
    return true
  }
  if (fault.kind === "silent") {
    reply.hijack()
    return true
  }
  return false
}

function record(world: World, bot: Bot, method: string, body: Body, status: number, took: boolean): void {
  world.calls.push({ at: Date.now(), bot: bot.username, method, body, status, took })
  if (world.calls.length > 200_000) world.calls.splice(0, 100_000)
}

async function poll(bot: Bot, body: Body, reply: FastifyReply): Promise<unknown> {
  if (bot.webhook)
    throw new Refusal(
      409,
      "Conflict: can't use getUpdates method while webhook is active; use deleteWebhook to delete the webhook first",
    )
  bot.polls?.conflict()
  const offset = Number(body.offset ?? 0)
  if (offset > 0) bot.updates = bot.updates.filter((update) => update.update_id >= offset)
  const limit = Math.min(Number(body.limit ?? 100), 100)
  const ready = () => ({ ok: true, result: bot.updates.slice(0, limit) })
  const seconds = Math.min(Number(body.timeout ?? 0), 50)
  if (bot.updates.length > 0 || seconds === 0) return ready()
  return new Promise((resolve) => {
    const mine = {
      answer: () => finish(ready()),
      conflict: () => {
        void reply.code(409)
        finish({
          ok: false,
          error_code: 409,
          description:
            "Conflict: terminated by other getUpdates request; make sure that only one bot instance is running",
        })
      },
    }
    const timer = setTimeout(() => finish(ready()), seconds * 1000)
    const finish = (answer: unknown) => {
      clearTimeout(timer)
      if (bot.polls === mine) bot.polls = undefined
      resolve(answer)
    }
    bot.polls = mine
    reply.raw.on("close", () => bot.polls === mine && finish({ ok: true, result: [] }))
  })
}

function servePeople(app: FastifyInstance, world: World, delivery: Delivery): void {
  const people = new PersonSide(world, delivery)
  const bodyOf = (request: FastifyRequest): Body =>
    request.body ? (JSON.parse((request.body as Buffer).toString("utf8")) as Body) : {}
  const act = (path: string, run: (body: Body) => unknown) => {
    app.post(`/standin/${path}`, async (request) => (await run(bodyOf(request))) ?? { done: true })
  }
  app.setErrorHandler((error: Error, _request, reply) =>
    reply.code(error instanceof Refusal ? error.code : 500).send({ error: error.message }),
  )
  app.get("/", async (_request, reply) => reply.type("text/html; charset=utf-8").send(phonePage))
  app.get("/standin/bots", async () =>
    [...world.bots.values()].map(({ username, first_name, id }) => ({ username, first_name, id })),
  )
  app.get("/standin/people", async () => [...world.people.values()])
  app.get("/standin/chats", async () =>
    [...world.chats.values()].map((chat) => ({ ...publicChat(chat), messages: chat.messages.length })),
  )
  app.get<{ Params: { id: string }; Querystring: { after?: string } }>("/standin/chats/:id", async (request) => {
    const chat = world.chats.get(Number(request.params.id))
    return (chat?.messages ?? []).filter(
      (message) => message.message_id > Number(request.query.after ?? 0) && !message.deleted,
    )
  })
  app.get("/standin/calls", async () => world.calls.slice(-1000))
  act("bots", (body) => {
    const { username, first_name, token, id } = world.addBot(
      String(body.username),
      String(body.name ?? body.username),
      body.token as string | undefined,
    )
    return { username, first_name, token, id }
  })
  act("people", (body) => world.addPerson(body as { first_name: string }))
  act("groups", (body) => publicChat(world.addGroup(body as unknown as Parameters<World["addGroup"]>[0])))
  act("start", (body) => people.start(body))
  act("say", (body) => people.say(body))
  act("edit", (body) => people.edit(body))
  act("drop-topic", (body) => people.dropTopic(body))
  act("press", (body) => people.press(body))
  act("react", (body) => people.react(body))
  act("block", (body) => people.block(body, true))
  act("unblock", (body) => people.block(body, false))
  act("upgrade", (body) => people.upgrade(body))
  act("revoke", (body) => {
    const bot = world.bots.get(String(body.bot))
    if (!bot) throw new Refusal(404, "there is no such bot")
    bot.token = `${bot.id}:standin-renewed-${Math.random().toString(36).slice(2, 14)}`
    return { token: bot.token }
  })
  act("faults", (body) => {
    if (body.kind === "duplicates") world.duplicates += Number(body.count ?? 1)
    else if (body.kind === "reorder") world.reorder += Number(body.count ?? 1)
    else {
      const { method, bot, kind, count, seconds } = body as {
        method?: string
        bot?: string
        kind: Fault["kind"]
        count?: number
        seconds?: number
      }
      world.faults.push({
        kind,
        left: count ?? 1,
        seconds: seconds ?? 2,
        ...(method ? { method } : {}),
        ...(bot ? { bot } : {}),
      })
    }
  })
}
