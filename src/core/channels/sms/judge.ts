import { readAnswer, retryAfter, withoutAnswer, withoutWords } from "../graphErrors.ts"
import type { Channel, Outcome, OutgoingCall, ProviderAnswer } from "../kind.ts"
import { textAt } from "./fields.ts"
import type { Profile } from "./profile.ts"
import { profileOf } from "./shipped.ts"

export function judge(_call: OutgoingCall, answer: ProviderAnswer, channel: Channel): Outcome {
  return judgeAnswer(answer, channel)
}

/** What a gateway's answer means, as its profile says; what it does not say is judged by the status code. */
export function judgeAnswer(answer: ProviderAnswer, channel: Channel): Outcome {
  const profile = profileOf(channel)
  if ("failure" in answer) return withoutAnswer(answer, "The gateway")
  const json = readAnswer(answer.body)
  const source = { json }
  const { settings } = channel
  const { outbound } = profile
  const code = textAt(source, outbound.answer.code, settings)
  const says = textAt(source, outbound.answer.says, settings)
  if (answer.status >= 200 && answer.status < 300) {
    const providerId = textAt(source, outbound.answer.id, settings) ?? answer.headers.location
    if (json === undefined && outbound.answer.id !== undefined && answer.body.trim() !== "")
      return { outcome: "unclear", why: `an answer ${answer.status} that cannot be read` }
    return { outcome: "accepted", ...(providerId ? { providerId } : {}) }
  }
  if (json === undefined) return withoutWords(answer.status, answer.headers, "The gateway")
  const why = `${says ?? `answer ${answer.status}`}${code ? ` (code ${code})` : ""}`
  const after = retryAfter(answer.headers)
  const meaning = meaningOf(profile, code) ?? byStatus(answer.status)
  if (meaning === "again") return { outcome: "again", why, ...(after ? { after } : {}) }
  if (meaning === "lockedOut") {
    return {
      outcome: "lockedOut",
      why: `the gateway no longer lets this channel in (${why})`,
      remedy: "Look at the account at the gateway, set its keys anew, and check the channel.",
    }
  }
  return { outcome: "refused", why }
}

function meaningOf(profile: Profile, code: string | undefined): "refused" | "lockedOut" | "again" | undefined {
  if (code === undefined) return undefined
  for (const meaning of ["refused", "lockedOut", "again"] as const)
    if (profile.outbound.codes?.[meaning]?.some((one) => String(one) === code)) return meaning
  return undefined
}

function byStatus(status: number): "refused" | "lockedOut" | "again" {
  if (status === 401) return "lockedOut"
  return status === 429 || status >= 500 ? "again" : "refused"
}
