import type { Channel, Verdict } from "../kind.ts"
import type { InboundCall } from "../call.ts"
import type { Proof } from "../../signature/proof.ts"
import { sameWord } from "../../signature/secretWord.ts"

const header = "x-telegram-bot-api-secret-token"

/** Telegram signs nothing: it repeats the word given with setWebhook in a header. */
export function verify(call: InboundCall, channel: Channel): Verdict {
  const agreed = channel.secrets.hookSecret
  const given = call.headers[header]
  if (agreed === undefined) {
    return {
      genuine: false,
      byHead: true,
      why: "this channel has no hookSecret to compare with",
      remedy: `Run "wobbet channel connect ${channel.key}": it makes one and registers it.`,
    }
  }
  if (given === undefined) {
    return {
      genuine: false,
      byHead: true,
      why: "the call has no secret header",
      remedy: `Telegram sends it only once a secret is registered: run "wobbet channel connect ${channel.key}".`,
    }
  }
  if (sameWord(given, agreed)) return { genuine: true, by: "secret header" }
  return {
    genuine: false,
    byHead: true,
    why: "the secret header holds another word than this channel's hookSecret",
    remedy: `If Telegram sent it, register again: "wobbet channel connect ${channel.key}". If not, somebody is guessing.`,
  }
}

export function proof(call: InboundCall): Proof | undefined {
  const given = call.headers[header]
  return given === undefined ? undefined : { by: "word", secret: "hookSecret", given }
}
