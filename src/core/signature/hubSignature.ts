import type { Channel, Verdict } from "../channels/kind.ts"
import type { InboundCall, InletAnswer } from "../channels/call.ts"
import { hmacOf, sameHmac } from "./hmac.ts"
import type { Proof } from "./proof.ts"
import { sameWord, wordDifference } from "./secretWord.ts"

const header = "x-hub-signature-256"

/**
 * What WhatsApp and Messenger share: a handshake by GET that repeats an agreed word (`hub.verify_token`), and calls
 * signed over their raw bytes with the app's secret. The bytes count as sent: characters stand escaped in them, and a
 * rewritten body does not match.
 */
export function isHubHandshake(call: InboundCall): boolean {
  return call.method === "GET" && queryOf(call).has("hub.mode")
}

export function verifyHub(call: InboundCall, channel: Channel, provider: string): Verdict {
  return call.method === "GET" ? verifyHandshake(call, channel) : verifySignature(call, channel, provider)
}

function verifyHandshake(call: InboundCall, channel: Channel): Verdict {
  const query = queryOf(call)
  const given = query.get("hub.verify_token") ?? ""
  const agreed = channel.secrets.verifyToken ?? ""
  if (query.get("hub.mode") !== "subscribe" || query.get("hub.challenge") === null) {
    return {
      genuine: false,
      why: "a handshake without hub.mode=subscribe and a hub.challenge",
      remedy: "Only the provider's own handshake is answered. Let it verify the address again.",
    }
  }
  if (agreed !== "" && sameWord(given, agreed)) return { genuine: true, by: "the handshake's word" }
  return {
    genuine: false,
    why: `the handshake's word is not this channel's verifyToken: ${wordDifference(given, agreed)}`,
    remedy: `Enter the same word on both sides: at the provider as the verify token, here as the secret verifyToken.`,
  }
}

function verifySignature(call: InboundCall, channel: Channel, provider: string): Verdict {
  const given = call.headers[header]
  const key = channel.secrets.appSecret ?? ""
  if (given === undefined) {
    return {
      genuine: false,
      byHead: true,
      why: `the call has no signature (${header})`,
      remedy: `${provider} signs every call. Does something in between take headers away, or did somebody else call?`,
    }
  }
  const [scheme, hex] = given.split("=", 2)
  if (scheme !== "sha256" || hex === undefined || !/^[0-9a-f]{64}$/i.test(hex)) {
    return {
      genuine: false,
      byHead: true,
      why: "the signature is not of the form sha256=<64 hexadecimal digits>",
      remedy: `${provider} writes it so. Does something in between change headers?`,
    }
  }
  if (sameHmac(hex, { algorithm: "sha256", key, encoding: "hex", over: [call.body] }))
    return { genuine: true, by: "signature (HMAC-SHA256 of the body)" }
  return {
    genuine: false,
    why: "the signature does not match the body under this channel's appSecret",
    remedy:
      "Compare appSecret with the app's settings at the provider, and see that nothing in between rewrites bodies.",
  }
}

/** How a call of these states that it is genuine; nothing where it does not state it in the form that is compared. */
export function hubProof(call: InboundCall): Proof | undefined {
  if (call.method === "GET") {
    const given = queryOf(call).get("hub.verify_token")
    return given === null ? undefined : { by: "word", secret: "verifyToken", given }
  }
  const given = call.headers[header]
  if (given === undefined) return undefined
  return {
    by: "digest",
    secret: "appSecret",
    given: given.replace(/^sha256=/, ""),
    algorithm: "sha256",
    encoding: "hex",
    covers: { body: true },
    digest: (secret, seen, algorithm) => hmacOf(algorithm, secret, [seen.body]),
  }
}

/** The answer to a handshake: its challenge, as it came. */
export function hubChallenge(call: InboundCall): InletAnswer {
  const challenge = queryOf(call).get("hub.challenge") ?? ""
  return { status: 200, headers: { "content-type": "text/plain; charset=utf-8" }, body: challenge }
}

function queryOf(call: InboundCall): URLSearchParams {
  const at = call.address.indexOf("?")
  return new URLSearchParams(at === -1 ? "" : call.address.slice(at + 1))
}
