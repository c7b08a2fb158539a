import { hubChallenge } from "../../signature/hubSignature.ts"
import type { Parsed } from "../kind.ts"
import type { InboundCall, InletAnswer } from "../call.ts"

export function acknowledge(call: InboundCall, _parsed: Parsed): InletAnswer {
  return call.method === "GET" ? hubChallenge(call) : { status: 200 }
}
