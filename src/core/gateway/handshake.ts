import type { Channel } from "../channels/kind.ts"
import type { InboundCall, InletAnswer } from "../channels/call.ts"
import { contentOf } from "./content.ts"
import { textAt } from "./fields.ts"
import { hasProfile, profileOf } from "./shipped.ts"

/** What a gateway's handshake wants to hear back; nothing when the call is none. */
export function handshakeIn(call: InboundCall, channel: Channel): string | undefined {
  if (!hasProfile(channel)) return undefined
  const { handshake, body } = profileOf(channel).inbound ?? {}
  if (!handshake || !body || handshake.method !== call.method) return undefined
  if (call.method === "GET") {
    const query = call.address.split("?")[1]
    return query === undefined
      ? undefined
      : textAt({ form: Object.fromEntries(new URLSearchParams(query)) }, handshake.echo, channel.settings)
  }
  const content = contentOf(call, body)
  return "unreadable" in content ? undefined : textAt(content, handshake.echo, channel.settings)
}

/** Whether a GET is the gateway's: its handshake, or a message that it brings in the query of an address. */
export function isHandshake(call: InboundCall, channel: Channel): boolean {
  if (!hasProfile(channel) || !call.address.includes("?")) return false
  if (handshakeIn(call, channel) !== undefined) return true
  const { inbound } = profileOf(channel)
  if (!inbound) return false
  const { body, message, status } = inbound
  const content = contentOf(call, body)
  if ("unreadable" in content) return false
  return [message.from, status?.status].some((where) => textAt(content, where, channel.settings) !== undefined)
}

export function echoed(echo: string): InletAnswer {
  return { status: 200, headers: { "content-type": "text/plain; charset=utf-8" }, body: echo }
}
