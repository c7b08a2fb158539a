import { callsOf } from "../gateway/callsOf.ts"
import type { Profile } from "../gateway/profile.ts"
import { fillTemplate } from "../gateway/fields.ts"
import { hasProfile, profileOf } from "../gateway/shipped.ts"
import type { Channel } from "./kind.ts"

/**
 * Where a channel's keys may go: the origin of its apiBase, what its kind or its gateway's profile lists, and what its
 * setting keyHosts adds. Compared as origins, after parsing: `http://api.example@elsewhere.example/` is elsewhere.
 */
export function keyHosts(
  channel: Pick<Channel, "kind" | "settings" | "profile">,
  listed: readonly string[] = [],
): string[] {
  const { settings } = channel
  const added = String(settings.keyHosts ?? "").split(/[,\s]+/)
  const profile = hasProfile(channel as Channel) ? profileOf(channel as Channel) : undefined
  const addresses = profile ? addressesOf(profile).map((one) => fillTemplate(one, settings)) : []
  const own = [String(settings.apiBase ?? ""), ...added, ...addresses].flatMap((one) => originOf(one) ?? [])
  return [...new Set([...own, ...listed])]
}

/** Whether keys may go to an address, by the list above; `https://*.example.org` stands for every host under it. */
export function mayHaveKeys(address: string, hosts: readonly string[]): boolean {
  const origin = originOf(address)
  if (origin === undefined) return false
  return hosts.some((host) => {
    const under = /^https:\/\/\*(\.[a-z0-9.-]+)$/.exec(host)?.[1]
    return under === undefined ? host === origin : origin.startsWith("https://") && origin.endsWith(under)
  })
}

/** An http address's scheme, host and port; undefined for anything else, and where a name or password stands in it. */
function originOf(address: string): string | undefined {
  if (!URL.canParse(address)) return undefined
  const { protocol, origin, username, password } = new URL(address)
  return /^https?:$/.test(protocol) && username === "" && password === "" ? origin : undefined
}

/** Whether a secret may stand in a call to the provider; of a gateway's, its profile says which do. */
export function isSent(secret: string, profile: Profile | undefined): boolean {
  if (!profile) return true
  const calls = JSON.stringify(callsOf(profile))
  if (calls.includes(`"${secret}"`) || calls.includes(`{${secret}}`)) return true
  // Our address may be told with the word in it by which calls are proven.
  const inAddress = profile.inbound?.verify.some((one) => one.secret === secret && one.scheme === "word" && one.query)
  return inAddress === true && calls.includes("{inlet}")
}

function addressesOf(profile: Profile): string[] {
  return callsOf(profile).map(({ address }) => address)
}
