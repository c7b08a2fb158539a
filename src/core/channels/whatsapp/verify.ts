import { verifyHub } from "../../signature/hubSignature.ts"
import type { Channel, Verdict } from "../kind.ts"
import type { InboundCall } from "../call.ts"

export function verify(call: InboundCall, channel: Channel): Verdict {
  return verifyHub(call, channel, "WhatsApp")
}

export { hubProof as proof } from "../../signature/hubSignature.ts"
