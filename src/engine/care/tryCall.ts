import type { OutgoingCall } from "../../core/channels/call.ts"
import type { Operation, OperationWord } from "../../core/channels/operations.ts"
import { missingIn, operationWords, pathFault } from "../../core/channels/operations.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { fillCall, KeyAbroad } from "../calls/fill.ts"
import { perform } from "../calls/perform.ts"
import type { KnownChannel } from "../channels.ts"
import { replaceSecrets } from "../seal.ts"
import { Trouble } from "../trouble.ts"

/** What somebody wants to call: an operation by its name or one word, or a path with a method. */
export interface TryGiven {
  operation?: string
  method?: OutgoingCall["method"]
  path?: string
  fields: { [name: string]: unknown }
  /** Whether a call that may change something is made. */
  really: boolean
}

/** The request as it is built, its keys in their place and not shown; and the raw answer. */
export interface TriedView {
  request: { method: string; address: string; headers: { [name: string]: string }; body?: string }
  /** Not there where it was not made: it asks first. */
  answer?: { status: number; headers: { [name: string]: string }; body: string; cut?: number }
  failure?: string
  milliseconds?: number
}

/** Characters of an answer that are shown. */
const longestShown = 100_000

export function operationsOf({ row, channel }: KnownChannel): (Operation & { asks: boolean })[] {
  return kindOf(row.kind)
    .operations.known(channel)
    .map((one) => ({ ...one, asks: one.method !== "GET" }))
}

/** Makes one of a provider's calls with a channel's keys. One that may change something is only shown, until it is meant. */
export async function tryCall(known: KnownChannel, given: TryGiven): Promise<TriedView> {
  const { row, channel } = known
  const call = callFor(known, given)
  const missing = missingIn(call)
  if (missing.length > 0)
    throw new Trouble(
      "bad-input",
      `The call needs ${missing.join(" and ")}, and nothing was given for ${missing.length === 1 ? "it" : "them"}.`,
      `Give ${missing.map((name) => `${name}=…`).join(" ")}; where it is a setting, the channel "${row.key}" has none.`,
      "fields",
    )
  const request = requestShown(known, call)
  if (call.method !== "GET" && !given.really) return { request }
  const began = performance.now()
  const answer = await perform({ ...call, timeout: 20_000 }, channel, undefined)
  const milliseconds = Math.round(performance.now() - began)
  if ("failure" in answer) return { request, failure: answer.failure, milliseconds }
  const secrets = [...Object.values(channel.secrets), ...Object.values(known.former)]
  const safe = (text: string) => replaceSecrets(text, secrets, () => "•••")
  const body = safe(answer.body)
  const headers = Object.fromEntries(Object.entries(answer.headers).map(([name, value]) => [name, safe(String(value))]))
  const cut = body.length > longestShown ? { cut: body.length } : {}
  return {
    request,
    answer: { status: answer.status, headers, body: body.slice(0, longestShown), ...cut },
    milliseconds,
  }
}

function callFor({ row, channel }: KnownChannel, given: TryGiven): OutgoingCall {
  const { operations, provider } = kindOf(row.kind)
  const known = operations.known(channel)
  if (given.operation !== undefined) {
    const found = known.find((one) => one.name === given.operation || one.word === given.operation)
    if (found) {
      const { method, path, usual } = found
      const secrets = Object.keys(channel.profile?.secrets ?? {})
      return operations.call({ method, path, fields: { ...usual, ...given.fields }, secrets }, channel)
    }
    const { operation } = given
    const instead = (operationWords as readonly string[]).includes(operation)
      ? operations.instead?.[operation as OperationWord]
      : undefined
    if (instead !== undefined)
      throw new Trouble("bad-input", `There is no call for "${operation}".`, instead, "operation")
    // Methods that have one word for a path are called by their names, too.
    if (!/^[a-z]\w*(\.\w+)*$/i.test(operation) || (row.kind !== "telegram" && row.kind !== "slack"))
      throw new Trouble(
        "bad-input",
        `${provider} has no call "${operation}" that is known here.`,
        `There are: ${known.map((one) => one.name).join(", ")}. Any other is called by its path: GET /….`,
        "operation",
      )
    const method = given.method ?? (/^get|\.(test|info|list|history|members|replies)$/.test(operation) ? "GET" : "POST")
    return operations.call({ method, path: operation, fields: given.fields }, channel)
  }
  const path = given.path ?? ""
  const fault = pathFault(path)
  if (fault !== undefined)
    throw new Trouble(
      "bad-input",
      `The path cannot be called: ${fault}.`,
      "Write it as it stands below apiBase, such as /me.",
      "path",
    )
  return operations.call({ method: given.method ?? "GET", path, fields: given.fields }, channel)
}

/** The request with the names of its secrets in place of their values. */
function requestShown({ channel }: KnownChannel, call: OutgoingCall): TriedView["request"] {
  const secrets = Object.fromEntries(Object.keys(channel.secrets).map((name) => [name, `•••${name}•••`]))
  const masked = { ...channel, secrets }
  try {
    const { url, headers, body } = fillCall(call, { channel: masked, placeAddress: undefined, mark: "", uploaded: [] })
    const basic = /^Basic (.+)$/.exec(headers.authorization ?? "")?.[1]
    return {
      method: call.method,
      address: decodedMarks(url),
      headers:
        basic === undefined
          ? headers
          : { ...headers, authorization: `Basic ${Buffer.from(basic, "base64").toString("utf8")}` },
      ...(typeof body === "string" ? { body } : {}),
    }
  } catch (error) {
    if (error instanceof KeyAbroad)
      throw new Trouble("bad-input", `The call cannot be made: ${error.message}.`, "Call a path below apiBase.", "path")
    throw error
  }
}

function decodedMarks(url: string): string {
  return url.replaceAll("%E2%80%A2", "•")
}
