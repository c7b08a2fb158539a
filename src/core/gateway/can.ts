import type { Channel, Further } from "../channels/kind.ts"
import { speaks } from "./send.ts"
import { hasProfile, profileOf } from "./shipped.ts"

/** What a channel cannot do because its profile says nothing of it, in words. */
export function cannot(channel: Channel): { receive?: string; send?: string } {
  if (!hasProfile(channel))
    return { send: "it has no gateway profile yet, and learns one from a call (wobbet channel learn)" }
  const profile = profileOf(channel)
  return {
    ...(profile.inbound ? {} : { receive: "it only sends: its gateway's profile has no inbound" }),
    ...(speaks(profile) ? {} : { send: "it only receives: its gateway's profile has no outbound" }),
  }
}

/** What may be said along with a message, and which other fields of a call reach handlers. */
export function further(channel: Channel): { extras: Further[]; fields: string[] } {
  if (!hasProfile(channel)) return { extras: [], fields: [] }
  const { outbound, inbound } = profileOf(channel)
  return {
    extras: Object.entries(outbound?.extra ?? {}).map(([name, { says }]) => ({ name, says })),
    fields: Object.keys(inbound?.message.fields ?? {}),
  }
}
