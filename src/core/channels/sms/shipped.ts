import type { Channel } from "../kind.ts"
import type { Profile } from "./profile.ts"
import { readProfile } from "./profile.ts"
import formGateway from "./profiles/form-gateway.yaml"
import omaMessaging from "./profiles/oma-messaging.yaml"
import plainJson from "./profiles/plain-json.yaml"

/** The gateway profiles that ship, by name. */
export const profiles: { [name: string]: Profile } = Object.fromEntries(
  [formGateway, plainJson, omaMessaging].map((source) => {
    const read = readProfile(source)
    if ("faults" in read) throw new Error(`a shipped profile does not read: ${JSON.stringify(read.faults)}`)
    return [read.profile.profile, read.profile]
  }),
)

export function profileOf(channel: Channel): Profile {
  const found = profiles[String(channel.settings.profile)]
  if (!found) throw new Error(`There is no gateway profile "${String(channel.settings.profile)}".`)
  return found
}
