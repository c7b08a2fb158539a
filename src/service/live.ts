import type { ServerResponse } from "node:http"
import type { FastifyInstance, FastifyRequest } from "fastify"
import type { Engine } from "../engine/engine.ts"
import { Trouble } from "../engine/trouble.ts"
import { LiveFeed } from "./liveFeed.ts"
import { allowed, readerOf } from "./routes.ts"
import type { Visitors } from "./visitors.ts"
import { overHttps } from "./visitors.ts"

/** Streams one visitor may have open in one process, and all visitors together. */
const most = { each: 20, all: 500 }
/** Milliseconds between two looks whether a visitor may still listen. */
const lookAgainEvery = 30_000
/** Milliseconds after which a silent connection is told that it is alive: proxies close those that say nothing. */
const breathEvery = 20_000
/** Milliseconds a connection may be full before it is closed: its client resumes where it was. */
const longestFull = 30_000

/**
 * The live stream: server-sent events of what happened, each batch with a cursor as its id. With `Last-Event-ID` it
 * resumes where it was broken off, and leaves nothing out that was committed meanwhile.
 */
export function serveLive(app: FastifyInstance, engine: Engine, visitors: Visitors): void {
  const feed = new LiveFeed(engine.reading, engine.bell)
  const open = new Map<ServerResponse, string>()
  app.addHook("preClose", async () => open.forEach((_who, raw) => raw.end()))
  // A HEAD asks what a stream would be, and gets an end.
  app.head("/api/v1/live", async (request, reply) => {
    await readerOf(request, visitors, "The live stream")
    return reply.type("text/event-stream").send()
  })
  app.get("/api/v1/live", { exposeHeadRoute: false }, async (request, reply) => {
    const { id: who } = await readerOf(request, visitors, "The live stream")
    const cursor = cursorOf(request) ?? (await feed.now())
    // Nothing is waited for from here until the stream is counted: those that ask at once are all seen.
    refuseCrowd(open, who)
    reply.hijack()
    const { raw } = reply
    open.set(raw, who)
    raw.writeHead(200, {
      "content-type": "text/event-stream",
      "cache-control": "no-store",
      "x-accel-buffering": "no",
      "x-content-type-options": "nosniff",
      "referrer-policy": "no-referrer",
      ...(overHttps(request, engine) ? { "strict-transport-security": "max-age=31536000" } : {}),
    })
    raw.write(`id: ${cursor}\nevent: ready\ndata: {}\n\n`)

    let full: NodeJS.Timeout | undefined
    const { leave, ready } = feed.join(
      {
        tell: (to, items) => {
          if (raw.write(`id: ${to}\nevent: happened\ndata: ${JSON.stringify(items)}\n\n`)) return true
          full ??= setTimeout(() => raw.destroy(), longestFull)
          return false
        },
      },
      cursor,
    )
    raw.on("drain", () => {
      clearTimeout(full)
      full = undefined
      ready()
    })
    const breath = setInterval(() => raw.write(": still here\n\n"), breathEvery)
    const lookAgain = () => void stillAllowed(request, visitors).then((yes) => yes || raw.end())
    const again = setInterval(lookAgain, lookAgainEvery)
    const hear = (name: "channels" | "lanes", event: string) =>
      engine.bell.on(name, () => !raw.writableNeedDrain && raw.write(`event: ${event}\ndata: {}\n\n`))
    const off = [hear("channels", "channels"), hear("lanes", "bot"), engine.bell.on("visitors", () => lookAgain())]
    raw.on("close", () => {
      leave()
      off.forEach((end) => end())
      clearInterval(breath)
      clearInterval(again)
      clearTimeout(full)
      open.delete(raw)
    })
  })
}

function refuseCrowd(open: ReadonlyMap<ServerResponse, string>, who: string): void {
  const own = [...open.values()].filter((one) => one === who).length
  if (own < most.each && open.size < most.all) return
  throw new Trouble(
    "too-many",
    own < most.each ? `${most.all} live streams are open here.` : `${most.each} live streams of yours are open here.`,
    "Close one that is no longer needed, and try again.",
  )
}

function cursorOf(request: FastifyRequest): string | undefined {
  const header = request.headers["last-event-id"]
  const { since } = request.query as { since?: unknown }
  const given = typeof header === "string" && header !== "" ? header : since
  if (given === undefined) return undefined
  if (typeof given === "string" && /^\d{1,18}$/.test(given)) return given
  throw new Trouble(
    "bad-input",
    "The place to go on from is not an id of this stream.",
    "Give the id of the last event, or none to begin now.",
    given === since ? "since" : "Last-Event-ID",
  )
}

/** A session may have ended, and a token may be gone; a database that does not answer ends nobody's stream. */
async function stillAllowed(request: FastifyRequest, visitors: Visitors): Promise<boolean> {
  try {
    const visitor = await visitors.lookAgain(request)
    return visitor !== undefined && allowed(visitor, "reader")
  } catch {
    return true
  }
}
