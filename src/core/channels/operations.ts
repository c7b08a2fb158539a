import type { FormField, HeaderValue, OutgoingBody, OutgoingCall } from "./call.ts"
import type { Channel } from "./channel.ts"

/** A call of a provider's that we know of, by the name its public documentation gives it. */
export interface Operation {
  name: string
  /** In a few words what it is for. */
  says: string
  method: OutgoingCall["method"]
  /** Below the kind's base; `{name}` is a setting of the channel, or a field that is given. */
  path: string
  /** What may be given. */
  fields?: string[]
  /** What is given where nobody says otherwise. */
  usual?: { [field: string]: string }
  /** The one word by which it is called on every kind. */
  word?: OperationWord
}

/** A call that reads, whose path below the base is its name where nothing else is said. */
export function reads(name: string, says: string, more: Partial<Operation> = {}): Operation {
  return { name, says, method: "GET", path: name, ...more }
}

export const operationWords = ["me", "record", "groups", "status"] as const
export type OperationWord = (typeof operationWords)[number]

/** The calls of a provider that can be tried with a channel's keys. */
export interface Operations {
  known(channel: Channel): Operation[]
  /** Where the provider has no call for one of the words: what to do instead. */
  instead?: { [word in OperationWord]?: string }
  /** A call below the kind's base, with the channel's keys in their place. */
  call(wanted: Wanted, channel: Channel): OutgoingCall
}

/** What somebody wants to call: a method, a path below the base, and fields. */
export interface Wanted {
  method: OutgoingCall["method"]
  path: string
  fields: { [name: string]: unknown }
  /** Names of secrets that stand in the path of an operation; nobody's own path holds any. */
  secrets?: string[]
}

/** Why a path may not be called; nothing where it may. */
export function pathFault(path: string): string | undefined {
  if (path.length > 2000) return "it is too long"
  if (/^[a-z][a-z0-9+.-]*:/i.test(path) || path.startsWith("//"))
    return "it names another host: only paths below apiBase are called"
  if (/[\s\\#\u0000-\u001f\u007f]/.test(path)) return "it holds a space, a backslash, a # or a control character"
  const steps = path.split("?")[0]!.split("/")
  if (steps.some((step) => /^(\.|%2e){1,2}$/i.test(step))) return "it leads upwards, out of apiBase"
  return undefined
}

type Address = OutgoingCall["address"]

/**
 * Describes a call of a path below a base.
 *
 * @param base the pieces before the path, which end without a slash
 */
export function callBelow(
  wanted: Wanted,
  channel: Channel,
  given: { base: Address; headers?: { [name: string]: HeaderValue }; body: "json" | "form" },
): OutgoingCall {
  const { method } = wanted
  const fields = { ...wanted.fields }
  const path = wanted.path
    .replace(/^\/+/, "")
    .split(/(\{\w+\})/)
    .flatMap((piece): Address => {
      const name = /^\{(\w+)\}$/.exec(piece)?.[1]
      if (name === undefined) return piece === "" ? [] : [piece]
      if (wanted.secrets?.includes(name)) return [{ secret: name, escaped: true }]
      const given = Object.hasOwn(fields, name)
      const value = given ? fields[name] : channel.settings[name]
      if (typeof value !== "string" && typeof value !== "number") return [piece]
      delete fields[name]
      // A setting may be a path of several steps.
      const steps = given ? [String(value)] : String(value).split("/")
      return [steps.map((step) => encodeURIComponent(step)).join("/")]
    })
  const slash = typeof path[0] === "string" && path[0].startsWith("/") ? [] : ["/"]
  const inQuery = method === "GET" || method === "DELETE"
  const body = bodyOf(fields, inQuery ? "query" : given.body)
  return {
    name: `${method} ${wanted.path}`,
    method,
    address: path.length === 0 ? given.base : [...given.base, ...slash, ...path],
    ...(given.headers ? { headers: given.headers } : {}),
    ...(body ? { body } : {}),
    speaks: false,
  }
}

function bodyOf(fields: { [name: string]: unknown }, form: "json" | "form" | "query"): OutgoingBody | undefined {
  if (Object.keys(fields).length === 0) return undefined
  // Written out here: what somebody gives names no secret.
  if (form === "json") return { raw: JSON.stringify(fields), type: "application/json" }
  const list = Object.entries(fields).map(([name, value]): FormField => ({
    name,
    value: typeof value === "string" ? value : JSON.stringify(value),
  }))
  return form === "query" ? { query: list } : { fields: list }
}

/** What a path still needs, by the names in braces that nothing was given for. */
export function missingIn(call: OutgoingCall): string[] {
  const written = call.address.filter((piece) => typeof piece === "string").join("")
  return [...written.matchAll(/\{(\w+)\}/g)].map(([, name]) => name!)
}
