import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import Joi from "joi"
import type { AnswerOf, BodyOf, Operation, QueryOf } from "../client/api.ts"
import type { Engine } from "../engine/engine.ts"
import { Trouble } from "../engine/trouble.ts"
import type { Role, Visitor } from "../store/access.ts"
import { timeOf } from "../store/ids.ts"
import type { Looked } from "../store/lookThrough.ts"

/** One operation of the API, as it is served and described. */
export interface ApiRoute {
  method: "GET" | "POST" | "PATCH" | "DELETE"
  /** Under `/api/v1`, parameters as `{name}`. */
  path: string
  summary: string
  /** The least role that may; without one nobody needs to be signed in. */
  role?: Role
  /** Whether a token that is good for one channel alone will do, where that channel is the path's `key`. */
  forChannel?: boolean
  query?: Joi.ObjectSchema
  body?: Joi.ObjectSchema
  headers?: { [name: string]: Joi.Schema }
  /** What comes back, in words. */
  answers: string
  status?: number
  handle: (ask: Ask<unknown, unknown>) => Promise<unknown>
}

/** What a route's code gets: checked input, who asks, and what works behind the service. */
export interface Ask<Query, Body> {
  params: { [name: string]: string }
  query: Query
  body: Body
  headers: { [name: string]: string | string[] | undefined }
  visitor: Visitor
  engine: Engine
  request: FastifyRequest
  reply: FastifyReply
}

/** An answer as the code gives it: on the wire its times become text. */
export type Given<Answer> = Answer extends string
  ? string extends Answer
    ? string | Date
    : Answer
  : Answer extends readonly (infer Item)[]
    ? readonly Given<Item>[]
    : Answer extends object
      ? { [Field in keyof Answer]: Given<Answer[Field]> }
      : Answer

/** An operation of the API, its input and its answer typed by the client's own description. */
export function route<Name extends Operation>(
  name: Name,
  given: Omit<ApiRoute, "method" | "path" | "handle"> & {
    handle: (ask: Ask<QueryOf<Name>, BodyOf<Name>>) => Promise<Given<AnswerOf<Name>>>
  },
): ApiRoute {
  const [method, path] = name.split(" ") as [ApiRoute["method"], string]
  // Its own schemas check what comes before it gets there.
  const handle = given.handle as unknown as ApiRoute["handle"]
  return { ...given, method, path, handle }
}

const ranks: Record<Role, number> = { bring: -1, reader: 0, operator: 1, developer: 2, owner: 3 }

export function allowed(visitor: Visitor, role: Role): boolean {
  return ranks[visitor.role] >= ranks[role]
}

export function serveRoutes(
  app: FastifyInstance,
  engine: Engine,
  routes: ApiRoute[],
  whoIs: (request: FastifyRequest) => Promise<Visitor | undefined>,
): void {
  for (const route of routes) {
    app.route({
      method: route.method,
      url: `/api/v1${route.path.replace(/\{(\w+)\}/g, ":$1")}`,
      handler: async (request, reply) => {
        const visitor = await whoIs(request)
        if (route.role !== undefined) admit(visitor, route, request)
        const answer = await route.handle({
          params: request.params as { [name: string]: string },
          query: checked(route.query ?? Joi.object({}), request.query, "query"),
          body: route.body ? checked(route.body, request.body ?? {}, "body") : undefined,
          headers: request.headers,
          visitor: visitor ?? { name: "nobody", role: "reader" },
          engine,
          request,
          reply,
        })
        if (reply.sent) return reply
        if (route.status !== undefined) reply.code(route.status)
        return answer === undefined ? reply.code(204).send() : answer
      },
    })
  }
}

function admit(visitor: Visitor | undefined, route: ApiRoute, request: FastifyRequest): void {
  if (!visitor) {
    throw new Trouble(
      "not-signed-in",
      "This needs a token that Wobbet knows.",
      'Send "Authorization: Bearer …". On the service\'s own machine the token is in the file "token" of WOBBET_HOME.',
    )
  }
  if (visitor.role === "bring") {
    const { key } = request.params as { key?: string }
    if (route.forChannel && key === visitor.channel) return
    throw new Trouble(
      "not-allowed",
      `This token is good for fetching the calls of ${visitor.channel} alone.`,
      "Ask an owner for a token with a role.",
    )
  }
  if (!allowed(visitor, route.role!)) {
    throw new Trouble(
      "not-allowed",
      `The role ${visitor.role} may not do this; it takes ${route.role}.`,
      "Ask an owner for a token with that role.",
    )
  }
  // A cookie comes along by itself, even from another site's page; the header does not.
  const byCookie = request.headers.authorization === undefined
  if (byCookie && route.method !== "GET" && request.headers["x-csrf"] !== visitor.csrf) {
    throw new Trouble(
      "not-allowed",
      "The request carries no proof that it comes from our own pages.",
      "Reload the page and try again.",
    )
  }
}

function checked(schema: Joi.ObjectSchema, value: unknown, where: string): unknown {
  const { value: clean, error } = schema.validate(value, { convert: true })
  if (!error) return clean
  const detail = error.details[0]!
  const field = detail.path.join(".")
  throw new Trouble(
    "bad-input",
    `The ${where} is not right: ${detail.message}.`,
    "/api/openapi.json says what each call takes.",
    field || undefined,
  )
}

export const cursor = Joi.string().max(200).description("the `next` of the list before, to go on from there")
export const limit = Joi.number().integer().min(1).max(200).default(50).description("how many at most")

/** A page of a list, and where the next begins. */
export function page<Item>(
  items: Item[],
  most: number,
  cursorOf: (item: Item) => string | null,
): { items: Item[]; next: string | null } {
  const more = items.length > most
  const kept = more ? items.slice(0, most) : items
  return { items: kept, next: more ? cursorOf(kept.at(-1)!) : null }
}

/** The same for a list that may have run out of time. */
export function lookedPage<Row>({ rows, next, short }: Looked<Row>): {
  items: Row[]
  next: string | null
  lookedTo?: string
} {
  const lookedTo = short ? { lookedTo: timeOf(next!)?.toISOString() ?? next! } : {}
  return { items: rows, next: next ?? null, ...lookedTo }
}
