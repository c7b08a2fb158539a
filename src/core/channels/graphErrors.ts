import type { Outcome } from "./kind.ts"
import type { ProviderAnswer } from "./call.ts"
import type { JsonObject } from "../message/json.ts"
import { isObject, numberAt, objectAt, readJson, textAt } from "../message/json.ts"

/** What one error code of the provider means. */
export interface CodeMeaning {
  as: "again" | "refused" | "lockedOut"
  /** Seconds, where the provider is known to want a longer wait. */
  after?: number
  remedy?: string
}

/**
 * Judges an answer of the API that WhatsApp and Messenger share: 200 with an object, or
 * `{error:{message,code,error_subcode,error_data}}`.
 */
export function judgeGraph(
  answer: ProviderAnswer,
  provider: string,
  accepted: (body: JsonObject) => string | undefined,
  meaning: (code: number, subcode: number | undefined) => CodeMeaning | undefined,
): Outcome {
  if ("failure" in answer) return withoutAnswer(answer, provider)
  const body = readAnswer(answer.body)
  const error = objectAt(body, "error")
  if (answer.status >= 200 && answer.status < 300 && !error) {
    if (!body) return { outcome: "unclear", why: `an answer ${answer.status} that cannot be read` }
    const providerId = accepted(body)
    return { outcome: "accepted", ...(providerId ? { providerId } : {}) }
  }
  if (!error) return withoutWords(answer, provider)
  const code = numberAt(error, "code") ?? answer.status
  const subcode = numberAt(error, "error_subcode")
  const details = textAt(objectAt(error, "error_data"), "details")
  const said = textAt(error, "message") ?? `answer ${answer.status}`
  const why = `${said}${details && details !== said ? `: ${details}` : ""}${said.includes(String(code)) ? "" : ` (code ${code})`}`
  const after = retryAfter(answer.headers)
  const known =
    meaning(code, subcode) ?? (answer.status === 429 || answer.status >= 500 ? { as: "again" as const } : undefined)
  switch (known?.as) {
    case "again":
      return { outcome: "again", why, ...((after ?? known.after) ? { after: (after ?? known.after)! } : {}) }
    case "lockedOut":
      return {
        outcome: "lockedOut",
        why: `${provider} no longer lets this channel in (${why})`,
        remedy:
          known.remedy ?? "Make a new token at the provider, set it as the channel's secret, and check the channel.",
      }
    default:
      return { outcome: "refused", why, ...(known?.remedy ? { remedy: known.remedy } : {}) }
  }
}

/** No answer came: a doubt when the request may have arrived. */
export function withoutAnswer(answer: { failure: string; sent: boolean }, provider: string): Outcome {
  return answer.sent
    ? { outcome: "unclear", why: `the answer never came: ${answer.failure}` }
    : { outcome: "again", why: `${provider} could not be reached: ${answer.failure}` }
}

/** An error answer that says nothing in the provider's own form. */
export function withoutWords(
  { status, headers, body }: Exclude<ProviderAnswer, { failure: string }>,
  provider: string,
): Outcome {
  const said = body.trim() === "" ? "" : `: ${excerpt(body)}`
  const after = retryAfter(headers)
  if (status === 429) return { outcome: "again", why: `${provider} asks for a pause`, ...(after ? { after } : {}) }
  // A gateway in between lost its way; what stands behind it may have taken the call.
  if (status === 502 || status === 504) return { outcome: "unclear", why: `a gateway answered ${status}` }
  if (status >= 500)
    return { outcome: "again", why: `${provider} answered ${status}${said}`, ...(after ? { after } : {}) }
  if (status === 401) {
    return {
      outcome: "lockedOut",
      why: `${provider} no longer accepts the key (answer 401)`,
      remedy: "Make a new key at the provider, set it as the channel's secret, and check the channel.",
    }
  }
  return { outcome: "refused", why: `${provider} answered ${status}${said}` }
}

/** As much of what a provider said as a person reads. */
export function excerpt(text: string): string {
  const flat = text.slice(0, 2000).replace(/\s+/g, " ").trim()
  return flat.length > 300 ? `${flat.slice(0, 299)}…` : flat
}

export function retryAfter(headers: { [name: string]: string }): number | undefined {
  const seconds = Number(headers["retry-after"] ?? Number.NaN)
  return seconds > 0 ? seconds : undefined
}

export function readAnswer(body: string): JsonObject | undefined {
  try {
    const read = readJson(Buffer.from(body))
    return isObject(read) ? read : undefined
  } catch {
    return undefined
  }
}

/** A fault met while asking about an account, as a check shows it. */
export function accountFault(outcome: Outcome): { fault: string; remedy: string; lockedOut: boolean } {
  if (outcome.outcome === "lockedOut") return { fault: outcome.why, remedy: outcome.remedy, lockedOut: true }
  const fault = "why" in outcome ? outcome.why : "the answer does not say who the keys belong to"
  const remedy =
    outcome.outcome === "refused" && outcome.remedy ? outcome.remedy : "Check apiBase and the network, then try again."
  return { fault, remedy, lockedOut: false }
}
