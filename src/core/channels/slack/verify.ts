import { hmacOf, sameHmac } from "../../signature/hmac.ts"
import type { Proof } from "../../signature/proof.ts"
import type { Channel, Verdict } from "../kind.ts"
import type { InboundCall } from "../call.ts"

/** Minutes a call's own time may be away from ours. */
const freshness = 5

/** `v0=` and the HMAC-SHA256 of `v0:<time>:<body>` under the signing secret. */
export function verify(call: InboundCall, channel: Channel, now: Date): Verdict {
  const given = call.headers["x-slack-signature"]
  const time = call.headers["x-slack-request-timestamp"]
  if (given === undefined || time === undefined) {
    return {
      genuine: false,
      byHead: true,
      why: `the call has no ${given === undefined ? "signature (x-slack-signature)" : "time (x-slack-request-timestamp)"}`,
      remedy: "Slack signs every call. Does something in between take headers away, or did somebody else call?",
    }
  }
  const hex = /^v0=([0-9a-f]{64})$/i.exec(given)?.[1]
  const seconds = /^\d{1,12}$/.test(time) ? Number(time) : undefined
  if (hex === undefined || seconds === undefined) {
    return {
      genuine: false,
      byHead: true,
      why: "the signature is not of the form v0=<64 hexadecimal digits>, or the time is not a number of seconds",
      remedy: "Slack writes them so. Does something in between change headers?",
    }
  }
  const key = channel.secrets.signingSecret ?? ""
  const genuine = sameHmac(hex, { algorithm: "sha256", key, encoding: "hex", over: [`v0:${time}:`, call.body] })
  if (!genuine) {
    return {
      genuine: false,
      why: "the signature does not match the body under this channel's signingSecret",
      remedy: "Compare signingSecret with the app's basic information at Slack, and see that nothing rewrites bodies.",
    }
  }
  const minutes = (now.getTime() / 1000 - seconds) / 60
  if (Math.abs(minutes) > freshness) {
    const off = Math.round(Math.abs(minutes))
    return {
      genuine: false,
      why: `the signature is right, but its time is ${off} minutes ${minutes > 0 ? "old" : "ahead"}`,
      remedy: `Set this machine's clock, if it is off. An old call sent again by somebody is refused on purpose.`,
      near: `It would match if the clocks agreed: yours is ${off} minutes ${minutes > 0 ? "ahead of" : "behind"} the call's.`,
    }
  }
  return { genuine: true, by: "signature (HMAC-SHA256 of time and body)" }
}

export function proof(call: InboundCall): Proof | undefined {
  const given = call.headers["x-slack-signature"]
  const time = call.headers["x-slack-request-timestamp"]
  if (given === undefined || time === undefined) return undefined
  return {
    by: "digest",
    secret: "signingSecret",
    given: given.replace(/^v0=/, ""),
    algorithm: "sha256",
    encoding: "hex",
    covers: { body: true },
    digest: (secret, seen, algorithm) => hmacOf(algorithm, secret, [`v0:${time}:`, seen.body]),
  }
}
