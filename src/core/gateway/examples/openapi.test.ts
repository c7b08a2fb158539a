import { propose } from "../learn/propose.ts"
import { sampleIn } from "../learn/sample.ts"
import { callsIn, exampleOf, pick, readDocument, sampleOf } from "./openapi.ts"
import { proposeCalls } from "./propose.ts"
import { NotAnExample } from "./request.ts"

const document = `
openapi: 3.1.0
info: { title: A hub, version: "1" }
servers: [{ url: "https://{region}.hub.example/api/v1", variables: { region: { default: eu } } }]
security: [{ key: [] }]
components:
  securitySchemes: { key: { type: apiKey, in: header, name: X-API-KEY } }
  schemas:
    Person: { type: object, properties: { number: { type: string }, name: { type: string }, friend: { $ref: "#/components/schemas/Person" } } }
    Message:
      allOf:
        - { type: object, properties: { id: { type: string } } }
        - type: object
          properties: { sender: { $ref: "#/components/schemas/Person" }, text: { type: string, example: "is there a boat" }, at: { type: string, format: date-time } }
    Loop: { $ref: "#/components/schemas/Loop" }
paths:
  /boxes/{boxId}/messages:
    post:
      operationId: sendMessage
      summary: Send a message
      parameters: [{ name: boxId, in: path, required: true, schema: { type: string } }]
      requestBody:
        content:
          application/json:
            schema:
              type: object
              properties: { to: { type: string }, text: { type: string }, reference: { type: string }, kind: { type: string, enum: [sms, mms] }, loop: { $ref: "#/components/schemas/Loop" } }
      responses: { "201": { content: { application/json: { schema: { type: object, properties: { messageId: { type: string } } } } } } }
      callbacks: { delivered: { "{$request.body#/url}": { post: { requestBody: { content: { application/json: { schema: { type: object, properties: { messageId: { type: string }, status: { enum: [delivered] } } } } } } } } } }
  /me: { get: { summary: Who am I, responses: {} } }
webhooks:
  messageReceived: { post: { requestBody: { content: { application/json: { schema: { $ref: "#/components/schemas/Message" } } } } } }
`

test("a document's calls are listed, its own and those the gateway makes", () => {
  expect(callsIn(readDocument(document)).map(({ name, sort, method }) => [name, sort, method])).toEqual([
    ["sendMessage", "operation", "POST"],
    ["delivered", "webhook", "POST"],
    ["GET /me", "operation", "GET"],
    ["messageReceived", "webhook", "POST"],
  ])
})

test("the operation that sends becomes a call of a profile; circles end", () => {
  const read = readDocument(document)
  const { base, calls } = proposeCalls([exampleOf(read, pick(read, "POST /boxes/{boxId}/messages", "operation"))])
  expect(base).toBe("https://eu.hub.example/api/v1")
  expect(calls[0]).toMatchObject({
    sort: "send",
    calling: {
      address: "{apiBase}/boxes/{boxId}/messages",
      headers: { "x-api-key": "{apiKey}" },
      send: { to: "{to}", text: "{text}", reference: "{mark}", kind: "sms" },
    },
    lacks: [],
    answer: '{"messageId":"id-0123456789"}',
  })
})

test("the webhook that brings a message becomes a sample to learn from", () => {
  const read = readDocument(document)
  const sample = sampleIn(sampleOf(read, pick(read, "messagereceived", "webhook")))
  expect(propose([sample], { secrets: {}, publicBase: "" }).roles).toMatchObject({
    from: "/sender/number",
    text: "/text",
    id: "/id",
    time: "/at",
  })
  expect(sampleOf(read, pick(read, "delivered", "webhook"))).toContain('"status":"delivered"')
})

test.each([
  ["{", "cannot be read"],
  ["openapi: 2", "no OpenAPI 3 document"],
  ['{"swagger":"2.0"}', "one of version 2"],
  ["a: [", "cannot be read"],
  ["x".repeat(10_000_001), "characters"],
])("%.30s is no document", (text, says) => {
  expect(() => readDocument(text)).toThrow(NotAnExample)
  expect(() => readDocument(text)).toThrow(says)
})

test("what is not there is told with what there is", () => {
  const read = readDocument(document)
  expect(() => pick(read, "sendIt", "operation")).toThrow('no operation "sendIt"')
  expect(() => pick(readDocument('{"openapi":"3.0.0"}'), "x", "webhook")).toThrow("no webhook")
})

test("a document of hostile size and depth takes no long time", () => {
  const began = performance.now()
  const wide = Object.fromEntries(
    Array.from({ length: 200 }, (_none, n) => [`f${n}`, { $ref: "#/components/schemas/Wide" }]),
  )
  const hostile = {
    openapi: "3.0.0",
    paths: {
      "/x": {
        post: { requestBody: { content: { "application/json": { schema: { $ref: "#/components/schemas/Wide" } } } } },
      },
    },
    components: { schemas: { Wide: { type: "object", properties: wide } } },
  }
  const read = readDocument(JSON.stringify(hostile))
  exampleOf(read, pick(read, "/x", "operation"))
  expect(performance.now() - began).toBeLessThan(20_000)
})
