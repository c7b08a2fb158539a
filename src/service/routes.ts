import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import Joi from "joi"
import type { AnswerOf, BodyOf, Operation, QueryOf } from "../client/api.ts"
import type { Engine } from "../engine/engine.ts"
import type { catalogue } from "../engine/trouble.ts"
import { Trouble } from "../engine/trouble.ts"
import type { Doer, Role, Visitor } from "../store/access.ts"
import { timeOf } from "../store/ids.ts"
import type { Looked } from "../store/lookThrough.ts"
import { operations } from "./operations.ts"
import { firstUnstorable } from "./input.ts"
import type { Visitors } from "./visitors.ts"
import { doer, fromOurPages } from "./visitors.ts"

/** One operation of the API, as it is served and described. */
export interface ApiRoute {
  method: "GET" | "POST" | "PATCH" | "DELETE"
  /** Under `/api/v1`, parameters as `{name}`. */
  path: string
  /** Its name for programs that are generated from the description. */
  id: string
  /** Under which heading it is described. */
  tag: string
  summary: string
  /** The least role that may; without one nobody needs to be signed in. */
  role?: Role
  /** Whether a token that is good for one channel alone will do, where that channel is the path's `key`. */
  forChannel?: boolean
  query?: Joi.ObjectSchema
  body?: Joi.ObjectSchema
  headers?: { [name: string]: Joi.Schema }
  /** The same of a token that is good for one queue alone, where that queue is the path's `name`. */
  forQueue?: boolean
  /** Throws for whoever may not, where no role decides that. */
  admit?: (request: FastifyRequest, engine: Engine) => void
  /** What comes back, in words. */
  answers: string
  status?: number
  /** What may come instead, by what happened, besides what every operation may answer. */
  troubles?: (keyof typeof catalogue)[]
  /** The type of what is answered, where that is not JSON. */
  content?: string
  /** Bytes its body may have, where that is not as usual. */
  bodyLimit?: number
  handle: (ask: Ask<unknown, unknown>) => Promise<unknown>
}

/** What a route's code gets: checked input, who asks, and what works behind the service. */
export interface Ask<Query, Body> {
  params: { [name: string]: string }
  query: Query
  body: Body
  headers: { [name: string]: string | string[] | undefined }
  visitor: Visitor
  /** The visitor, as what they do is put on record. */
  by: Doer
  visitors: Visitors
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
  given: Omit<ApiRoute, "method" | "path" | "id" | "tag" | "handle"> & {
    handle: (ask: Ask<QueryOf<Name>, BodyOf<Name>>) => Promise<Given<AnswerOf<Name>>>
  },
): ApiRoute {
  const [method, path] = name.split(" ") as [ApiRoute["method"], string]
  // Its own schemas check what comes before it gets there.
  const handle = given.handle as unknown as ApiRoute["handle"]
  const [id, tag] = operations[name]
  return { ...given, method, path, id, tag, handle }
}

const ranks: Record<Role, number> = { bring: -1, worker: -1, reader: 0, operator: 1, developer: 2, owner: 3 }

export function allowed(visitor: Visitor, role: Role): boolean {
  return ranks[visitor.role] >= ranks[role]
}

/** Who reads something beside the API's operations. Throws for whoever may not. */
export async function readerOf(request: FastifyRequest, visitors: Visitors, what: string): Promise<Visitor> {
  const visitor = await visitors.of(request)
  if (!visitor)
    throw new Trouble(
      "not-signed-in",
      `${what} needs a token that Wobbet knows.`,
      'Sign in, or send "Authorization: Bearer …" with a token of the role reader.',
    )
  if (!allowed(visitor, "reader"))
    throw new Trouble("not-allowed", `This token may not read: ${what.toLowerCase()}.`, "Use one with the role reader.")
  await visitors.pace(visitor)
  return visitor
}

export function serveRoutes(app: FastifyInstance, engine: Engine, routes: ApiRoute[], visitors: Visitors): void {
  for (const route of routes) {
    app.route({
      method: route.method,
      url: `/api/v1${route.path.replace(/\{(\w+)\}/g, ":$1")}`,
      ...(route.bodyLimit === undefined ? {} : { bodyLimit: route.bodyLimit }),
      // Before the body is read: a stranger's is not.
      onRequest: async (request) => {
        route.admit?.(request, engine)
        if (route.role === undefined) return
        const visitor = await visitors.of(request)
        admit(visitor, route, request, engine)
        await visitors.pace(visitor!)
      },
      handler: async (request, reply) => {
        const visitor = route.role === undefined ? undefined : await visitors.of(request)
        const stranger: Visitor = { id: "", name: "nobody", role: "reader" }
        const answer = await route.handle({
          params: paramsOf(request),
          query: checked(route.query ?? Joi.object({}), request.query, "query"),
          body: route.body ? checked(route.body, request.body ?? {}, "body") : undefined,
          headers: headersOf(route, request),
          visitor: visitor ?? stranger,
          by: doer(visitor ?? stranger, request),
          visitors,
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

function admit(visitor: Visitor | undefined, route: ApiRoute, request: FastifyRequest, engine: Engine): void {
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
      `This token is valid only for fetching the calls of ${visitor.channel} alone.`,
      "Ask an owner for a token with a role.",
    )
  }
  if (visitor.role === "worker") {
    const { name } = request.params as { name?: string }
    if (route.forQueue && name === visitor.queue) return
    throw new Trouble(
      "not-allowed",
      `This token is valid only for the turns of the queue ${visitor.queue} alone.`,
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
  if (visitor.csrf !== undefined && route.method !== "GET") fromOurPages(request, engine, visitor.csrf)
}

/** Characters an id or a key in an address may have at most: none of ours comes near. */
const longestParam = 200

function paramsOf(request: FastifyRequest): { [name: string]: string } {
  const params = request.params as { [name: string]: string }
  for (const [name, value] of Object.entries(params)) {
    if (value.length > longestParam || firstUnstorable(value) !== undefined)
      throw new Trouble(
        "bad-input",
        `The ${name} in the address is not a valid name.`,
        "/api/openapi.json says what each call takes.",
        name,
      )
  }
  return params
}

function headersOf(route: ApiRoute, request: FastifyRequest): FastifyRequest["headers"] {
  for (const [name, schema] of Object.entries(route.headers ?? {})) {
    const { error } = schema.label(name).validate(request.headers[name.toLowerCase()])
    if (error)
      throw new Trouble("bad-input", `The header is not right: ${error.message}.`, "Send it as described.", name)
  }
  return request.headers
}

function checked(schema: Joi.ObjectSchema, value: unknown, where: string): unknown {
  const remedy = "/api/openapi.json says what each call takes."
  const unstorable = firstUnstorable(value)
  if (unstorable !== undefined)
    throw new Trouble("bad-input", `The ${where} is not right: ${unstorable.says}.`, remedy, unstorable.field)
  const { value: clean, error } = schema.validate(value, { convert: true })
  if (!error) return clean
  const detail = error.details[0]!
  const field = detail.path.join(".").slice(0, 200)
  throw new Trouble(
    "bad-input",
    `The ${where} is not right: ${shortened(detail.message)}.`,
    remedy,
    // What concerns several fields at once names them itself.
    field || where,
  )
}

/** What was sent may be repeated in the words about it, but not at length. */
function shortened(text: string): string {
  return text.length <= 500 ? text : `${text.slice(0, 500)}…`
}

/** The `next` of the list before: of a list by ids of this sort, or with places of this form. */
export function cursorOf(form: "msg" | "itk" | "prk" | "aud" | RegExp): Joi.StringSchema {
  const pattern = form instanceof RegExp ? form : new RegExp(`^${form}_[0-9a-z]{10,26}$`)
  return Joi.string()
    .max(1000)
    .pattern(pattern)
    .messages({ "string.pattern.base": "{{#label}} must be the next of the list before" })
    .description("the `next` of the list before, to go on from there")
}

/** Whoever waits for an answer is gone once its connection closes before the answer. */
export function goneWith({ raw }: FastifyReply): AbortSignal {
  const gone = new AbortController()
  // Of the answer, not of the connection: that one lasts, and would gather a listener with every call.
  raw.once("close", () => {
    if (!raw.writableFinished) gone.abort()
  })
  return gone.signal
}

/** The header that makes a change conditional. */
export const ifMatch = Joi.string()
  .max(200)
  .pattern(/^(\*|(W\/)?"[\w-]+")$/)
  .description("the ETag of the thing as it was read; the change is refused if it was changed meanwhile")

/** The tag a change is conditional on; undefined where it is not. */
export function tagWanted(headers: { [name: string]: string | string[] | undefined }): string | undefined {
  const given = headers["if-match"]
  return typeof given === "string" && given !== "*" ? given.replace(/^(W\/)?"|"$/g, "") : undefined
}

export const limit = Joi.number().integer().min(1).max(200).default(50).description("how many at most")
/** A channel's key, as a filter. */
export const channelKey = Joi.string().max(63).description("a channel's key")

/** Tags of a person or a place. */
export const tags = Joi.array()
  .items(
    Joi.string()
      .pattern(/^[^\s,]{1,60}$/)
      .message("a tag is one word"),
  )
  .max(50)

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
