import type { Channel, InboundCall, InletAnswer, Parsed } from "../kind.ts"
import { profileOf } from "./shipped.ts"

export function acknowledge(_call: InboundCall, _parsed: Parsed, channel: Channel): InletAnswer {
  const { status, type, text } = profileOf(channel).inbound.answer
  return {
    status,
    ...(type ? { headers: { "content-type": type } } : {}),
    ...(text !== undefined ? { body: text } : {}),
  }
}
