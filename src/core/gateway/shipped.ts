import type { Channel } from "../channels/kind.ts"
import type { Profile } from "./profile.ts"
import formGateway from "./profiles/form-gateway.yaml"
import omaMessaging from "./profiles/oma-messaging.yaml"
import plainJson from "./profiles/plain-json.yaml"
import { readProfile } from "./readProfile.ts"

/** The gateway profiles that ship, by name, as they are written. */
export const shippedSources: { [name: string]: string } = {
  "form-gateway": formGateway,
  "plain-json": plainJson,
  "oma-messaging": omaMessaging,
}

/** The gateway profiles that ship, by name. */
export const profiles: { [name: string]: Profile } = Object.fromEntries(
  Object.values(shippedSources).map((source) => {
    const read = readProfile(source)
    if ("faults" in read) throw new Error(`a shipped profile does not read: ${JSON.stringify(read.faults)}`)
    return [read.profile.profile, read.profile]
  }),
)

/** The profile a channel speaks by: its own, or one that ships. */
export function profileOf(channel: Channel): Profile {
  const found = channel.profile ?? profiles[String(channel.settings.profile)]
  if (!found) throw new NoProfile(channel.key, channel.settings.profile)
  return found
}

/** Whether a channel has a profile at all; one that is still to learn has none. */
export function hasProfile(channel: Channel): boolean {
  return channel.profile !== undefined || Object.hasOwn(profiles, String(channel.settings.profile))
}

export class NoProfile extends Error {
  constructor(channel: string, profile: unknown) {
    super(
      profile === undefined
        ? `The channel "${channel}" has no gateway profile yet.`
        : `There is no gateway profile "${String(profile)}".`,
    )
  }
}
