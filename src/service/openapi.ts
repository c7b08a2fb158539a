import type Joi from "joi"
import type { ApiRoute } from "./routes.ts"

interface JsonSchema {
  properties?: { [name: string]: JsonSchema }
  required?: string[]
  [keyword: string]: unknown
}

/** OpenAPI 3.1, from the same Joi schemas that check the input. */
export function openapi(routes: ApiRoute[], version: string): object {
  const paths: { [path: string]: { [method: string]: object } } = {}
  for (const route of routes) {
    const operation = {
      summary: route.summary,
      ...(route.role ? { description: `Takes the role ${route.role} or a higher one.` } : { security: [] }),
      parameters: [
        ...[...route.path.matchAll(/\{(\w+)\}/g)].map(([, name]) => ({
          name,
          in: "path",
          required: true,
          schema: { type: "string" },
        })),
        ...parametersOf(route.query, "query"),
        ...Object.entries(route.headers ?? {}).map(([name, schema]) => ({
          name,
          in: "header",
          required: false,
          schema: jsonSchema(schema),
        })),
      ],
      ...(route.body
        ? { requestBody: { required: true, content: { "application/json": { schema: jsonSchema(route.body) } } } }
        : {}),
      responses: {
        [String(route.status ?? 200)]: { description: route.answers },
        default: {
          description: "What went wrong, and what to do.",
          content: { "application/problem+json": { schema: { $ref: "#/components/schemas/Problem" } } },
        },
      },
    }
    paths[`/api/v1${route.path}`] = { ...paths[`/api/v1${route.path}`], [route.method.toLowerCase()]: operation }
  }
  return {
    openapi: "3.1.0",
    info: {
      title: "Wobbet",
      version,
      description: "Every message genuine, in order, answered once, and its whole passage to look at.",
    },
    servers: [{ url: "/" }],
    security: [{ token: [] }],
    components: {
      securitySchemes: { token: { type: "http", scheme: "bearer" } },
      schemas: {
        Problem: {
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
        },
      },
    },
    paths,
  }
}

function parametersOf(schema: Joi.ObjectSchema | undefined, place: string): object[] {
  if (!schema) return []
  const { properties = {}, required = [] } = jsonSchema(schema)
  return Object.entries(properties).map(([name, inner]) => ({
    name,
    in: place,
    required: required.includes(name),
    schema: inner,
  }))
}

function jsonSchema(schema: Joi.Schema): JsonSchema {
  const standard = (
    schema as unknown as { "~standard": { jsonSchema: { input(options: { target: string }): JsonSchema } } }
  )["~standard"]
  const { $schema: _dialect, ...rest } = standard.jsonSchema.input({ target: "draft-2020-12" })
  return rest
}
