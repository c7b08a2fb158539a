import type { FastifyInstance } from "fastify"
import type { Body, Played, Stage } from "../shared/standin.ts"
import { act, jsonOf, playStandin, Refusal, withFault } from "../shared/standin.ts"

/** A made-up gateway that calls nobody: what people say waits in a queue, is fetched, and removed by its receipt. */
export type BuoyStandin = Played<World>

export interface BuoyScene {
  box: string
  key: string
  number: string
  people: { id: string; name: string }[]
}

export interface World extends Omit<BuoyScene, "people"> {
  queue: { receipt: string; content: Body }[]
  /** How often each was handed out. */
  handed: Map<string, number>
  /** Whether the owner's telephone is still linked. */
  linked: boolean
}

/** Seconds the queue is held open when nothing waits. */
const holds = 2

export async function startBuoy(scene: BuoyScene, options: { port?: number } = {}): Promise<BuoyStandin> {
  const { people, ...rest } = scene
  const world: World = { ...rest, queue: [], handed: new Map(), linked: true }
  return playStandin("A phone at the mail buoy stand-in", people, world, options.port, (app, stage) => {
    serveQueue(app, stage, world)
    serveOut(app, stage, world)
    act(app, "say", ({ from, text }) => {
      const id = `m${stage.number()}`
      stage.show(String(from), { id, mine: true, text: String(text) })
      const sender = { number: String(from).replace("+", ""), name: stage.people.get(String(from))?.name }
      push(stage, world, { kind: "message", id, sender, text, at: Math.floor(Date.now() / 1000) })
    })
    act(app, "push", (content) => push(stage, world, content))
    act(app, "unlink", () => {
      world.linked = false
    })
  })
}

function push(stage: Stage, world: World, content: Body): void {
  world.queue.push({ receipt: `r${stage.number()}`, content })
}

function admit(world: World, key: string): void {
  if (key !== world.key) throw new Refusal(401, "unknown key", { trouble: "unknown key" })
}

function serveQueue(app: FastifyInstance, stage: Stage, world: World): void {
  app.get<{ Params: { box: string; key: string } }>("/boxes/:box/queue/:key", async (request, reply) => {
    admit(world, request.params.key)
    return withFault(
      stage,
      reply,
      (fault) => new Refusal(Number(fault), fault, { trouble: fault }),
      async () => {
        for (const end = Date.now() + holds * 1000; world.queue.length === 0 && Date.now() < end;)
          await new Promise((resolve) => setTimeout(resolve, 50))
        const first = world.queue[0]
        if (!first) return reply.type("application/json").send("null")
        world.handed.set(first.receipt, (world.handed.get(first.receipt) ?? 0) + 1)
        return first
      },
    )
  })
  app.delete<{ Params: { box: string; key: string; receipt: string } }>(
    "/boxes/:box/queue/:key/:receipt",
    async (request) => {
      admit(world, request.params.key)
      const before = world.queue.length
      world.queue = world.queue.filter((one) => one.receipt !== request.params.receipt)
      return { removed: before > world.queue.length }
    },
  )
}

function serveOut(app: FastifyInstance, stage: Stage, world: World): void {
  app.post<{ Params: { box: string; key: string } }>("/boxes/:box/out/:key", async (request, reply) => {
    admit(world, request.params.key)
    const body = jsonOf(request)
    return withFault(
      stage,
      reply,
      (fault, seconds) => new Refusal(Number(fault), fault, { trouble: fault }, { "retry-after": String(seconds) }),
      () => {
        const person = stage.people.get(`+${String(body.chat).replace("@m.buoy", "")}`)
        if (!person || !String(body.chat).endsWith("@m.buoy"))
          throw new Refusal(400, "no such chat", { trouble: "no such chat", code: 404 })
        if (typeof body.text !== "string" || body.text === "" || body.text.length > 4000)
          throw new Refusal(400, "length", { trouble: "a text has 1 to 4000 characters", code: 413 })
        const id = `o${stage.number()}`
        stage.show(person.id, { id, mine: false, text: body.text, status: "sent" })
        stage.record("out", body, 200, true)
        setTimeout(() => push(stage, world, { kind: "report", id, state: "delivered" }), 200).unref()
        return { sent: { id } }
      },
    )
  })
  app.get<{ Params: { box: string; key: string } }>("/boxes/:box/:key", async (request) => {
    admit(world, request.params.key)
    return { box: world.box, number: world.number, state: world.linked ? "linked" : "unlinked" }
  })
}
