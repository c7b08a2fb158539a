import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import { longestRefused } from "../engine/inlet/refusals.ts"
import { kindOf } from "../core/channels/registry.ts"
import type { InboundCall } from "../core/channels/call.ts"
import type { Engine } from "../engine/engine.ts"
import { longestEvent } from "../engine/notices/applications.ts"
import type { ServedAnswer } from "../engine/inlet/inlet.ts"
import { Bodies, BodyRefused } from "./bodies.ts"
import { Visitors } from "./visitors.ts"
import { probeHeader, proofHeader, proofOf } from "../engine/care/reachability.ts"

/** `/in/<channel key>`: where providers call. Bodies are taken as they come; what they mean is the kind's business. */
export function serveInlets(app: FastifyInstance, engine: Engine): void {
  // A logger of its own for every call would cost more than reading the call does.
  app.setChildLoggerFactory((logger) => logger)
  app.removeAllContentTypeParsers()
  // Bodies are read by the handler, within what is allowed for its channel.
  app.addContentTypeParser("*", (_request, _body, done) => done(null))
  const bodies = new Bodies()
  engine.bodiesUnderWay = () => bodies.underWay
  app.setErrorHandler(async (error: Error & { statusCode?: number }, request, reply) => {
    const status = error.statusCode ?? 500
    if (status === 413) await letFinish(request)
    if (error instanceof BodyRefused) void reply.header("connection", "close")
    if (status === 503) void reply.header("retry-after", "5")
    if (status >= 500 && !(error instanceof BodyRefused))
      request.log.error({ err: error, address: request.url.split("?")[0] }, "an inlet failed")
    return reply.code(status).send()
  })

  app.get<{ Params: { key: string } }>("/in/:key", async (request, reply) => {
    const { key } = request.params
    prove(engine, request, reply)
    void reply.header("content-security-policy", "sandbox").header("x-content-type-options", "nosniff")
    const known = engine.channels.get(key)
    const call = callOf(request, Buffer.alloc(0))
    const learns = known !== undefined && known.row.learning !== null && call.address.includes("?")
    if (known && (learns || kindOf(known.row.kind).isHandshake?.(call, known.channel)))
      return answerWith(reply, await engine.inlet.receive(key, call, new Date()))
    if (!known)
      return reply
        .code(404)
        .type("text/plain; charset=utf-8")
        .send(`There is no channel "${printable(key)}" here.\n`)
    return reply
      .type("text/plain; charset=utf-8")
      .send(`This is the inlet of channel ${key}. It works; providers post here, so there is nothing to see.\n`)
  })

  serveApplications(app, engine, bodies, new Visitors(engine))
  app.route<{ Params: { key: string } }>({
    method: ["POST", "PUT", "PATCH", "DELETE"],
    url: "/in/:key",
    handler: async (request, reply) => {
      const { key } = request.params
      const body = await bodyOf(request, reply, engine, bodies)
      return answerWith(reply, await engine.inlet.receive(key, callOf(request, body), new Date()))
    },
  })
}

/** `/in/<bot>/<application>`: where applications post what happened. */
function serveApplications(app: FastifyInstance, engine: Engine, bodies: Bodies, visitors: Visitors): void {
  app.post<{ Params: { bot: string; application: string } }>("/in/:bot/:application", async (request, reply) => {
    const { bot, application } = request.params
    const body = await bodies.read(request.raw, reply.raw, { most: longestEvent, cut: false })
    const headers = callOf(request, nothing).headers
    const answer = await engine.applications.receive(bot, application, headers, body.toString("utf8"), new Date())
    if (answer.status === 401) {
      // A stranger learns nothing of what there is, and may not guess on and on.
      const wait = await visitors.refusedCall(request)
      return wait === undefined ? reply.code(401).send() : reply.code(429).header("retry-after", String(wait)).send()
    }
    return reply.code(answer.status).type("application/json").send(JSON.stringify(answer.body))
  })
}

/** Bytes a body may have where its channel's kind says nothing. */
const usualLongest = 4 * 1024 * 1024

/**
 * Reads a call's body. Of a long one whose head alone shows that it is not genuine, only so much as is kept of a
 * refused call.
 */
async function bodyOf(
  request: FastifyRequest<{ Params: { key: string } }>,
  reply: FastifyReply,
  engine: Engine,
  bodies: Bodies,
): Promise<Buffer> {
  const known = await engine.channels.meet(request.params.key)
  const most = known ? (kindOf(known.row.kind).longestBody ?? usualLongest) : longestRefused
  const announced = Number(request.headers["content-length"] ?? Infinity)
  if (known === undefined || announced <= longestRefused || !engine.inlet.refutes(known, callOf(request, nothing)))
    return bodies.read(request.raw, reply.raw, { most, cut: known === undefined })
  const body = await bodies.read(request.raw, reply.raw, { most: longestRefused, cut: true })
  await letFinish(request)
  void reply.header("connection", "close")
  return body
}

const nothing = Buffer.alloc(0)

/** Answers the question whether it is this service that is reached, wherever it is asked. */
export function prove(engine: Engine, request: FastifyRequest, reply: FastifyReply): void {
  const probe = request.headers[probeHeader]
  if (typeof probe === "string") void reply.header(proofHeader, proofOf(engine.seal, probe))
}

function answerWith(reply: FastifyReply, answer: ServedAnswer): FastifyReply {
  const { written } = answer
  if (written) {
    reply.raw.on("finish", () => written(true))
    reply.raw.on("close", () => written(reply.raw.writableFinished))
    if (reply.raw.destroyed) written(false)
  }
  for (const [name, value] of Object.entries(answer.headers ?? {}))
    void reply.header(name, /html|svg/i.test(value) && name === "content-type" ? "text/plain; charset=utf-8" : value)
  // What stands in it may come from anywhere, and this is the console's origin: nothing of it is ever run.
  void reply.header("content-security-policy", "sandbox").header("x-content-type-options", "nosniff")
  return reply.code(answer.status).send(answer.body ?? "")
}

/** A caller that is still sending when it is refused may never see the answer: what comes is thrown away first. */
async function letFinish(request: FastifyRequest): Promise<void> {
  const { raw } = request
  if (raw.readableEnded || raw.destroyed) return
  await new Promise<void>((resolve) => {
    const timer = setTimeout(resolve, 5000)
    const end = () => (clearTimeout(timer), resolve())
    raw.on("end", end).on("close", end).on("error", end).resume()
  })
}

function callOf(request: FastifyRequest, body: Buffer): InboundCall {
  const headers: { [name: string]: string } = {}
  for (const name in request.headers) {
    const value = request.headers[name]
    if (value !== undefined) headers[name] = Array.isArray(value) ? value.join(", ") : value
  }
  return {
    method: request.method,
    address: request.url,
    headers,
    body,
  }
}

function printable(text: string): string {
  return text.replace(/[^\x20-\x7e]/g, "?").slice(0, 80)
}
