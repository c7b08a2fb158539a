import { FormData } from "undici"
import { keyHosts, mayHaveKeys } from "../../core/channels/keyHosts.ts"
import type { Channel } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type {
  FormField,
  FormPart,
  HeaderValue,
  InlineAnswer,
  OutgoingBody,
  OutgoingCall,
  PlaceAddress,
} from "../../core/channels/call.ts"
import { writeXml } from "../../core/gateway/xml.ts"
import { exactNumber } from "../../core/message/json.ts"
import { wallClock } from "../process/wallClock.ts"
import { withoutEnd } from "../../core/message/trimmed.ts"

/** What the names in a described call stand for. */
export interface Filling {
  channel: Channel
  placeAddress: string | undefined
  mark: string
  uploaded: string[]
  /** Set once a secret was filled in. */
  secretUsed?: boolean
  /** What stands at a place of the call that is being answered. */
  fieldOfCall?: (where: string) => string | undefined
}

/** A described call as it goes to the socket, all names filled in. */
export interface FilledCall {
  url: string
  headers: { [name: string]: string }
  body: string | FormData | undefined
}

/** A call that would take one of the channel's keys to a host that is none of its own. */
export class KeyAbroad extends Error {
  readonly code = "KEY_ABROAD"

  constructor(address: string) {
    const host = URL.canParse(address) ? new URL(address).host : "an address that cannot be read"
    super(
      `the channel's keys are not sent to ${host}: it is neither apiBase's host nor one its kind or its setting keyHosts names`,
    )
  }
}

/** Throws a KeyAbroad for a call that would take a secret elsewhere. */
export function fillCall(call: OutgoingCall, filling: Filling): FilledCall {
  const fill = (value: unknown): unknown => fillIn(value, filling)
  const headers: { [name: string]: string } = { accept: "application/json" }
  for (const [name, value] of Object.entries(call.headers ?? {})) headers[name] = headerOf(value, fill)
  const { type, content } = bodyOf(call.body, fill)
  if (type !== undefined) headers["content-type"] = type
  const query = call.body && "query" in call.body ? fieldsOf(call.body.query, fill) : ""
  const address = addressOf(call, fill)
  if (filling.secretUsed && !isOwn(address, filling.channel)) throw new KeyAbroad(address)
  return { url: query === "" ? address : withQuery(address, query), headers, body: content }
}

/**
 * A described call's address and headers alone, for content that is fetched by other means. Headers that hold a key are
 * left out where the address is none of the channel's own.
 */
export function requestOf(call: OutgoingCall, channel: Channel): { url: string; headers: { [name: string]: string } } {
  const filling: Filling = { channel, placeAddress: undefined, mark: "", uploaded: [] }
  const fill = (value: unknown): unknown => fillIn(value, filling)
  const url = addressOf(call, fill)
  const own = isOwn(url, channel)
  if (filling.secretUsed && !own) throw new KeyAbroad(url)
  const headers: { [name: string]: string } = {}
  for (const [name, value] of Object.entries(call.headers ?? {})) {
    filling.secretUsed = false
    const filled = headerOf(value, fill)
    if (own || !filling.secretUsed) headers[name] = filled
  }
  return { url, headers }
}

function isOwn(address: string, channel: Channel): boolean {
  return mayHaveKeys(address, keyHosts(channel, kindOf(channel.kind).keyHosts))
}

/** The body of an answer inside a provider's own call. */
export function inlineBody(
  answer: InlineAnswer,
  channel: Channel,
  given: { placeAddress: string; mark: string; fieldOfCall: (where: string) => string | undefined },
): string {
  const { content } = bodyOf(answer.body, (value) => fillIn(value, { channel, uploaded: [], ...given }))
  return typeof content === "string" ? content : ""
}

type Fill = (value: unknown) => unknown

function bodyOf(body: OutgoingBody | undefined, fill: Fill): { type?: string; content: string | FormData | undefined } {
  if (!body || "query" in body) return { content: undefined }
  if ("json" in body) return { type: "application/json", content: JSON.stringify(fill(body.json)) }
  if ("fields" in body) return { type: "application/x-www-form-urlencoded", content: fieldsOf(body.fields, fill) }
  if ("xml" in body) return { type: "application/xml; charset=utf-8", content: writeXml(fill(body.xml)) }
  if ("raw" in body) return { type: body.type, content: body.raw }
  if ("text" in body) return { type: "text/plain; charset=utf-8", content: String(fill(body.text)) }
  return { content: formOf(body.form, fill) }
}

/** A name in a described call, by what it stands for. */
type Name =
  | { for: "secret"; name: string; escaped: boolean }
  | { for: "setting"; name: string; escaped: boolean }
  | { for: "place"; as: PlaceAddress["as"]; prefix: string }
  | { for: "mark" }
  | { for: "upload"; n: number }
  | { for: "now"; form: string }
  | { for: "field of the call"; where: string }
  | { for: "pieces"; pieces: unknown[] }
  | { for: "number"; of: unknown }

/** The name an object is, if it is one and not simply content. */
function nameIn(value: object): Name | undefined {
  const keys = Object.keys(value)
  const [key] = keys
  const given = (value as { [key: string]: unknown })[key ?? ""]
  if ("place" in value && "as" in value && value.place === "address" && typeof value.as === "string") {
    const prefix = "prefix" in value && typeof value.prefix === "string" ? value.prefix : ""
    return { for: "place", as: value.as as PlaceAddress["as"], prefix }
  }
  const escaped = "escaped" in value && value.escaped === true
  if (keys.length !== (escaped ? 2 : 1)) return undefined
  if (key === "join" && Array.isArray(given)) return { for: "pieces", pieces: given }
  if (key === "upload" && typeof given === "number") return { for: "upload", n: given }
  if (key === "mark" && given === "call") return { for: "mark" }
  if (key === "number of") return { for: "number", of: given }
  if (typeof given !== "string") return undefined
  switch (key) {
    case "secret":
    case "setting":
      return { for: key, name: given, escaped }
    case "now":
      return { for: "now", form: given }
    case "in":
      return { for: "field of the call", where: given }
    default:
      return undefined
  }
}

function fillIn(value: unknown, filling: Filling): unknown {
  if (Array.isArray(value)) return value.map((inner) => fillIn(inner, filling))
  if (typeof value !== "object" || value === null) return value
  const name = nameIn(value)
  if (name) return valueOf(name, filling)
  const filled: { [key: string]: unknown } = {}
  for (const key in value) filled[key] = fillIn((value as { [key: string]: unknown })[key], filling)
  return filled
}

function valueOf(name: Name, filling: Filling): unknown {
  const { channel } = filling
  switch (name.for) {
    case "secret":
      filling.secretUsed = true
      return written(channel.secrets[name.name], name.escaped)
    case "setting":
      return written(channel.settings[name.name], name.escaped)
    case "place":
      return placeAs(filling.placeAddress ?? "", name)
    case "mark":
      return filling.mark
    case "upload":
      return filling.uploaded[name.n] ?? ""
    case "now":
      return nowAs(name.form)
    case "field of the call":
      return filling.fieldOfCall?.(name.where) ?? ""
    case "number":
      return exactNumber(String(fillIn(name.of, filling)))
    case "pieces":
      return name.pieces.map((piece) => String(fillIn(piece, filling))).join("")
  }
}

function written(value: unknown, escaped: boolean): unknown {
  return escaped ? encodeURIComponent(String(value ?? "")) : (value ?? "")
}

function placeAs(address: string, { as, prefix }: Name & { for: "place" }): string | number {
  if (as === "number") return exactNumber(address)
  // An address that names its own way is reached as it is; that of plain numbers is not written.
  const way = /^[a-z][a-z0-9]*:/i.exec(address)?.[0]
  const bare = way === "sms:" ? address.slice(way.length) : address
  const own = prefix !== "" && way !== undefined ? "" : prefix
  return own + (as === "digits" ? bare.replace(/^\+/, "") : bare)
}

function nowAs(form: string): string {
  const now = wallClock("signature")
  if (form === "iso") return now.toISOString()
  return String(form === "ms" ? now.getTime() : Math.floor(now.getTime() / 1000))
}

function fieldsOf(fields: FormField[], fill: Fill): string {
  return new URLSearchParams(fields.map(({ name, value }) => [name, String(fill(value))])).toString()
}

function withQuery(address: string, query: string): string {
  const url = new URL(address)
  return `${url.origin}${url.pathname}${url.search === "" ? "?" : `${url.search}&`}${query}`
}

/** A slash at the end of a base address makes no difference; a place stands escaped in a path. */
function addressOf(call: OutgoingCall, fill: Fill): string {
  return call.address
    .map((piece) => {
      const written = String(fill(piece))
      if (typeof piece === "object" && "place" in piece) return encodeURIComponent(written)
      return typeof piece === "object" && "setting" in piece ? withoutEnd(written, "/") : written
    })
    .join("")
}

function headerOf(value: HeaderValue, fill: Fill): string {
  if (typeof value === "object" && "basic" in value) {
    const pair = value.basic.map((piece) => String(fill(piece))).join(":")
    return `Basic ${Buffer.from(pair).toString("base64")}`
  }
  return (Array.isArray(value) ? value : [value]).map((piece) => String(fill(piece))).join("")
}

function formOf(parts: FormPart[], fill: Fill): FormData {
  const form = new FormData()
  for (const part of parts) {
    if ("data" in part)
      form.append(part.name, new Blob([Buffer.from(part.data, "base64")], { type: part.mime }), part.filename)
    else form.append(part.name, String(fill(part.value)))
  }
  return form
}
