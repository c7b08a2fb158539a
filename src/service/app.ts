import { createReadStream, existsSync } from "node:fs"
import { join } from "node:path"
import cookie from "@fastify/cookie"
import serveFiles from "@fastify/static"
import type { FastifyBaseLogger, FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import fastify, { LogController } from "fastify"
import { isNestedDeeper } from "../core/message/json.ts"
import type { Engine } from "../engine/engine.ts"
import { Trouble } from "../engine/trouble.ts"
import { keepsWrites } from "../store/chores.ts"
import { accessRoutes } from "./api/access.ts"
import { auditRoutes } from "./api/audit.ts"
import { botRoutes } from "./api/bot.ts"
import { bringRoutes } from "./api/bring.ts"
import { channelRoutes } from "./api/channels.ts"
import { conversationRoutes } from "./api/conversations.ts"
import { secretRoutes } from "./api/secrets.ts"
import { peopleRoutes } from "./api/people.ts"
import { looksRoutes } from "./api/looks.ts"
import { mediaRoutes } from "./api/media.ts"
import { messageRoutes } from "./api/messages.ts"
import { journalRoutes } from "./api/journal.ts"
import { parkedRoutes } from "./api/parked.ts"
import { passageRoutes } from "./api/passages.ts"
import { profileRoutes } from "./api/profiles.ts"
import { noticeRoutes } from "./api/notices.ts"
import { modelRoutes } from "./api/models.ts"
import { queueRoutes } from "./api/queues.ts"
import { boundConnections, refuseUnreadable } from "./connections.ts"
import { prove, serveInlets } from "./inlets.ts"
import { serveLive } from "./live.ts"
import { serveMetrics } from "./metrics.ts"
import { openapi } from "./openapi.ts"
import { answerProblem } from "./problem.ts"
import type { ApiRoute } from "./routes.ts"
import { serveRoutes } from "./routes.ts"
import { overHttps, Visitors } from "./visitors.ts"

/** Bytes a body given to the API may have: pictures may stand in it. */
const longestBody = 4 * 1024 * 1024

/** How deep JSON given to the API may go; nothing it takes comes near. */
const deepest = 64

/** Milliseconds in which a request must have come whole, and its headers. */
const patience = { request: 60_000, headers: 15_000, lookEvery: 2000 }

/** Every operation of the API, in the order in which it is described. */
export const apiRoutes: ApiRoute[] = [
  ...channelRoutes,
  ...profileRoutes,
  ...bringRoutes,
  ...messageRoutes,
  ...conversationRoutes,
  ...peopleRoutes,
  ...secretRoutes,
  ...passageRoutes,
  ...journalRoutes,
  ...parkedRoutes,
  ...queueRoutes,
  ...modelRoutes,
  ...noticeRoutes,
  ...looksRoutes,
  ...mediaRoutes,
  ...botRoutes,
  ...accessRoutes,
  ...auditRoutes,
]

/** The service's face to the network: inlets, the API, the live stream and the console's files, by the roles it has. */
export async function buildApp(
  engine: Engine,
  options: { consoleFiles: string; proxies: string[]; connections: number },
): Promise<FastifyInstance> {
  const { roles, log } = engine.settings
  const app = fastify({
    loggerInstance: log.child({}, { level: "warn" }) as unknown as FastifyBaseLogger,
    bodyLimit: longestBody,
    forceCloseConnections: "idle",
    requestTimeout: patience.request,
    http: { headersTimeout: patience.headers, connectionsCheckingInterval: patience.lookEvery },
    routerOptions: { maxParamLength: 500, ignoreTrailingSlash: true },
    ...(options.proxies.length > 0 ? { trustProxy: options.proxies } : {}),
    // Addresses and requests that cannot be read reach no handler of ours.
    frameworkErrors: (error, request, reply) => void answerProblem(error, request, reply),
    clientErrorHandler: refuseUnreadable,
    logController: new LogController({ disableRequestLogging: true }),
  })
  boundConnections(app.server, options.connections)
  if (roles.has("inlet")) await app.register(async (inside) => serveInlets(inside, engine))
  // Beside the inlets, not around them: what only people's calls need, providers' calls pass through none of.
  await app.register(async (inside) => servePeople(inside, engine, options.consoleFiles))
  return app
}

async function servePeople(app: FastifyInstance, engine: Engine, consoleFiles: string): Promise<void> {
  const { roles } = engine.settings
  await app.register(cookie)
  app.setErrorHandler(answerProblem)
  app.addHook("onSend", (request, reply, payload, done) => {
    prove(engine, request, reply)
    for (const [name, value] of headersFor(request, engine)) if (!reply.hasHeader(name)) void reply.header(name, value)
    done(null, payload)
  })
  app.addContentTypeParser(
    ["application/json", "application/cloudevents+json"],
    { parseAs: "string" },
    (_request, text, done) => {
      try {
        done(null, readBody(text as string))
      } catch (error) {
        done(error as Error)
      }
    },
  )
  const visitors = new Visitors(engine)

  // Asked as often as anybody likes, the database is asked once a second.
  let probe = { at: -Infinity, answer: Promise.resolve(false) }
  const isReady = () => {
    if (performance.now() - probe.at > 1000)
      probe = { at: performance.now(), answer: keepsWrites(engine.database, 2000) }
    return probe.answer
  }

  app.get("/health/live", async () => ({ live: true }))
  app.get("/health/ready", async (_request, reply) => {
    const database = await isReady()
    const disk = await engine.disk.look()
    return reply.code(database ? 200 : 503).send({ ready: database, database: database ? "up" : "away", disk })
  })
  serveMetrics(app, engine, visitors)
  if (roles.has("api")) {
    serveRoutes(app, engine, apiRoutes, visitors)
    app.addHook("preClose", async () => engine.lending.stop())
    serveLive(app, engine, visitors)
    let description: ReturnType<typeof openapi> | undefined
    app.get("/api/openapi.json", async () => (description ??= openapi(apiRoutes, VERSION)))
  }
  if (roles.has("console")) await serveConsole(app, consoleFiles)
  // Collected when they are first needed: at every start that took nearly a tenth of it.
  let paths: ReturnType<typeof knownPaths> | undefined
  app.setNotFoundHandler((request, reply) => {
    paths ??= knownPaths(app)
    const path = request.url.split("?")[0]!
    const methods = paths.find((known) => known.pattern.test(path.replace(/(.)\/$/, "$1")))?.methods
    if (methods !== undefined && !methods.has(request.method)) {
      const allowed = [...methods].join(", ")
      void reply.header("allow", allowed)
      throw new Trouble("no-such-method", `${request.method} is not done at ${path}.`, `It takes ${allowed}.`)
    }
    const wantsPage = request.method === "GET" && roles.has("console") && isPage(path)
    if (wantsPage && existsSync(join(consoleFiles, "index.html"))) return consolePage(reply, consoleFiles)
    throw new Trouble(
      "not-found",
      `There is nothing at ${request.method} ${path.slice(0, 500)}.`,
      "/api/openapi.json lists every call there is.",
    )
  })
}

/** Whether an address may be one of the console's pages: it has no place of its own, and names no file. */
function isPage(path: string): boolean {
  return !/^\/(api|in|health|metrics|assets)(\/|$)/.test(path) && !/\.\w+$/.test(path)
}

/** Reads JSON for the API. Throws a Trouble for what is not JSON, or nested without end. */
function readBody(text: string): unknown {
  if (text === "") return undefined
  if (isNestedDeeper(text, deepest))
    throw new Trouble("bad-input", "The body is nested too deeply.", "Send it less nested.", "body")
  try {
    return JSON.parse(text, (name, value: unknown) => (name === "__proto__" ? undefined : value))
  } catch (error) {
    throw new Trouble(
      "bad-input",
      `The body is not JSON: ${(error as Error).message.slice(0, 200)}.`,
      "Correct the body and send it again.",
      "body",
    )
  }
}

/** What every answer to people and programs says about itself, unless it says it otherwise. */
function headersFor(request: FastifyRequest, engine: Engine): [name: string, value: string][] {
  return [
    ["x-content-type-options", "nosniff"],
    ["referrer-policy", "no-referrer"],
    ["cross-origin-resource-policy", "same-origin"],
    ["content-security-policy", "default-src 'none'; frame-ancestors 'none'"],
    ...(/^\/(assets\/|favicon\.svg$)/.test(request.url) ? [] : ([["cache-control", "no-store"]] as [string, string][])),
    ...(overHttps(request, engine) ? ([["strict-transport-security", "max-age=31536000"]] as [string, string][]) : []),
  ]
}

/** The addresses that are known, with the methods each takes. */
function knownPaths(app: FastifyInstance): { pattern: RegExp; methods: Set<string> }[] {
  const known = new Map<string, Set<string>>()
  const add = (path: string, ...methods: string[]) => known.set(path, new Set([...(known.get(path) ?? []), ...methods]))
  for (const { method, path } of apiRoutes)
    if (app.hasRoute({ method, url: `/api/v1${path.replace(/\{(\w+)\}/g, ":$1")}` }))
      add(`/api/v1${path}`, method, ...(method === "GET" ? ["HEAD"] : []))
  for (const path of ["/api/v1/live", "/api/openapi.json", "/health/live", "/health/ready", "/metrics", "/"])
    if (app.hasRoute({ method: "GET", url: path })) add(path, "GET", "HEAD")
  add("/in/{key}", "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE")
  return [...known].map(([path, methods]) => ({
    pattern: new RegExp(`^${path.replace(/[.]/g, "\\.").replace(/\{\w+\}/g, "[^/]+")}$`),
    methods,
  }))
}

async function serveConsole(app: FastifyInstance, files: string): Promise<void> {
  if (!existsSync(files)) {
    app.get("/", async (_request, reply) =>
      reply.code(503).type("text/plain").send('The console is not built. Run "npm run build".\n'),
    )
    return
  }
  const page = (_request: FastifyRequest, reply: FastifyReply) => consolePage(reply, files)
  const assets = join(files, "assets")
  await app.register(serveFiles, {
    root: files,
    index: false,
    prefix: "/",
    preCompressed: true,
    cacheControl: false,
    // What lies under assets has its content's hash in its name.
    setHeaders: (reply, path) =>
      void reply.header(
        "cache-control",
        path.startsWith(assets) ? "public, max-age=31536000, immutable" : "public, max-age=3600",
      ),
    allowedPath: (path) => !path.startsWith("/index.html"),
  })
  app.get("/", page)
  app.get("/index.html", page)
}

const policy =
  "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src 'self'; form-action 'self'; object-src 'none'; frame-ancestors 'none'; base-uri 'none'"

function consolePage(reply: FastifyReply, files: string): FastifyReply {
  return reply
    .type("text/html; charset=utf-8")
    .header("cache-control", "no-cache")
    .header("content-security-policy", policy)
    .send(createReadStream(join(files, "index.html")))
}
