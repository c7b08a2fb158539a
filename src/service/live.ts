import type { FastifyInstance, FastifyRequest } from "fastify"
import type { Engine } from "../engine/engine.ts"
import { Trouble } from "../engine/trouble.ts"
import type { Visitor } from "../store/access.ts"
import { allowed } from "./routes.ts"
import { happenings } from "../store/live.ts"

/**
 * The live stream: server-sent events of what happened, each batch with a cursor as its id. With `Last-Event-ID` it
 * goes on where it was broken off, and leaves nothing out that was committed meanwhile.
 */
export function serveLive(
  app: FastifyInstance,
  engine: Engine,
  whoIs: (request: FastifyRequest) => Promise<Visitor | undefined>,
): void {
  const open = new Set<() => void>()
  app.addHook("preClose", async () => open.forEach((end) => end()))
  app.get("/api/v1/live", async (request, reply) => {
    const visitor = await whoIs(request)
    if (!visitor || !allowed(visitor, "reader"))
      throw new Trouble(
        "not-signed-in",
        "The live stream needs a token that Wobbet knows.",
        "Sign in, or send a bearer token.",
      )
    const given = request.headers["last-event-id"]
    let cursor = typeof given === "string" ? given : (request.query as { since?: string }).since
    if (cursor === undefined || !/^\d{1,19}$/.test(cursor))
      cursor = (await happenings(engine.database, undefined, 0)).cursor

    reply.hijack()
    const { raw } = reply
    raw.writeHead(200, { "content-type": "text/event-stream", "cache-control": "no-store", "x-accel-buffering": "no" })
    raw.write(`id: ${cursor}\nevent: ready\ndata: {}\n\n`)
    let reading = false
    let again = false
    const look = async (): Promise<void> => {
      if (reading) {
        again = true
        return
      }
      reading = true
      try {
        const found = await happenings(engine.database, cursor, 500)
        if (found.items.length > 0)
          raw.write(`id: ${found.cursor}\nevent: happened\ndata: ${JSON.stringify(found.items)}\n\n`)
        again ||= found.items.length >= 500
        cursor = found.cursor
      } catch {
        // The database is away; the next look goes on from the same cursor.
      } finally {
        reading = false
      }
      if (again) {
        again = false
        void look()
      }
    }
    const off = engine.bell.on("live", () => void look())
    const offChannels = engine.bell.on("channels", () => raw.write(`event: channels\ndata: {}\n\n`))
    const offLanes = engine.bell.on("lanes", () => raw.write(`event: bot\ndata: {}\n\n`))
    // What is committed only after its bell has rung, and proxies that close a silent connection.
    const sweep = setInterval(() => void look(), 1500)
    const breath = setInterval(() => raw.write(": still here\n\n"), 20_000)
    const end = () => {
      off()
      offChannels()
      offLanes()
      clearInterval(sweep)
      clearInterval(breath)
      open.delete(finish)
    }
    const finish = () => raw.end()
    open.add(finish)
    request.raw.on("close", end)
    void look()
  })
}
