import { isObject } from "../../message/json.ts"
import { readYaml } from "../../message/yaml.ts"
import { decoded } from "../../signature/addresses.ts"
import type { Example, ExampleBody } from "./request.ts"
import { NotAnExample } from "./request.ts"
import { withoutEnd } from "../../message/trimmed.ts"

/** One call that an OpenAPI document describes: one of ours, or one that the gateway makes. */
export interface DescribedCall {
  /** By which it is picked: its operationId, or method and path; a webhook's name. */
  name: string
  sort: "operation" | "webhook"
  method: string
  path: string
  says: string
}

type Tree = { [name: string]: unknown }

/** Characters of a document. */
const longestDocument = 10_000_000
/** Calls that are listed. */
const mostCalls = 2000
/** Values that are made up for one body. */
const mostValues = 3000
const methods = ["get", "post", "put", "patch", "delete"] as const

/** Reads an OpenAPI 3 document, JSON or YAML. Throws a NotAnExample. */
export function readDocument(text: string): Tree {
  const remedy = "Give the gateway's OpenAPI document, version 3, as JSON or YAML."
  if (text.length > longestDocument)
    throw new NotAnExample(`The document has ${text.length} characters; ${longestDocument} are read.`, remedy)
  let document: unknown
  try {
    document = text.trimStart().startsWith("{") ? JSON.parse(text) : yamlIn(text)
  } catch (error) {
    throw new NotAnExample(`The document cannot be read: ${(error as Error).message.slice(0, 200)}.`, remedy)
  }
  if (!isObject(document) || !/^3\./.test(String(document.openapi ?? "")))
    throw new NotAnExample(
      `It is no OpenAPI 3 document${isObject(document) && document.swagger ? ", but one of version 2" : ""}.`,
      remedy,
    )
  return document
}

function yamlIn(text: string): unknown {
  const read = readYaml(text)
  if ("faults" in read) throw new Error(read.faults[0]!.says)
  return read.value
}

/** All calls a document describes. */
export function callsIn(document: Tree): DescribedCall[] {
  const found: DescribedCall[] = []
  const add = (sort: DescribedCall["sort"], path: string, item: unknown, named?: string) => {
    const resolved = followed(document, item)
    if (!isObject(resolved)) return
    for (const method of methods) {
      const operation = resolved[method]
      if (!isObject(operation) || found.length >= mostCalls) continue
      const id = typeof operation.operationId === "string" ? operation.operationId : undefined
      const says = String(operation.summary ?? operation.description ?? "").slice(0, 200)
      found.push({
        name: named ?? id ?? `${method.toUpperCase()} ${path}`,
        sort,
        method: method.toUpperCase(),
        path,
        says,
      })
    }
  }
  for (const [path, item] of entriesOf(document.paths)) {
    add("operation", path, item)
    for (const method of methods) {
      const operation = isObject(item) ? item[method] : undefined
      for (const [name, callback] of entriesOf(isObject(operation) ? operation.callbacks : undefined))
        for (const [address, inner] of entriesOf(followed(document, callback))) add("webhook", address, inner, name)
    }
  }
  for (const [name, item] of entriesOf(document.webhooks ?? document["x-webhooks"])) add("webhook", name, item, name)
  return found
}

/** The call of a document that is meant: by its name, its method and path, or its path alone. */
export function pick(document: Tree, wanted: string, sort: DescribedCall["sort"]): DescribedCall {
  const all = callsIn(document).filter((one) => one.sort === sort)
  const plain = wanted.trim().toLowerCase()
  const found = all.find(({ name, method, path }) =>
    [name, `${method} ${path}`, path].some((one) => one.toLowerCase() === plain),
  )
  if (found) return found
  const near = all.slice(0, 12).map(({ name }) => name)
  throw new NotAnExample(
    `The document has no ${sort} "${wanted}".`,
    near.length === 0
      ? `It has no ${sort} at all.`
      : `There are: ${near.join(", ")}${all.length > near.length ? ", …" : ""}.`,
  )
}

/** An example of one of the document's operations, with values made up where it gives none. */
export function exampleOf(document: Tree, call: DescribedCall): Example {
  const item = followed(document, (document.paths as Tree)[call.path]) as Tree
  const operation = item[call.method.toLowerCase()] as Tree
  const parameters = [...listOf(item.parameters), ...listOf(operation.parameters)]
    .map((one) => followed(document, one))
    .filter(isObject)
  const query = new URLSearchParams()
  const headers: Example["headers"] = {}
  for (const one of parameters) {
    const name = String(one.name)
    const value = String(one.example ?? valueOf(document, one.schema, name))
    if (one.in === "query" && one.required === true) query.set(name, value)
    if (one.in === "header") headers[name.toLowerCase()] = value
  }
  const secured = securityOf(document, operation)
  Object.assign(headers, secured.headers)
  if (secured.query) query.set(secured.query, "{apiKey}")
  const content = entriesOf((followed(document, operation.requestBody) as Tree | undefined)?.content)
  const [type, media] =
    content.find(([name]) => /json/.test(name)) ?? content.find(([name]) => /form|xml/.test(name)) ?? []
  const body = type !== undefined && isObject(media) ? bodyFor(document, type, media) : undefined
  const tail = query.size > 0 ? `?${query.toString()}` : ""
  const success = entriesOf(operation.responses).find(([status]) => /^2/.test(status))?.[1]
  const answer = answerOf(document, success)
  return {
    method: call.method,
    url: `${serverOf(document)}${call.path}${tail}`,
    headers,
    ...(body ? { body } : {}),
    ...(secured.basic ? { basic: ["{accountId}", "{apiSecret}"] as [string, string] } : {}),
    ...(answer === undefined ? {} : { answer }),
    notes: [],
    lacks: [],
  }
}

/** A sample of what the gateway brings, as the text of a call. */
export function sampleOf(document: Tree, call: DescribedCall): string {
  const operation = operationsOf(document).find(([one]) => one.name === call.name && one.method === call.method)?.[1]
  const content = entriesOf((followed(document, operation?.requestBody) as Tree | undefined)?.content)
  const [type, media] = content.find(([name]) => /json/.test(name)) ?? content[0] ?? []
  if (type === undefined || !isObject(media))
    throw new NotAnExample(
      `The webhook "${call.name}" has no body.`,
      "Pick another, or let the channel learn from a call.",
    )
  const body = bodyFor(document, type, media)
  const text =
    body?.form === "json"
      ? JSON.stringify(body.content)
      : body?.form === "form"
        ? new URLSearchParams(body.content).toString()
        : ""
  return `POST / HTTP/1.1\ncontent-type: ${type}\n\n${text}`
}

/** Every webhook with its operation. */
function operationsOf(document: Tree): [DescribedCall, Tree][] {
  const found: [DescribedCall, Tree][] = []
  for (const call of callsIn(document).filter((one) => one.sort === "webhook")) {
    const direct = followed(
      document,
      (document.webhooks as Tree | undefined)?.[call.path] ?? (document["x-webhooks"] as Tree | undefined)?.[call.path],
    )
    const operation = isObject(direct) ? direct[call.method.toLowerCase()] : callbackOf(document, call)
    if (isObject(operation)) found.push([call, operation])
  }
  return found
}

function callbackOf(document: Tree, call: DescribedCall): unknown {
  for (const [, item] of entriesOf(document.paths))
    for (const method of methods) {
      const operation = isObject(item) ? item[method] : undefined
      const callback = followed(
        document,
        isObject(operation) ? (operation.callbacks as Tree | undefined)?.[call.name] : undefined,
      )
      const inner = isObject(callback) ? followed(document, callback[call.path]) : undefined
      if (isObject(inner) && isObject(inner[call.method.toLowerCase()])) return inner[call.method.toLowerCase()]
    }
  return undefined
}

function serverOf(document: Tree): string {
  const [first] = listOf(document.servers)
  const url = isObject(first) ? String(first.url ?? "") : ""
  const variables = isObject(first) ? first.variables : undefined
  const filled = url.replace(/\{(\w+)\}/g, (whole, name: string) => {
    const one = isObject(variables) ? variables[name] : undefined
    return isObject(one) && one.default !== undefined ? String(one.default) : whole
  })
  const whole = /^https?:/.test(filled) ? filled : `https://gateway.example${filled.startsWith("/") ? filled : ""}`
  return withoutEnd(whole, "/")
}

function securityOf(document: Tree, operation: Tree): { headers: Example["headers"]; query?: string; basic?: boolean } {
  const [wanted] = listOf(operation.security ?? document.security)
  const [name] = Object.keys(isObject(wanted) ? wanted : {})
  const schemes = isObject(document.components) ? document.components.securitySchemes : undefined
  const scheme = name === undefined ? undefined : followed(document, isObject(schemes) ? schemes[name] : undefined)
  if (!isObject(scheme)) return { headers: {} }
  if (scheme.type === "http" && /^bearer$/i.test(String(scheme.scheme)))
    return { headers: { authorization: "Bearer {apiKey}" } }
  if (scheme.type === "http" && /^basic$/i.test(String(scheme.scheme))) return { headers: {}, basic: true }
  if (scheme.type === "apiKey" && scheme.in === "header")
    return { headers: { [String(scheme.name).toLowerCase()]: "{apiKey}" } }
  if (scheme.type === "apiKey" && scheme.in === "query") return { headers: {}, query: String(scheme.name) }
  return { headers: { authorization: "Bearer {apiKey}" } }
}

function bodyFor(document: Tree, type: string, media: Tree): ExampleBody | undefined {
  const [first] = entriesOf(media.examples)
  const named = first && (followed(document, first[1]) as Tree | undefined)?.value
  const content = media.example ?? named ?? valueOf(document, media.schema, "")
  if (/json/.test(type)) return { form: "json", content }
  if (/form/.test(type) && isObject(content))
    return { form: "form", content: Object.entries(content).map(([name, value]) => [name, String(value)]) }
  if (/xml/.test(type)) return { form: "xml", content }
  return undefined
}

function answerOf(document: Tree, response: unknown): string | undefined {
  const content = entriesOf((followed(document, response) as Tree | undefined)?.content)
  const media = content.find(([name]) => /json/.test(name))?.[1]
  if (!isObject(media)) return undefined
  const body = bodyFor(document, "application/json", media)
  return body?.form === "json" ? JSON.stringify(body.content) : undefined
}

/** What values are made up, by what a field is called: as telling as an example in documentation. */
const madeUp: [RegExp, string][] = [
  [/^(to|recipients?|msisdn|phone|mobile|number|destination|to_?number|phone_?number)s?$/i, "+447700900123"],
  [/^(from|sender|source|from_?number)$/i, "+447700900999"],
  [/^(text|body|message|content|caption|msg|sms)$/i, "Hello from the quay"],
  [/name$/i, "Ines Carvalho"],
  [/url$|uri$|webhook|callback/i, "https://you.example/hook"],
  [/time|date|_at$/i, "2026-11-27T10:00:00Z"],
  [/(^|_|[a-z])id$|^id/i, "id-0123456789"],
]

/** A value that fits a schema; circles end after a few rounds. */
function valueOf(document: Tree, given: unknown, name: string, depth = 0, budget = { left: mostValues }): unknown {
  if (budget.left-- <= 0) return made(name)
  const schema = followed(document, given)
  if (!isObject(schema) || depth > 8) return made(name)
  if (schema.example !== undefined) return schema.example
  if (Array.isArray(schema.examples) && schema.examples.length > 0) return (schema.examples as unknown[])[0]
  if (schema.const !== undefined) return schema.const
  if (schema.default !== undefined && schema.default !== null) return schema.default
  if (Array.isArray(schema.enum) && schema.enum.length > 0) return (schema.enum as unknown[])[0]
  const all = listOf(schema.allOf)
  if (all.length > 0) {
    const parts = all.map((one) => valueOf(document, one, name, depth + 1, budget)).filter(isObject)
    return Object.assign({}, ...parts, propertiesOf(document, schema, depth, budget)) as unknown
  }
  const [one] = [...listOf(schema.oneOf), ...listOf(schema.anyOf)]
  if (one !== undefined) return valueOf(document, one, name, depth + 1, budget)
  const type = Array.isArray(schema.type) ? (schema.type as unknown[]).find((each) => each !== "null") : schema.type
  if (type === "array") return [valueOf(document, schema.items, name, depth + 1, budget)]
  if (type === "object" || isObject(schema.properties)) return propertiesOf(document, schema, depth, budget)
  if (type === "integer" || type === "number") return /time|date|_at$/i.test(name) ? 1_795_000_000 : 1
  if (type === "boolean") return false
  if (schema.format === "date-time") return "2026-11-27T10:00:00Z"
  if (schema.format === "uuid") return "0b9f3a52-6c1d-4e0f-9a77-3f2c5d1e8b64"
  return made(name)
}

/** Fields that are there always; all of them where none is said to be. */
function propertiesOf(document: Tree, schema: Tree, depth: number, budget: { left: number }): Tree {
  const all = entriesOf(schema.properties).slice(0, 100)
  const required = Array.isArray(schema.required) ? (schema.required as unknown[]) : undefined
  const some = all.filter(([name]) => (depth > 3 ? required?.includes(name) : true))
  return Object.fromEntries(some.map(([name, one]) => [name, valueOf(document, one, name, depth + 1, budget)]))
}

function made(name: string): string {
  return madeUp.find(([pattern]) => pattern.test(name))?.[1] ?? "abc"
}

/** What a reference leads to, within the document; a circle of references leads nowhere. */
function followed(document: Tree, given: unknown): unknown {
  let found = given
  for (let round = 0; round < 20; round++) {
    if (!isObject(found) || typeof found.$ref !== "string") return found
    const steps = found.$ref.startsWith("#/") ? found.$ref.slice(2).split("/") : []
    if (steps.length === 0) return undefined
    found = steps.reduce<unknown>((at, step) => {
      const name = decoded(step).replaceAll("~1", "/").replaceAll("~0", "~")
      return isObject(at) && Object.hasOwn(at, name) ? at[name] : undefined
    }, document)
  }
  return undefined
}

function entriesOf(value: unknown): [string, unknown][] {
  return isObject(value) ? Object.entries(value) : []
}

function listOf(value: unknown): unknown[] {
  return Array.isArray(value) ? (value as unknown[]) : []
}
