import { Agent, FormData, request } from "undici"
import type { Channel, FormPart, OutgoingCall, ProviderAnswer } from "../core/channels/kind.ts"
import { replaceSecrets } from "./seal.ts"

/** Milliseconds a provider may take to answer. */
export const callTimeout = 10_000

const agent = new Agent({ connections: 64, pipelining: 1, keepAliveTimeout: 4000, connect: { timeout: 5000 } })

/** Makes a described call: fills in secrets, settings and the place's address at the socket, and reads the answer. */
export async function perform(
  call: OutgoingCall,
  channel: Channel,
  placeAddress: string | undefined,
  options: { signal?: AbortSignal } = {},
): Promise<ProviderAnswer> {
  const fill = (value: unknown): unknown => fillIn(value, channel, placeAddress)
  const url = call.address.map((piece) => String(fill(piece)).replace(/\/$/, "")).join("")
  const headers: { [name: string]: string } = { accept: "application/json" }
  for (const [name, value] of Object.entries(call.headers ?? {})) headers[name] = String(fill(value))
  let body: string | FormData | undefined
  if (call.body && "json" in call.body) {
    headers["content-type"] = "application/json"
    body = JSON.stringify(fill(call.body.json))
  } else if (call.body) {
    body = formOf(call.body.form, fill)
  }
  const timeout = call.timeout ?? callTimeout
  try {
    const answer = await request(url, {
      method: call.method,
      headers,
      body: body ?? null,
      dispatcher: agent,
      headersTimeout: timeout,
      bodyTimeout: timeout,
      signal: options.signal
        ? AbortSignal.any([options.signal, AbortSignal.timeout(timeout)])
        : AbortSignal.timeout(timeout),
    })
    const text = await answer.body.text()
    const given: { [name: string]: string } = {}
    for (const [name, value] of Object.entries(answer.headers))
      given[name] = Array.isArray(value) ? value.join(", ") : (value ?? "")
    return { status: answer.statusCode, headers: given, body: text }
  } catch (error) {
    return { failure: describe(error, channel), sent: mayHaveArrived(error) }
  }
}

/** The text of an answer as it may be kept: no secrets, and not more than a page. */
export function keepable(text: string, channel: Channel): string {
  return replaceSecrets(text.slice(0, 4000), Object.values(channel.secrets), () => "•••")
    .replaceAll("\u0000", "\uFFFD")
    .toWellFormed()
}

function fillIn(value: unknown, channel: Channel, placeAddress: string | undefined): unknown {
  if (Array.isArray(value)) return value.map((inner) => fillIn(inner, channel, placeAddress))
  if (typeof value !== "object" || value === null) return value
  const named = value as { secret?: unknown; setting?: unknown; place?: unknown; as?: unknown }
  if (typeof named.secret === "string" && Object.keys(named).length === 1) return channel.secrets[named.secret] ?? ""
  if (typeof named.setting === "string" && Object.keys(named).length === 1) return channel.settings[named.setting] ?? ""
  if (named.place === "address" && Object.keys(named).length === 2) {
    const address = placeAddress ?? ""
    return named.as === "number" && /^-?\d+$/.test(address) && Number.isSafeInteger(Number(address))
      ? Number(address)
      : address
  }
  return Object.fromEntries(Object.entries(value).map(([key, inner]) => [key, fillIn(inner, channel, placeAddress)]))
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
  return keepable(`${codeOf(error) || name}: ${message}`, channel)
}
