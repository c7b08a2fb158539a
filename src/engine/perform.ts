import type { IncomingHttpHeaders } from "node:http"
import type { Dispatcher } from "undici"
import { Agent, FormData } from "undici"
import type {
  Channel,
  FormField,
  FormPart,
  HeaderValue,
  InlineAnswer,
  OutgoingCall,
  ProviderAnswer,
} from "../core/channels/kind.ts"
import { writeXml } from "../core/gateway/xml.ts"
import { replaceSecrets } from "./seal.ts"

/** Milliseconds a provider may take to answer. */
export const callTimeout = 10_000

const agent = new Agent({
  connections: 64,
  pipelining: 1,
  keepAliveTimeout: 4000,
  connect: { timeout: 5000 },
  headersTimeout: 0,
  bodyTimeout: 0,
})

/** A described call as it goes to the socket: its address and headers, with all names filled in. */
export function requestOf(call: OutgoingCall, channel: Channel): { url: string; headers: { [name: string]: string } } {
  const filling: Filling = { channel, placeAddress: undefined, mark: "", uploaded: [] }
  const fill = (value: unknown): unknown => fillIn(value, filling)
  const headers = Object.entries(call.headers ?? {}).map(([name, value]) => [name, headerOf(value, fill)])
  return { url: addressOf(call, fill), headers: Object.fromEntries(headers) as { [name: string]: string } }
}

/** Makes a described call: fills in secrets, settings and the place's address at the socket, and reads the answer. */
export async function perform(
  call: OutgoingCall,
  channel: Channel,
  placeAddress: string | undefined,
  options: { signal?: AbortSignal; mark?: string; uploaded?: string[] } = {},
): Promise<ProviderAnswer> {
  const filling: Filling = { channel, placeAddress, mark: options.mark ?? "", uploaded: options.uploaded ?? [] }
  const fill = (value: unknown): unknown => fillIn(value, filling)
  const url = addressOf(call, fill)
  const headers: { [name: string]: string } = { accept: "application/json" }
  for (const [name, value] of Object.entries(call.headers ?? {})) headers[name] = headerOf(value, fill)
  let body: string | FormData | undefined
  if (call.body && "json" in call.body) {
    headers["content-type"] = "application/json"
    body = JSON.stringify(fill(call.body.json))
  } else if (call.body && "fields" in call.body) {
    headers["content-type"] = "application/x-www-form-urlencoded"
    body = fieldsOf(call.body.fields, fill)
  } else if (call.body && "xml" in call.body) {
    headers["content-type"] = "application/xml; charset=utf-8"
    body = writeXml(fill(call.body.xml))
  } else if (call.body && "text" in call.body) {
    headers["content-type"] = "text/plain; charset=utf-8"
    body = String(fill(call.body.text))
  } else if (call.body && "form" in call.body) {
    body = formOf(call.body.form, fill)
  }
  const exchange = new Exchange(call.timeout ?? callTimeout, options.signal)
  try {
    const { origin, pathname, search: given } = new URL(url)
    const query = call.body && "query" in call.body ? fieldsOf(call.body.query, fill) : ""
    const search = query === "" ? given : `${given}${given === "" ? "?" : "&"}${query}`
    agent.dispatch({ origin, path: pathname + search, method: call.method, headers, body: body ?? null }, exchange)
    return await exchange.answer
  } catch (error) {
    return { failure: describe(error, channel), sent: exchange.begun && mayHaveArrived(error) }
  }
}

/**
 * One request and its answer, read to the end within a time limit. Speaks to undici's dispatcher directly: its
 * `request`, with a stream for the body and an abort signal for the limit, took half as long again.
 */
class Exchange implements Dispatcher.DispatchHandler {
  readonly answer: Promise<ProviderAnswer>
  /** Whether the request was handed to a connection: before that, no byte can have left. */
  begun = false
  private controller: Dispatcher.DispatchController | undefined
  private ended: Error | undefined
  private status = 0
  private readonly headers: { [name: string]: string } = {}
  private readonly chunks: Buffer[] = []
  private readonly timer: NodeJS.Timeout
  private done!: (answer: ProviderAnswer) => void
  private fail!: (error: Error) => void

  constructor(
    limit: number,
    private readonly signal: AbortSignal | undefined,
  ) {
    this.answer = new Promise((done, fail) => ((this.done = done), (this.fail = fail)))
    this.answer.catch(() => undefined)
    this.timer = setTimeout(() => this.end(new DOMException("no answer in time", "TimeoutError")), limit)
    signal?.addEventListener("abort", this.broken)
    if (signal?.aborted) this.broken()
  }

  onRequestStart(controller: Dispatcher.DispatchController): void {
    this.controller = controller
    if (this.ended) controller.abort(this.ended)
    else this.begun = true
  }

  onResponseStart(_controller: Dispatcher.DispatchController, status: number, headers: IncomingHttpHeaders): void {
    this.status = status
    for (const name in headers) {
      const value = headers[name]
      this.headers[name] = Array.isArray(value) ? value.join(", ") : (value ?? "")
    }
  }

  onResponseData(_controller: Dispatcher.DispatchController, chunk: Buffer): void {
    this.chunks.push(chunk)
  }

  onResponseEnd(): void {
    this.clear()
    const [first] = this.chunks
    const whole = this.chunks.length === 1 ? first! : Buffer.concat(this.chunks)
    this.done({ status: this.status, headers: this.headers, body: whole.toString("utf8") })
  }

  onResponseError(_controller: Dispatcher.DispatchController | undefined, error: Error): void {
    this.clear()
    this.fail(error)
  }

  private readonly broken = () => this.end(new DOMException("broken off", "AbortError"))

  private end(why: Error): void {
    this.clear()
    this.ended = why
    this.controller?.abort(why)
    this.fail(why)
  }

  private clear(): void {
    clearTimeout(this.timer)
    this.signal?.removeEventListener("abort", this.broken)
  }
}

/** The text of an answer as it may be kept: no secrets, and not more than a page. */
export function keepable(text: string, channel: Channel): string {
  return replaceSecrets(text.slice(0, 4000), Object.values(channel.secrets), () => "•••")
    .replaceAll("\u0000", "\uFFFD")
    .toWellFormed()
}

/** What the names in a described call stand for. */
interface Filling {
  channel: Channel
  placeAddress: string | undefined
  mark: string
  uploaded: string[]
  /** What stands at a place of the call that is being answered. */
  inside?: (where: string) => string | undefined
}

/** The body of an answer inside a provider's own call. */
export function inlineBody(
  answer: InlineAnswer,
  channel: Channel,
  given: { placeAddress: string; mark: string; inside: (where: string) => string | undefined },
): string {
  const filling: Filling = { channel, uploaded: [], ...given }
  const fill = (value: unknown): unknown => fillIn(value, filling)
  const { body } = answer
  if ("json" in body) return JSON.stringify(fill(body.json))
  if ("xml" in body) return writeXml(fill(body.xml))
  if ("text" in body) return String(fill(body.text))
  return "fields" in body ? fieldsOf(body.fields, fill) : ""
}

function nowAs(form: string): string {
  const now = new Date()
  if (form === "iso") return now.toISOString()
  return String(form === "ms" ? now.getTime() : Math.floor(now.getTime() / 1000))
}

function fieldsOf(fields: FormField[], fill: (value: unknown) => unknown): string {
  return new URLSearchParams(fields.map(({ name, value }) => [name, String(fill(value))])).toString()
}

function fillIn(value: unknown, filling: Filling): unknown {
  if (Array.isArray(value)) return value.map((inner) => fillIn(inner, filling))
  if (typeof value !== "object" || value === null) return value
  const { channel } = filling
  const named = value as {
    secret?: unknown
    setting?: unknown
    place?: unknown
    as?: unknown
    prefix?: unknown
    mark?: unknown
    upload?: unknown
    join?: unknown
    now?: unknown
    in?: unknown
  }
  if (typeof named.secret === "string" && Object.keys(named).length === 1) return channel.secrets[named.secret] ?? ""
  if (typeof named.setting === "string" && Object.keys(named).length === 1) return channel.settings[named.setting] ?? ""
  if (Array.isArray(named.join) && Object.keys(named).length === 1)
    return named.join.map((piece) => String(fillIn(piece, filling))).join("")
  if (typeof named.now === "string" && Object.keys(named).length === 1) return nowAs(named.now)
  if (typeof named.in === "string" && Object.keys(named).length === 1) return filling.inside?.(named.in) ?? ""
  if (named.mark === "call" && Object.keys(named).length === 1) return filling.mark
  if (typeof named.upload === "number" && Object.keys(named).length === 1) return filling.uploaded[named.upload] ?? ""
  if (named.place === "address" && typeof named.as === "string") {
    const address = filling.placeAddress ?? ""
    if (named.as === "number") return exactNumber(address)
    const written = named.as === "digits" ? address.replace(/^\+/, "") : address
    return typeof named.prefix === "string" ? named.prefix + written : written
  }
  const filled: { [key: string]: unknown } = {}
  for (const key in named) filled[key] = fillIn((value as { [key: string]: unknown })[key], filling)
  return filled
}

function exactNumber(address: string): number | string {
  const value = Number(address)
  return /^-?\d+$/.test(address) && Number.isSafeInteger(value) ? value : address
}

/** A slash at the end of a base address makes no difference; a place stands escaped in a path. */
function addressOf(call: OutgoingCall, fill: (value: unknown) => unknown): string {
  return call.address
    .map((piece) => {
      const written = String(fill(piece))
      if (typeof piece === "object" && "place" in piece) return encodeURIComponent(written)
      return typeof piece === "object" && "setting" in piece ? written.replace(/\/+$/, "") : written
    })
    .join("")
}

function headerOf(value: HeaderValue, fill: (value: unknown) => unknown): string {
  if (typeof value === "object" && "basic" in value) {
    const pair = value.basic.map((piece) => String(fill(piece))).join(":")
    return `Basic ${Buffer.from(pair).toString("base64")}`
  }
  return (Array.isArray(value) ? value : [value]).map((piece) => String(fill(piece))).join("")
}

function formOf(parts: FormPart[], fill: (value: unknown) => unknown): FormData {
  const form = new FormData()
  for (const part of parts) {
    if ("data" in part)
      form.append(part.name, new Blob([Buffer.from(part.data, "base64")], { type: part.mime }), part.filename)
    else form.append(part.name, String(fill(part.value)))
  }
  return form
}

const neverLeft = new Set([
  "ECONNREFUSED",
  "ENOTFOUND",
  "EAI_AGAIN",
  "EHOSTUNREACH",
  "ENETUNREACH",
  "UND_ERR_CONNECT_TIMEOUT",
  "UND_ERR_INVALID_ARG",
  "ERR_INVALID_URL",
  "CERT_HAS_EXPIRED",
  "ERR_TLS_CERT_ALTNAME_INVALID",
])

/** Whether the request may have reached the provider although no answer came. */
function mayHaveArrived(error: unknown): boolean {
  return !neverLeft.has(codeOf(error))
}

function codeOf(error: unknown): string {
  const { code, cause } = error as { code?: string; cause?: { code?: string } }
  return typeof code === "string" ? code : (cause?.code ?? "")
}

function describe(error: unknown, channel: Channel): string {
  const { name, message } = error as Error
  if (name === "TimeoutError") return "no answer within the time limit"
  if (name === "AbortError") return "the call was broken off"
  const code = codeOf(error)
  if (/^(UND_ERR_SOCKET|ECONNRESET|EPIPE)$/.test(code)) return `the connection was dropped (${code})`
  return keepable(`${code || name}: ${message}`, channel)
}
