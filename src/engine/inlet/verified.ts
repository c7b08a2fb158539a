import type { InboundCall } from "../../core/channels/call.ts"
import type { Verdict } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { KnownChannel } from "../channels.ts"

/** Whether a call is genuine: under the channel's secrets, or under those they replaced and that still count. */
export function verified(known: KnownChannel, call: InboundCall, now: Date): Verdict {
  const { channel, former } = known
  const kind = kindOf(known.row.kind)
  const verdict = kind.verify(call, channel, now)
  if (verdict.genuine || Object.keys(former).length === 0) return verdict
  const earlier = kind.verify(call, { ...channel, secrets: { ...channel.secrets, ...former } }, now)
  if (!earlier.genuine) return verdict
  return { genuine: true, by: `${earlier.by}, under the former ${Object.keys(former).join(" or ")}` }
}
