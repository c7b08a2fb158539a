import { createReadStream, existsSync } from "node:fs"
import { join } from "node:path"
import cookie from "@fastify/cookie"
import serveFiles from "@fastify/static"
import type { FastifyBaseLogger, FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import fastify, { LogController } from "fastify"
import type { Engine } from "../engine/engine.ts"
import type { Visitor } from "../store/access.ts"
import { answers } from "../store/database.ts"
import { spendOnce, visitorBySession, visitorByToken } from "../store/access.ts"
import { accessRoutes, cookieOptions, openSession, sessionCookie } from "./api/access.ts"
import { botRoutes } from "./api/bot.ts"
import { bringRoutes } from "./api/bring.ts"
import { channelRoutes } from "./api/channels.ts"
import { conversationRoutes } from "./api/conversations.ts"
import { mediaRoutes } from "./api/media.ts"
import { messageRoutes } from "./api/messages.ts"
import { looksRoutes } from "./api/looks.ts"
import { parkedRoutes } from "./api/parked.ts"
import { profileRoutes } from "./api/profiles.ts"
import { passageRoutes } from "./api/passages.ts"
import { prove, serveInlets } from "./inlets.ts"
import { serveLive } from "./live.ts"
import { openapi } from "./openapi.ts"
import { answerProblem } from "./problem.ts"
import type { ApiRoute } from "./routes.ts"
import { serveRoutes } from "./routes.ts"

/** The service's face to the network: inlets, the API, the live stream and the console's files, by the roles it has. */
export async function buildApp(engine: Engine, consoleFiles: string): Promise<FastifyInstance> {
  const { roles, log } = engine.settings
  const app = fastify({
    loggerInstance: log.child({}, { level: "warn" }) as unknown as FastifyBaseLogger,
    bodyLimit: 4 * 1024 * 1024,
    forceCloseConnections: "idle",
    routerOptions: { maxParamLength: 500, ignoreTrailingSlash: true },
    // Addresses that cannot be read reach no handler of ours.
    frameworkErrors: (error, request, reply) => void answerProblem(error, request, reply),
    logController: new LogController({ disableRequestLogging: true }),
  })
  if (roles.has("inlet")) await app.register(async (inside) => serveInlets(inside, engine))
  // Beside the inlets, not around them: what only people's calls need, providers' calls pass through none of.
  await app.register(async (inside) => servePeople(inside, engine, consoleFiles))
  return app
}

async function servePeople(app: FastifyInstance, engine: Engine, consoleFiles: string): Promise<void> {
  const { roles } = engine.settings
  await app.register(cookie)
  app.setErrorHandler(answerProblem)
  app.addHook("onSend", (request, reply, payload, done) => {
    prove(engine, request, reply)
    void reply.header("x-content-type-options", "nosniff").header("referrer-policy", "no-referrer")
    done(null, payload)
  })
  const whoIs = visitors(engine)

  app.get("/health/live", async () => ({ live: true }))
  app.get("/health/ready", async (_request, reply) => {
    const ready = await answers(engine.database, 2000)
    return reply.code(ready ? 200 : 503).send({ ready })
  })
  if (roles.has("api")) {
    const routes: ApiRoute[] = [
      ...channelRoutes,
      ...profileRoutes,
      ...bringRoutes,
      ...messageRoutes,
      ...conversationRoutes,
      ...passageRoutes,
      ...parkedRoutes,
      ...looksRoutes,
      ...mediaRoutes,
      ...botRoutes,
      ...accessRoutes,
    ]
    serveRoutes(app, engine, routes, whoIs)
    serveLive(app, engine, whoIs)
    const description = openapi(routes, VERSION)
    app.get("/api/openapi.json", async () => description)
  }
  if (roles.has("console")) await serveConsole(app, engine, consoleFiles)
  app.setNotFoundHandler((request, reply) => {
    const wantsPage = request.method === "GET" && roles.has("console") && !/^\/(api|in|health)\//.test(request.url)
    if (wantsPage && existsSync(join(consoleFiles, "index.html"))) return consolePage(reply, consoleFiles)
    return reply
      .code(404)
      .type("application/problem+json")
      .send({
        type: "about:blank",
        title: "Not found",
        status: 404,
        detail: `There is nothing at ${request.method} ${request.url.split("?")[0]}.`,
        remedy: "/api/openapi.json lists every call there is.",
      })
  })
}

function visitors(engine: Engine): (request: FastifyRequest) => Promise<Visitor | undefined> {
  return async (request) => {
    const bearer = /^Bearer\s+(\S+)$/i.exec(request.headers.authorization ?? "")?.[1]
    if (bearer) return visitorByToken(engine.database, bearer)
    const session = request.cookies[sessionCookie]
    return session ? visitorBySession(engine.database, session) : undefined
  }
}

async function serveConsole(app: FastifyInstance, engine: Engine, files: string): Promise<void> {
  if (!existsSync(files)) {
    app.get("/", async (_request, reply) =>
      reply.code(503).type("text/plain").send('The console is not built. Run "npm run build".\n'),
    )
    return
  }
  await app.register(serveFiles, { root: files, index: false, prefix: "/", maxAge: "1h" })
  app.get("/", (_request, reply) => consolePage(reply, files))
  app.get("/signin", async (request, reply) => {
    const { once } = request.query as { once?: string }
    const visitor = once ? await spendOnce(engine.database, once) : undefined
    if (!visitor) return consolePage(reply, files)
    const { cookie: value } = await openSession(engine.database, visitor)
    return reply
      .setCookie(sessionCookie, value, { ...cookieOptions, secure: request.protocol === "https" })
      .redirect("/")
  })
}

const policy =
  "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'"

function consolePage(reply: FastifyReply, files: string): FastifyReply {
  return reply
    .type("text/html; charset=utf-8")
    .header("cache-control", "no-cache")
    .header("content-security-policy", policy)
    .send(createReadStream(join(files, "index.html")))
}
