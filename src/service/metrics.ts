import type { FastifyInstance } from "fastify"
import type { Engine } from "../engine/engine.ts"
import { Trouble } from "../engine/trouble.ts"
import { allowed } from "./routes.ts"
import type { Visitors } from "./visitors.ts"

/** `/metrics`: this process's figures for whoever may read, in OpenMetrics where that is asked for. */
export function serveMetrics(app: FastifyInstance, engine: Engine, visitors: Visitors): void {
  app.get("/metrics", async (request, reply) => {
    const visitor = await visitors.of(request)
    if (!visitor)
      throw new Trouble(
        "not-signed-in",
        "The figures need a token that Wobbet knows.",
        'Make one with "wobbet token make metrics --role reader", and give it to what collects them as a bearer token.',
      )
    if (!allowed(visitor, "reader"))
      throw new Trouble("not-allowed", "This token may not read the figures.", "Use one with the role reader.")
    const open = /application\/openmetrics-text/.test(request.headers.accept ?? "")
    const { type, text } = await engine.figures.text(open)
    return reply.type(type).send(text)
  })
}
