import type { FastifyInstance } from "fastify"
import type { Engine } from "../engine/engine.ts"
import { readerOf } from "./routes.ts"
import type { Visitors } from "./visitors.ts"

/** `/metrics`: this process's figures for whoever may read, in OpenMetrics where that is asked for. */
export function serveMetrics(app: FastifyInstance, engine: Engine, visitors: Visitors): void {
  app.get("/metrics", async (request, reply) => {
    await readerOf(request, visitors, "This")
    const open = /application\/openmetrics-text/.test(request.headers.accept ?? "")
    const { type, text } = await engine.figures.text(open)
    return reply.type(type).send(text)
  })
}
