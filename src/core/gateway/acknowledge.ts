import type { Channel, Parsed } from "../channels/kind.ts"
import type { InboundCall, InletAnswer } from "../channels/call.ts"
import { echoed, handshakeIn } from "./handshake.ts"
import { profileOf } from "./shipped.ts"

export function acknowledge(call: InboundCall, _parsed: Parsed, channel: Channel): InletAnswer {
  const { inbound } = profileOf(channel)
  const echo = inbound?.handshake && handshakeIn(call, channel)
  if (echo !== undefined) return echoed(echo)
  const { status, type, text } = inbound?.answer ?? { status: 200 }
  return {
    status,
    ...(type ? { headers: { "content-type": type } } : {}),
    ...(text !== undefined ? { body: text } : {}),
  }
}
