import { hubChallenge } from "../../signature/hubSignature.ts"
import type { InboundCall, InletAnswer, Parsed } from "../kind.ts"

export function acknowledge(call: InboundCall, _parsed: Parsed): InletAnswer {
  return call.method === "GET" ? hubChallenge(call) : { status: 200, body: "EVENT_RECEIVED" }
}
