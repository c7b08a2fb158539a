import type { InboundCall } from "../../channels/call.ts"
import { contentOf } from "../content.ts"
import type { BodyForm, VerifyScheme } from "../profile.ts"

/** What a field of a sample may be. */
export const roles = ["from", "text", "id", "time", "name", "place", "media", "mime"] as const
export type FieldRole = (typeof roles)[number]

/** One field of a sample: where it stands, what it holds, and what it is taken for. */
export interface SampleField {
  where: string
  value: string
  role?: FieldRole
  /** How sure it is that it has the role; and which other fields could have it, the likeliest first. */
  certainty?: Certainty
  otherwise?: string[]
}

export type Certainty = "sure" | "likely" | "a guess"

/** How a sample seems to be proven. */
export interface ProofGuess {
  scheme: VerifyScheme
  /** Whether it was tried with a secret of the channel and matches. */
  certain: boolean
  says: string
}

/** A sample that nobody has described yet, as far as it can be read. */
export interface ReadSample {
  call: InboundCall
  body: BodyForm
  fields: SampleField[]
  /** The content as a tree; a form's fields as one object. */
  tree: unknown
  unreadable?: string
}

/** What a gateway's check of an address wants to hear back; nothing when the call is no such check. */
export function echoIn(call: InboundCall): string | undefined {
  const field = echoField(call)
  return field && (new URLSearchParams(call.address.split("?")[1] ?? "").get(field) ?? undefined)
}

/** The field of the query in which it stands. */
export function echoField(call: InboundCall): string | undefined {
  if (call.method !== "GET") return undefined
  const query = new URLSearchParams(call.address.split("?")[1] ?? "")
  return [...query.keys()].find((key) => /chal+enge|echo/i.test(key))
}

export function readSample(call: InboundCall): ReadSample {
  const body = formOf(call)
  const content = contentOf(call, body)
  if ("unreadable" in content) return { call, body, fields: [], tree: undefined, unreadable: content.unreadable }
  if (!("form" in content)) return { call, body, fields: flat(content.json, ""), tree: content.json }
  const fields = Object.entries(content.form)
    .slice(0, mostFields)
    .map(([where, value]) => ({ where, value }))
  return { call, body, fields, tree: content.form }
}

function formOf(call: InboundCall): BodyForm {
  const type = call.headers["content-type"] ?? ""
  const text = Buffer.from(call.body).toString("utf8").trim()
  if (text === "") return "form"
  if (text.startsWith("<")) return "xml"
  if (/^[[{]/.test(text)) return "json"
  return type.includes("json") ? "json" : type.includes("xml") ? "xml" : "form"
}

/** Fields of a sample that are looked at: each is compared with the others. */
const mostFields = 200

/** Every value of a tree with the JSON Pointer to it; of a list, the first. */
export function flat(value: unknown, where: string, depth = 0): SampleField[] {
  if (value === null || value === undefined || depth > 12) return []
  if (typeof value !== "object") return [{ where, value: String(value as string | number | boolean) }]
  const entries: [string, unknown][] = Array.isArray(value)
    ? value.slice(0, 1).map((one: unknown) => ["0", one])
    : Object.entries(value)
  return entries
    .flatMap(([name, one]) => flat(one, `${where}/${name.replaceAll("~", "~0").replaceAll("/", "~1")}`, depth + 1))
    .slice(0, mostFields)
}

/** Reads a sample from a file: a call as HTTP, or a body alone. */
export function sampleIn(text: string): InboundCall {
  const given = text.replace(/^\uFEFF/, "").replace(/\r\n?/g, "\n")
  const first = /^(GET|POST|PUT)\s+(\S+)(?:\s+HTTP\/[\d.]+)?\n?/.exec(given)
  if (!first) return { method: "POST", address: "", headers: {}, body: Buffer.from(given.trim()) }
  const end = /\n[ \t]*\n/.exec(given)
  const head = given.slice(first[0].length, end ? end.index : undefined)
  const body = end ? given.slice(end.index + end[0].length).replace(/\n$/, "") : ""
  const headers: InboundCall["headers"] = {}
  for (const line of head.split("\n")) {
    const at = line.indexOf(":")
    if (at > 0) headers[line.slice(0, at).trim().toLowerCase()] = line.slice(at + 1).trim()
  }
  const target = first[2]!
  const address = /^https?:/.test(target) ? target.replace(/^https?:\/\/[^/]*/, "") : target
  return { method: first[1]!, address, headers, body: Buffer.from(body) }
}
