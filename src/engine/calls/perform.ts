import { Agent } from "undici"
import type { Channel, Outcome } from "../../core/channels/kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../../core/channels/call.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { replaceSecrets } from "../seal.ts"
import type { Answered } from "./exchange.ts"
import { Exchange, TooLarge } from "./exchange.ts"
import type { Filling } from "./fill.ts"
import { fillCall, KeyAbroad } from "./fill.ts"

/** Milliseconds a provider may take to answer. */
export const callTimeout = 10_000

/** Bytes of an answer that are read: a full poll of a hundred updates with long texts stays far below. */
const longestAnswer = 4 * 1024 * 1024

const agent = new Agent({
  connections: 64,
  pipelining: 1,
  keepAliveTimeout: 4000,
  connect: { timeout: 5000 },
  headersTimeout: 0,
  bodyTimeout: 0,
})

/** Makes a described call: fills in secrets, settings and the place's address at the socket, and reads the answer. */
export async function perform(
  call: OutgoingCall,
  channel: Channel,
  placeAddress: string | undefined,
  options: { signal?: AbortSignal; mark?: string; uploaded?: string[] } = {},
): Promise<ProviderAnswer> {
  const filling: Filling = { channel, placeAddress, mark: options.mark ?? "", uploaded: options.uploaded ?? [] }
  let exchange: Exchange | undefined
  try {
    const { url, headers, body } = fillCall(call, filling)
    const { origin, pathname, search } = new URL(url)
    exchange = new Exchange(call.timeout ?? callTimeout, longestAnswer, options.signal)
    agent.dispatch({ origin, path: pathname + search, method: call.method, headers, body: body ?? null }, exchange)
    return await exchange.answer
  } catch (error) {
    return { failure: describe(error, channel), sent: exchange?.begun === true && mayHaveArrived(error) }
  }
}

/** Asks an address that is no provider's: its answer, of which not more is read than is looked at. */
export async function look(
  url: string,
  headers: { [name: string]: string },
  limits: { within: number; most: number },
): Promise<Answered> {
  const { origin, pathname, search } = new URL(url)
  const exchange = new Exchange(limits.within, limits.most, undefined)
  agent.dispatch({ origin, path: pathname + search, method: "GET", headers, body: null }, exchange)
  return exchange.answer
}

/** What a call came to. Where the provider's words are given as the reason, no secret of ours stands among them. */
export function judged(call: OutgoingCall, answer: ProviderAnswer, channel: Channel): Outcome {
  const kind = kindOf(channel.kind)
  const outcome = kind.judge(call, answer, channel)
  if (!("why" in outcome) || !("status" in answer)) return outcome
  const body = replaceSecrets(answer.body, Object.values(channel.secrets), () => "•••")
  return body === answer.body ? outcome : kind.judge(call, { ...answer, body }, channel)
}

/** The text of an answer as it may be kept: no secrets, and not more than a page. */
export function keepable(text: string, channel: Channel): string {
  // A little more is looked through than is kept: a secret at the cut would not be found.
  return replaceSecrets(text.slice(0, 8000), Object.values(channel.secrets), () => "•••")
    .slice(0, 4000)
    .replaceAll("\u0000", "\uFFFD")
    .toWellFormed()
}

const neverLeft = new Set([
  "ECONNREFUSED",
  "KEY_ABROAD",
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
  if (error instanceof TooLarge || error instanceof KeyAbroad) return message
  if (name === "TimeoutError") return "no answer within the time limit"
  if (name === "AbortError") return "the call was broken off"
  const code = codeOf(error)
  if (/^(UND_ERR_SOCKET|ECONNRESET|EPIPE)$/.test(code)) return `the connection was dropped (${code})`
  return keepable(`${code || name}: ${message}`, channel)
}
