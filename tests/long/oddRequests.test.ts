import { Ajv2020 } from "ajv/dist/2020.js"
import fc from "fast-check"
import { anyText } from "../support/anyText.ts"
import type { Description, Operation, Schema } from "../support/apiDescription.ts"
import { operationsOf } from "../support/apiDescription.ts"
import type { Service } from "../support/harness.ts"
import { endAll, Stage, startService, startStandin, tempFolder } from "../support/harness.ts"
import { whole } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"

/** Requests made of each operation. */
const each = whole ? 70 : 8

let service: Service
let description: Description
const known: { [param: string]: string } = {}

beforeAll(async () => {
  const standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  const stage = await Stage.set(service, standin)
  await stage.say("say hi")
  await stage.answered(1)
  await stage.say("fail")
  description = (await (await fetch(`${service.address}/api/openapi.json`)).json()) as Description
  known.key = stage.key
  known.message = (await stage.messages())[0]!.id
  known.conversation = (await service.client.conversations()).items[0]!.id
  known.passage = (await service.client.passages()).items[0]!.id
}, 60_000)
afterAll(endAll)

/** Texts that have made services answer 500. */
const odd = fc.oneof(
  fc.constantFrom(
    "",
    " ",
    "0",
    "-1",
    "1e400",
    "null",
    "constructor",
    "__proto__",
    "toString",
    "\u0000",
    "a\u0000b",
    "\ud800",
    "a\udfff",
    "\u202e",
    "..",
    "../../etc/passwd",
    "%00",
    "%",
    "'",
    '"; --',
    "msg_",
    "msg_zzzzzzzzzzzzzzzzzzzzzzzzzz",
    "cnv_01k0000000000000000000000a",
    "itk_~",
    "2026-13-45T99:99:99Z",
    "+99999999999999999999-01-01T00:00:00Z",
    "x".repeat(300),
    "ß".repeat(600),
  ),
  fc.string({ maxLength: 30 }),
  anyText(10),
)
const oddValue: fc.Arbitrary<unknown> = fc.oneof(
  odd,
  fc.integer(),
  fc.double(),
  fc.boolean(),
  fc.constant(null),
  fc.array(odd, { maxLength: 3 }),
  fc.dictionary(odd, odd, { maxKeys: 3 }),
)

/** A value for a schema: mostly what it asks for, sometimes anything. */
function valueFor(schema: Schema, depth = 0): fc.Arbitrary<unknown> {
  const { $ref } = schema
  if (typeof $ref === "string") return valueFor(description.components.schemas[$ref.split("/").at(-1)!]!, depth + 1)
  const fitting = (): fc.Arbitrary<unknown> => {
    if (depth > 5) return fc.constant(undefined)
    if (schema.enum) return fc.constantFrom(...schema.enum)
    if ("const" in schema) return fc.constant(schema.const)
    const several = (schema.oneOf ?? schema.anyOf) as Schema[] | undefined
    if (several) return fc.oneof(...several.map((one) => valueFor(one, depth + 1)))
    switch (Array.isArray(schema.type) ? schema.type[0] : schema.type) {
      case "object":
        return fc.record(
          Object.fromEntries(
            Object.entries(schema.properties ?? {}).map(([name, one]) => [name, valueFor(one, depth + 1)]),
          ),
          { requiredKeys: [] },
        )
      case "array":
        return fc.array(schema.items ? valueFor(schema.items as Schema, depth + 1) : oddValue, { maxLength: 3 })
      case "integer":
      case "number":
        return fc.constantFrom(0, 1, 5, 50, -1, 1e9)
      case "boolean":
        return fc.boolean()
      default:
        return fc.oneof(odd, fc.constantFrom(...Object.values(known)))
    }
  }
  return fc.oneof({ weight: 5, arbitrary: fitting() }, { weight: 1, arbitrary: oddValue })
}

/** Signing out and revoking would end the test; waiting for calls takes its seconds; the stream has no end. */
const leftOut = new Set(["signOut", "fetchCalls", "listen", "lookAtInlet", "receiveCall"])

/** Asks once more where the connection ended before an answer: a service that was really brought down ends that, too. */
async function fetchOnFresh(address: string, request: RequestInit): Promise<Response> {
  try {
    return await fetch(address, request)
  } catch (error) {
    const { code = "" } = ((error as Error).cause ?? {}) as { code?: string }
    if (code !== "UND_ERR_SOCKET" && code !== "ECONNRESET") throw error
    return fetch(address, request)
  }
}

test("no request, however odd, is answered with a fault: each error is a problem that names its field", async () => {
  const ajv = new Ajv2020({ strict: false, allErrors: false })
  ajv.addSchema({ $id: "doc", components: description.components })
  const validators = new Map<string, ReturnType<typeof ajv.compile>>()
  const validator = (path: string, method: string, status: number) => {
    const at = `${method} ${path} ${status}`
    let made = validators.get(at)
    if (!made) {
      const { content } = description.paths[path]![method.toLowerCase()]!.responses[String(status)]!
      const schema = content?.["application/json"]?.schema ?? {}
      made = ajv.compile(JSON.parse(JSON.stringify(schema).replaceAll('"#/components', '"doc#/components')) as object)
      validators.set(at, made)
    }
    return made
  }
  let requests = 0
  const faults: string[] = []
  const seen = new Map<string, number>()
  // The channel that is asked about is removed last.
  const last = (operation: Operation) => Number(operation.operationId === "removeChannel")
  const inOrder = operationsOf(description).sort((a, b) => last(a.operation) - last(b.operation))
  for (const { path, method, operation } of inOrder) {
    if (leftOut.has(operation.operationId)) continue
    const places = operation.parameters ?? []
    const requestOf = fc.record({
      params: fc.record(Object.fromEntries(places.map((one) => [one.name, valueFor(one.schema)])), {
        requiredKeys: [],
      }),
      body: operation.requestBody
        ? valueFor(operation.requestBody.content["application/json"].schema)
        : fc.constant(undefined),
      raw: fc.option(fc.constantFrom("{", "[".repeat(100_000), '"', "\u0000", "{}x", '{"a":1e999}'), { freq: 20 }),
    })
    // The same each time: a failure is seen again.
    for (const { params, body, raw } of fc.sample(requestOf, { numRuns: each, seed: 13 })) {
      requests++
      const value = (name: string) => (typeof params[name] === "string" ? params[name] : JSON.stringify(params[name]))
      const filled = path.replace(/\{(\w+)\}/g, (_all, name: string) =>
        encodeURIComponent((value(name) ?? known.key!).toWellFormed() || "x"),
      )
      const query = new URLSearchParams(
        places
          .filter((one) => one.in === "query" && params[one.name] !== undefined)
          .map((one) => [one.name, value(one.name)!]),
      )
      // A connection of its own: one that the service ends just when it is used again would look like a fault.
      const headers: { [name: string]: string } = { authorization: `Bearer ${service.token}`, connection: "close" }
      for (const one of places)
        if (one.in === "header" && /^[\x21-\x7e]+$/.test(value(one.name) ?? "")) headers[one.name] = value(one.name)!
      const sent = raw ?? (body === undefined ? undefined : JSON.stringify(body))
      if (sent !== undefined && operation.requestBody) headers["content-type"] = "application/json"
      const answer = await fetchOnFresh(`${service.address}${filled}${query.size > 0 ? `?${query.toString()}` : ""}`, {
        method,
        headers,
        redirect: "manual",
        ...(sent !== undefined && operation.requestBody ? { body: sent } : {}),
      })
      const { status } = answer
      const text = await answer.text()
      const about = `${method} ${filled}?${query.toString()} ${String(sent).slice(0, 300)} -> ${status} ${text.slice(0, 400)}`
      seen.set(operation.operationId, Math.max(seen.get(operation.operationId) ?? 0, Number(status < 300)))
      // What the address names may lead to another operation, such as that of a list.
      if (!Object.hasOwn(operation.responses, String(status)) && status !== 404 && status !== 405 && status !== 308)
        faults.push(`not described: ${about}`)
      if (status >= 500 && status !== 502) faults.push(about)
      if (status < 300) {
        if (status === 204 || !/json/.test(answer.headers.get("content-type") ?? "")) continue
        const fits = validator(path, method, status)
        if (!fits(JSON.parse(text))) faults.push(`${ajv.errorsText(fits.errors)}: ${about}`)
        continue
      }
      const problem = JSON.parse(text) as { [field: string]: unknown }
      if (!answer.headers.get("content-type")?.startsWith("application/problem+json"))
        faults.push(`no problem: ${about}`)
      for (const field of ["type", "title", "detail", "remedy"])
        if (typeof problem[field] !== "string" || problem[field] === "") faults.push(`no ${field}: ${about}`)
      if (status === 400 && typeof problem.field !== "string") faults.push(`no field: ${about}`)
    }
  }
  expect(faults).toEqual([])
  expect(requests).toBeGreaterThan(40 * each)
  // That it was not refused all the time.
  expect([...seen.values()].filter((well) => well === 1).length).toBeGreaterThan(20)
}, 240_000)
