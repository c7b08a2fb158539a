import type { Outcome } from "../kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../call.ts"
import type { JsonObject } from "../../message/json.ts"
import { idAt, isObject, numberAt, objectAt, readJson, textAt } from "../../message/json.ts"

/** What an answer of the Bot API means for the call it answers. */
export function judge(_call: OutgoingCall, answer: ProviderAnswer): Outcome {
  if ("failure" in answer) {
    return answer.sent
      ? { outcome: "unclear", why: `the answer never came: ${answer.failure}` }
      : { outcome: "again", why: `Telegram could not be reached: ${answer.failure}` }
  }
  const body = readAnswer(answer.body)
  if (answer.status >= 200 && answer.status < 300) {
    if (body?.ok === true) return accepted(body)
    if (body?.ok !== false) return { outcome: "unclear", why: `an answer ${answer.status} that cannot be read` }
  }
  const code = numberAt(body, "error_code") ?? answer.status
  const says = textAt(body, "description") ?? `answer ${answer.status}`
  const parameters = objectAt(body, "parameters")
  const movedTo = idAt(parameters, "migrate_to_chat_id")
  if (movedTo) return { outcome: "moved", to: movedTo, why: says }
  if (code === 429) {
    const after = numberAt(parameters, "retry_after") ?? Number(answer.headers["retry-after"] ?? Number.NaN)
    return { outcome: "again", why: says, ...(after > 0 ? { after } : {}) }
  }
  if (code === 401 || code === 404) return lockedOut(code, says)
  if (code === 502 || code === 504) {
    // A gateway in between lost its way; what stands behind it may have taken the call.
    return body ? { outcome: "again", why: says } : { outcome: "unclear", why: `a gateway answered ${code}` }
  }
  if (code >= 500) return { outcome: "again", why: says }
  if (alreadySo(says)) return { outcome: "accepted" }
  const remedy = remedies.find(([pattern]) => pattern.test(says))?.[1]
  return { outcome: "refused", why: says, ...(remedy ? { remedy } : {}) }
}

export function readAnswer(body: string): JsonObject | undefined {
  try {
    const read = readJson(Buffer.from(body))
    return isObject(read) ? read : undefined
  } catch {
    return undefined
  }
}

function accepted(body: JsonObject): Outcome {
  const result = Array.isArray(body.result) ? body.result[0] : body.result
  const providerId = idAt(result, "message_id") ?? idAt(result, "message_thread_id")
  return providerId ? { outcome: "accepted", providerId } : { outcome: "accepted" }
}

export function lockedOut(code: number, says: string): Outcome & { outcome: "lockedOut" } {
  return {
    outcome: "lockedOut",
    why:
      code === 401 ? `Telegram no longer accepts the token (${says})` : `Telegram does not know this token (${says})`,
    remedy: "Get the token again from Telegram, set it as the channel's secret, and check the channel.",
  }
}

/** Answers that mean the wish was met already. */
function alreadySo(says: string): boolean {
  return /message is not modified|message to delete not found/i.test(says)
}

const remedies: [RegExp, string][] = [
  [/chat not found/i, "A bot can only write to people who wrote to it first, and to groups it is in. Is the id right?"],
  [/blocked by the user/i, "The person blocked the bot. Nothing can be sent until they unblock it."],
  [/kicked|not a member/i, "The bot is no longer in this group. Somebody there must add it again."],
  [/user is deactivated/i, "The person's account is gone."],
  [/chat is not a forum/i, "This group has no topics. Turn them on in the group, or take threads out of the relay."],
  [/thread not found/i, "This topic is gone. Drop the message, or say it in the group."],
  [/not enough rights|have no rights/i, "In this place the bot may not do this. An administrator there can allow it."],
  [/too long/i, "The text is over the provider's limit. Edit it, or drop it."],
  [/can't parse entities/i, "The provider could not read the formatting. Edit the text, or drop it."],
]
