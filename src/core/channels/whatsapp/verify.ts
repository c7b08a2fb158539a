import { verifyHub } from "../../signature/hubSignature.ts"
import type { Channel, InboundCall, Verdict } from "../kind.ts"

export function verify(call: InboundCall, channel: Channel): Verdict {
  return verifyHub(call, channel, "WhatsApp")
}

export { hubProof as proof } from "../../signature/hubSignature.ts"
