import { readAnswer, retryAfter, withoutAnswer, withoutWords } from "../graphErrors.ts"
import type { Outcome } from "../kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../call.ts"
import { idAt, objectAt, textAt } from "../../message/json.ts"

export function judge(made: OutgoingCall, answer: ProviderAnswer): Outcome {
  const outcome = judgeAnswer(answer)
  // What was to be taken away is gone already.
  const gone = outcome.outcome === "refused" && outcome.why === "message_not_found" && made.name === "chat.delete"
  return gone ? { outcome: "accepted" } : outcome
}

/** Answers 200 with `ok`, true or false; a `response_url` answers with the word alone. */
export function judgeAnswer(answer: ProviderAnswer): Outcome {
  if ("failure" in answer) return withoutAnswer(answer, "Slack")
  const body = readAnswer(answer.body)
  const after = retryAfter(answer.headers)
  const error = textAt(body, "error")
  if (answer.status === 200 && (body?.ok === true || answer.body.trim() === "ok")) {
    const providerId = idAt(body, "ts") ?? idAt(objectAt(body, "message"), "ts")
    return { outcome: "accepted", ...(providerId ? { providerId } : {}) }
  }
  if (answer.status === 429 || error === "ratelimited" || error === "rate_limited")
    return { outcome: "again", why: "Slack asks for a pause", ...(after ? { after } : {}) }
  if (error === undefined) {
    // An address to answer at says in plain words what it does not take.
    if (answer.status === 404 || answer.status === 410)
      return { outcome: "refused", why: `Slack answered ${answer.status} ${answer.body.slice(0, 80)}`, remedy: expired }
    if (answer.status === 200) return { outcome: "unclear", why: "an answer 200 that cannot be read" }
    return withoutWords(answer, "Slack")
  }
  if (alreadySo.has(error)) return { outcome: "accepted" }
  if (passing.has(error) || answer.status >= 500) return { outcome: "again", why: error, ...(after ? { after } : {}) }
  if (lockedOut.has(error)) {
    return {
      outcome: "lockedOut",
      why: `Slack no longer accepts the token (${error})`,
      remedy: "Install the app again at Slack, set its new botToken, and check the channel.",
    }
  }
  if (error === "missing_scope") {
    const needed = textAt(body, "needed") ?? "another scope"
    return {
      outcome: "refused",
      why: `missing_scope: the token lacks ${needed}`,
      remedy: `Add the scope ${needed} to the app at Slack and install it again.`,
    }
  }
  const remedy = remedies[error]
  return { outcome: "refused", why: error, ...(remedy ? { remedy } : {}) }
}

const expired = "The address to answer at lives 30 minutes and takes 5 posts. Send the answer by hand, or drop it."
const alreadySo = new Set(["already_reacted", "no_reaction"])
const passing = new Set([
  "internal_error",
  "fatal_error",
  "service_unavailable",
  "request_timeout",
  "team_added_to_org",
])
const lockedOut = new Set([
  "invalid_auth",
  "token_revoked",
  "token_expired",
  "account_inactive",
  "not_authed",
  "org_login_required",
])
const remedies: { [error: string]: string } = {
  channel_not_found: "There is no such channel, or the bot may not see it. Invite it there.",
  not_in_channel: "The bot is not in this channel. Invite it there.",
  is_archived: "The channel is archived. Nothing can be said there.",
  user_not_found: "There is no such person any more.",
  msg_too_long: "The text is over the provider's limit. Edit it, or drop it.",
  no_text: "There is no text in it. Edit it, or drop it.",
  invalid_blocks: "The provider could not read the layout. Edit the text, or drop it.",
  cant_update_message: "Only the bot's own messages can be changed.",
  message_not_found: "The message is gone.",
}
