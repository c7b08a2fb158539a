import type Joi from "joi"
import type { Operation } from "../client/api.ts"
import { outcomeSchema } from "../core/elsewhere/answer.ts"
import { replyPartWords, replyShapes } from "../core/message/reply.ts"
import { catalogue } from "../engine/trouble.ts"
import answered from "./answers.json" with { type: "json" }
import { examples } from "./examples.ts"
import { tags } from "./operations.ts"
import type { ApiRoute } from "./routes.ts"

interface JsonSchema {
  properties?: { [name: string]: JsonSchema }
  required?: string[]
  description?: string
  [keyword: string]: unknown
}

type Responses = { [status: string]: object }

const problem = { "application/problem+json": { schema: { $ref: "#/components/schemas/Problem" } } }

/** What each status says when it comes as a problem. */
const problems: { [status: number]: string } = {
  400: "Something in the request is not right; `field` says what.",
  401: "No token or session that is known came along.",
  403: "The token's role may not do this, or the request comes from another site's page.",
  404: "What the address names does not exist.",
  405: "The address takes other methods; `Allow` says which.",
  409: "It cannot be done as things are.",
  410: "What is asked for was there, and is gone for good.",
  412: "It was changed by somebody else meanwhile.",
  413: "The body is longer than this call takes.",
  415: "The body is of another type than application/json.",
  422: "It is understood, and cannot be done with what it holds.",
  429: "Too many requests; `Retry-After` says when to try again.",
  500: "A fault of the service. Its log says what.",
  502: "The provider refused, or did not answer.",
  503: "The database is away, or the answer took too long; try again.",
}

/** OpenAPI 3.1: input from the same Joi schemas that check it, answers from the types that the routes are typed by. */
export function openapi(routes: ApiRoute[], version: string): object {
  const paths: { [path: string]: { [method: string]: object } } = {}
  for (const route of routes) {
    const path = `/api/v1${route.path}`
    paths[path] = { ...paths[path], [route.method.toLowerCase()]: operationOf(route) }
  }
  return {
    openapi: "3.1.0",
    info: {
      title: "Wobbet",
      version,
      description: "Every message genuine, in order, answered once, and its whole passage to look at.",
      license: { name: "MIT", identifier: "MIT" },
    },
    servers: [{ url: "/", description: "This service" }],
    security: [{ token: [] }],
    tags: Object.entries(tags).map(([name, description]) => ({ name, description })),
    components: {
      securitySchemes: {
        token: { type: "http", scheme: "bearer", description: 'Made with "wobbet token make".' },
        turn: { type: "http", scheme: "bearer", description: "The token of one turn, as it came along with it." },
      },
      responses: Object.fromEntries(
        Object.entries(problems).map(([status, description]) => [
          `Problem${status}`,
          {
            description,
            ...(status === "401" ? { headers: { "WWW-Authenticate": { schema: { type: "string" } } } } : {}),
            ...(status === "405" ? { headers: { Allow: { schema: { type: "string" } } } } : {}),
            ...(status === "429" ? { headers: { "Retry-After": { schema: { type: "integer" } } } } : {}),
            content: problem,
          },
        ]),
      ),
      schemas: {
        ...answered.schemas,
        Problem: problemSchema,
        ReplyPart: {
          description: replyPartWords,
          oneOf: Object.values(replyShapes).map((shape) => jsonSchema(shape)),
        },
      },
    },
    paths: { ...paths, ...servicePaths },
    webhooks: { turnAsked },
  }
}

const header = (name: string, description: string) => ({
  name,
  in: "header",
  required: true,
  description,
  schema: { type: "string" },
})

/** What an endpoint of a bot is sent, and may answer. */
const turnAsked = {
  post: {
    operationId: "turnAsked",
    tags: ["Elsewhere"],
    summary: "A turn that an endpoint of a bot is to answer",
    description: "Signed after the Standard Webhooks specification, where the handler names a secret.",
    security: [],
    parameters: [
      header("webhook-id", "the turn's id, the same over all tries"),
      header("webhook-timestamp", "seconds since 1970"),
      header("webhook-signature", "v1, and the HMAC-SHA256 of id.timestamp.body in base64; with two keys, two of them"),
    ],
    requestBody: {
      required: true,
      content: {
        "application/json": {
          schema: {
            type: "object",
            required: ["type", "timestamp", "data"],
            properties: {
              type: { const: "turn.asked" },
              timestamp: { type: "string", format: "date-time" },
              data: {
                allOf: [
                  { $ref: "#/components/schemas/AskedTurnView" },
                  {
                    type: "object",
                    required: ["answer"],
                    properties: {
                      answer: {
                        type: "object",
                        description: "for an answer that comes later, after a 202",
                        required: ["to", "token", "until"],
                        properties: {
                          to: { type: "string", format: "uri" },
                          token: { type: "string" },
                          until: { type: "string", format: "date-time" },
                        },
                      },
                    },
                  },
                ],
              },
            },
          },
        },
      },
    },
    responses: {
      200: { description: "The answer.", content: { "application/json": { schema: jsonSchema(outcomeSchema) } } },
      202: { description: "The answer comes later, to `data.answer.to`." },
      204: { description: "Nothing is said." },
    },
  },
}

function operationOf(route: ApiRoute): object {
  const name = `${route.method} ${route.path}` as Operation
  const example = examples[name]
  return {
    operationId: route.id,
    tags: [route.tag],
    summary: route.summary,
    description: descriptionOf(route),
    ...(route.role ? {} : { security: route.admit ? [{ turn: [] }] : [] }),
    parameters: [
      ...[...route.path.matchAll(/\{(\w+)\}/g)].map(([, param]) => ({
        name: param,
        in: "path",
        required: true,
        description: paramWords[param!] ?? "its id",
        schema: { type: "string", maxLength: 200 },
      })),
      ...parametersOf(route.query, "query"),
      ...Object.entries(route.headers ?? {}).map(([header, schema]) => {
        const { description, ...rest } = jsonSchema(schema)
        return { name: header, in: "header", required: false, ...(description ? { description } : {}), schema: rest }
      }),
    ],
    ...(route.body
      ? {
          requestBody: {
            required: true,
            content: { "application/json": { schema: jsonSchema(route.body), ...(example ? { example } : {}) } },
          },
        }
      : {}),
    responses: responsesOf(route, name),
  }
}

const paramWords: { [name: string]: string } = {
  key: "the channel's key, such as quay-telegram",
  hash: "the content's hash, as a message names it under kept",
}

function descriptionOf({ role, admit, forChannel, forQueue, answers }: ApiRoute): string {
  const stranger = admit ? "Takes the token of the turn." : "Nobody needs to be signed in."
  const who = role === undefined ? stranger : `Takes the role ${role} or a higher one.`
  const alone = forChannel ? " A token for bringing this channel's calls will do." : ""
  const worker = forQueue ? " A worker's token for this queue will do." : ""
  return `${who}${alone}${worker} Answers: ${answers.charAt(0).toLowerCase()}${answers.slice(1)}`
}

function responsesOf(route: ApiRoute, name: Operation): Responses {
  const answer = (answered.answers as { [name: string]: object })[name] ?? {}
  const nothing = "type" in answer && answer.type === "null"
  const status = String(nothing ? 204 : (route.status ?? 200))
  const content = { [route.content ?? "application/json"]: { schema: answer } }
  const troubled = new Set<number>([
    ...(route.role ? [401, 403, 429] : []),
    ...(route.path.includes("{") ? [400, 404] : []),
    ...(route.query || route.headers ? [400] : []),
    ...(route.body ? [400, 413, 415] : []),
    ...(route.troubles ?? []).map((code) => catalogue[code].status),
    500,
    503,
  ])
  const sorted = [...troubled].sort((a, b) => a - b)
  return {
    [status]: { description: route.answers, ...(nothing ? {} : { content }) },
    ...Object.fromEntries(sorted.map((code) => [String(code), { $ref: `#/components/responses/Problem${code}` }])),
  }
}

function parametersOf(schema: Joi.ObjectSchema | undefined, place: string): object[] {
  if (!schema) return []
  const { properties = {}, required = [] } = jsonSchema(schema)
  return Object.entries(properties).map(([name, { description, ...inner }]) => ({
    name,
    in: place,
    required: required.includes(name) && !("default" in inner),
    ...(description ? { description } : {}),
    schema: inner,
  }))
}

function jsonSchema(schema: Joi.Schema): JsonSchema {
  const standard = (
    schema as unknown as { "~standard": { jsonSchema: { input(options: { target: string }): JsonSchema } } }
  )["~standard"]
  const { $schema: _dialect, ...rest } = standard.jsonSchema.input({ target: "draft-2020-12" })
  return partsNamed(rest) as JsonSchema
}

/** The parts of a reply are checked by code; what that asks for is described once, by name. */
function partsNamed(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(partsNamed)
  if (typeof value !== "object" || value === null) return value
  if ((value as JsonSchema).description === replyPartWords) return { $ref: "#/components/schemas/ReplyPart" }
  return Object.fromEntries(Object.entries(value).map(([name, inner]) => [name, partsNamed(inner)]))
}

const problemSchema = {
  type: "object",
  description: "RFC 9457 problem details.",
  required: ["type", "title", "status", "detail", "remedy"],
  properties: {
    type: { type: "string" },
    title: { type: "string" },
    status: { type: "integer" },
    detail: { type: "string", description: "what happened, and to what" },
    remedy: { type: "string", description: "what to do next" },
    field: { type: "string", description: "the field that is wrong" },
  },
}

const refused = (...statuses: number[]): Responses =>
  Object.fromEntries(statuses.map((status) => [String(status), { $ref: `#/components/responses/Problem${status}` }]))

const json = (schema: object) => ({ "application/json": { schema } })

/** What is served beside the operations of the API. */
const servicePaths = {
  "/in/{key}": {
    parameters: [
      {
        name: "key",
        in: "path",
        required: true,
        description: "the channel's key, such as quay-telegram",
        schema: { type: "string", maxLength: 200 },
      },
    ],
    get: {
      operationId: "lookAtInlet",
      tags: ["Service"],
      summary: "A provider's handshake, or a person who looks whether the address is right",
      description: "What each provider's own documentation says. A person gets a line of text.",
      security: [],
      responses: {
        200: {
          description: "The handshake's answer, or the line.",
          content: { "text/plain": { schema: { type: "string" } } },
        },
        403: { description: "No genuine handshake." },
        404: { description: "There is no such channel." },
      },
    },
    post: {
      operationId: "receiveCall",
      tags: ["Service"],
      summary: "A provider's call",
      description: "What each provider's own documentation says. Answered 2xx once it is durable.",
      security: [],
      requestBody: { content: { "*/*": { schema: {} } } },
      responses: {
        200: {
          description: "It is kept. What stands in the answer is the kind's.",
          content: { "*/*": { schema: {} } },
        },
        204: { description: "It is kept." },
        401: { description: "It is not genuine; the operator sees why." },
        404: { description: "There is no such channel." },
        408: { description: "Its body did not come whole in time." },
        413: { description: "Its body is longer than its kind takes." },
        503: { description: "It could not be kept; it is to be brought again." },
      },
    },
  },
  "/api/v1/live": {
    get: {
      operationId: "listen",
      tags: ["Service"],
      summary: "What happens, as it happens",
      description:
        "Takes the role reader or a higher one. Server-sent events: `ready` at the beginning, `happened` with a list of what happened, `channels` and `bot` when those changed. Each id is a place to go on from.",
      parameters: [
        {
          name: "Last-Event-ID",
          in: "header",
          required: false,
          description: "the id of the last event that was seen",
          schema: { type: "string", pattern: "^\\d{1,18}$" },
        },
        {
          name: "since",
          in: "query",
          required: false,
          description: "the same, where no header can be set",
          schema: { type: "string", pattern: "^\\d{1,18}$" },
        },
      ],
      responses: {
        200: {
          description: "A stream without an end.",
          content: { "text/event-stream": { schema: { type: "string" } } },
        },
        ...refused(400, 401, 403, 429, 503),
      },
    },
  },
  "/api/openapi.json": {
    get: {
      operationId: "describe",
      tags: ["Service"],
      summary: "This description",
      description: "Nobody needs to be signed in.",
      security: [],
      responses: { 200: { description: "OpenAPI 3.1.", content: json({ type: "object" }) }, ...refused(405, 500) },
    },
  },
  "/metrics": {
    get: {
      operationId: "getMetrics",
      tags: ["Service"],
      summary: "This process's figures, in OpenMetrics",
      description: "Takes the role reader or a higher one.",
      responses: {
        200: {
          description: "OpenMetrics where that is accepted, the plain text form otherwise.",
          content: {
            "application/openmetrics-text": { schema: { type: "string" } },
            "text/plain": { schema: { type: "string" } },
          },
        },
        ...refused(401, 403, 429),
      },
    },
  },
  "/health/live": {
    get: {
      operationId: "isLive",
      tags: ["Service"],
      summary: "Whether the process answers",
      description: "Nobody needs to be signed in.",
      security: [],
      responses: {
        200: {
          description: "It does.",
          content: json({ type: "object", required: ["live"], properties: { live: { type: "boolean" } } }),
        },
        ...refused(405, 500),
      },
    },
  },
  "/health/ready": {
    get: {
      operationId: "isReady",
      tags: ["Service"],
      summary: "Whether it can do its work",
      description: "Nobody needs to be signed in. Tells of a disk that is nearly full as well.",
      security: [],
      responses: {
        ...refused(405),
        ...Object.fromEntries(
          [
            [200, "It can."],
            [503, "The database is away."],
          ].map(([status, description]) => [
            status,
            {
              description,
              content: json({
                type: "object",
                required: ["ready", "database", "disk"],
                properties: {
                  ready: { type: "boolean" },
                  database: { enum: ["up", "away"] },
                  disk: {
                    type: "object",
                    required: ["free", "nearlyFull"],
                    properties: {
                      free: { type: "number", description: "bytes" },
                      nearlyFull: { type: "boolean", description: "whether no media are fetched any more" },
                    },
                  },
                },
              }),
            },
          ]),
        ),
      },
    },
  },
}
