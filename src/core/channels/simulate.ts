import type { InboundCall } from "./call.ts"
import type { Channel } from "./channel.ts"
import { hmacOf } from "../signature/hmac.ts"

/** What a person would say to try a bot, and as whom. */
export interface Said {
  text?: string
  /** An option that is pressed, by its id. */
  press?: string
  media?: { ref: string; mime: string; name: string; size: number }
  from: { address: string; name: string }
  /** A group's address; without it, the person speaks alone with the bot. */
  place?: string
  /** What the provider would number this call and its message with: differs for each. */
  number: number
}

/** Makes calls as a provider would make them. Pure: time and numbers are given. */
export interface Simulation {
  /** Whom it is said as where nobody is named: a person the provider could have. */
  person: string
  /** The call, before it proves that it is genuine. */
  call(said: Said, channel: Channel, now: Date): Unsigned
  /** The same with what the provider proves its calls with. */
  sign(call: Unsigned, channel: Channel, now: Date): InboundCall
}

/** A call without its address and its proof. */
export interface Unsigned {
  type: string
  body: string
}

export function unsigned(type: "json" | "form" | "xml", body: string): Unsigned {
  const types = { json: "application/json", form: "application/x-www-form-urlencoded", xml: "application/xml" }
  return { type: types[type], body }
}

export function seconds(now: Date): number {
  return Math.floor(now.getTime() / 1000)
}

/** A call at the channel's inlet. */
export function atInlet({ type, body }: Unsigned, channel: Channel, headers: InboundCall["headers"]): InboundCall {
  return {
    method: "POST",
    address: `/in/${channel.key}`,
    headers: { "content-type": type, "user-agent": "simulated", ...headers },
    body: Buffer.from(body),
  }
}

/** Signed as WhatsApp and Messenger sign: over the bytes as sent, characters beyond ASCII escaped. */
export function hubSigned(call: Unsigned, channel: Channel): InboundCall {
  const body = call.body.replace(/[\u0080-\uffff]/g, (sign) => `\\u${sign.charCodeAt(0).toString(16).padStart(4, "0")}`)
  const made = atInlet({ ...call, body }, channel, {})
  const digest = hmacOf("sha256", channel.secrets.appSecret ?? "", [made.body]).toString("hex")
  return { ...made, headers: { ...made.headers, "x-hub-signature-256": `sha256=${digest}` } }
}
