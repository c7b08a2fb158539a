import { excerpt, readAnswer, retryAfter, withoutAnswer, withoutWords } from "../channels/graphErrors.ts"
import type { Channel, Outcome } from "../channels/kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../channels/call.ts"
import { at, textAt, wordAt } from "./fields.ts"
import type { Conditions, Profile } from "./profile.ts"
import { meaningOfState } from "./accountState.ts"
import { profileOf } from "./shipped.ts"
import { readXml } from "./xml.ts"

export function judge(_call: OutgoingCall, answer: ProviderAnswer, channel: Channel): Outcome {
  return judgeAnswer(answer, channel)
}

/** What a gateway's answer means, as its profile says; what it does not say is judged by the status code. */
export function judgeAnswer(answer: ProviderAnswer, channel: Channel): Outcome {
  if ("failure" in answer) return withoutAnswer(answer, "The gateway")
  return judgeStatus(answer, channel)
}

export function judgeStatus(answer: Extract<ProviderAnswer, { status: number }>, channel: Channel): Outcome {
  const { outbound } = profileOf(channel)
  const read = outbound?.answer.body === "xml" ? xmlIn(answer.body) : readAnswer(answer.body)
  const source = { json: read }
  const { settings } = channel
  const { state } = profileOf(channel)
  const word = wordAt(source, state?.answer, settings)
  const alarm = word === undefined ? undefined : meaningOfState(word, undefined, channel)?.alarm
  if (alarm) return { outcome: "lockedOut", why: alarm.says, remedy: alarm.remedy, forState: true }
  const code = wordAt(source, outbound?.answer.code, settings)
  const says = wordsIn(at(source, outbound?.answer.says, settings))
  const known = meaningOf(outbound, code)
  const refused = refusedIn(source, outbound?.answer.refused, settings)
  if (answer.status >= 200 && answer.status < 300 && known === undefined && refused === undefined) {
    const providerId = textAt(source, outbound?.answer.id, settings) ?? answer.headers.location
    const isRead = outbound?.answer.id !== undefined || outbound?.answer.refused !== undefined
    if (read === undefined && isRead && answer.body.trim() !== "")
      return { outcome: "unclear", why: `an answer ${answer.status} that cannot be read` }
    return { outcome: "accepted", ...(providerId ? { providerId } : {}) }
  }
  if (read === undefined) return withoutWords(answer, "The gateway")
  // Where the profile names no place for them, the gateway's own words are what it answered.
  const own =
    says ?? refused ?? (answer.body.trim() === "" ? undefined : `answer ${answer.status}: ${excerpt(answer.body)}`)
  const why = `${own ?? `answer ${answer.status}`}${code && !own?.includes(code) ? ` (code ${code})` : ""}`
  const after = retryAfter(answer.headers)
  const meaning = known ?? (answer.status < 300 ? "refused" : byStatus(answer.status))
  if (meaning === "again") return { outcome: "again", why, ...(after ? { after } : {}) }
  if (meaning === "lockedOut") {
    return {
      outcome: "lockedOut",
      why: `the gateway no longer lets this channel in (${why})`,
      remedy: "Look at the account at the gateway, set its keys again, and check the channel.",
    }
  }
  return { outcome: "refused", why }
}

/** What says that a gateway refused a message although its status code does not; nothing where it took it. */
export function refusedIn(
  source: { json: unknown },
  conditions: Conditions | undefined,
  settings: Channel["settings"],
): string | undefined {
  for (const [where, values] of Object.entries(conditions ?? {})) {
    const found = at(source, where, settings)
    const word = typeof found === "object" ? "" : String(found as string | number | boolean).toLowerCase()
    const isRefusal = values.some((value) =>
      value === true ? saysSomething(found) : word === String(value).toLowerCase() || (value === false && word === "0"),
    )
    if (isRefusal) return wordsIn(source.json) ?? `its answer has ${where}: ${word}`
  }
  return undefined
}

/** Whether a value is more than a way to say that there is nothing. */
function saysSomething(value: unknown): boolean {
  if (value === undefined || value === null) return false
  if (typeof value === "object") return Object.keys(value).length > 0
  return !/^(|0|false|no|none|null|ok)$/i.test(String(value as string | number | boolean))
}

/** The words at a place, which may hold a list of them, or things with words in them. */
function wordsIn(value: unknown, depth = 0): string | undefined {
  if (typeof value === "string") return value.trim() === "" ? undefined : excerpt(value)
  if (typeof value === "number") return String(value)
  if (typeof value !== "object" || value === null || depth > 3) return undefined
  const words = Object.values(value)
    .slice(0, 20)
    .map((one) => wordsIn(one, depth + 1))
    .filter((one) => one !== undefined)
  return words.length === 0 ? undefined : excerpt([...new Set(words)].join("; "))
}

function xmlIn(body: string): unknown {
  try {
    return readXml(body)
  } catch {
    return undefined
  }
}

function meaningOf(
  outbound: Profile["outbound"],
  code: string | undefined,
): "refused" | "lockedOut" | "again" | undefined {
  if (code === undefined) return undefined
  for (const meaning of ["refused", "lockedOut", "again"] as const)
    if (outbound?.codes?.[meaning]?.some((one) => String(one) === code)) return meaning
  return undefined
}

function byStatus(status: number): "refused" | "lockedOut" | "again" {
  if (status === 401) return "lockedOut"
  return status === 429 || status >= 500 ? "again" : "refused"
}
