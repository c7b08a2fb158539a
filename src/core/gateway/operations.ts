import type { Operation, Operations, OperationWord } from "../channels/operations.ts"
import { callBelow } from "../channels/operations.ts"
import { headersOf } from "./calls.ts"
import type { Calling, Profile } from "./profile.ts"
import { hasProfile, profileOf } from "./shipped.ts"

/** The calls a gateway's profile describes, and any path below its apiBase. */
export const operations: Operations = {
  known: (channel) => (hasProfile(channel) ? described(profileOf(channel)) : []),
  call(wanted, channel) {
    const profile = hasProfile(channel) ? profileOf(channel) : undefined
    const like = profile?.outbound ?? profile?.queue?.ask ?? profile?.check
    return callBelow(wanted, channel, {
      base: [{ setting: "apiBase" }],
      ...(like ? headersOf(like, channel) : {}),
      body: profile?.outbound?.body === "form" ? "form" : "json",
    })
  },
}

function described({ check, register, find, history, outbound, secrets }: Profile): Operation[] {
  const calls: [name: string, says: string, calling: Calling | undefined, word?: OperationWord][] = [
    ["check", "who the keys belong to", check, "me"],
    ["register.read", "which address is on record", register?.read, "record"],
    ["find", "what became of one message", find, "status"],
    ["history", "what was said before", history],
    ["outbound", "a message, past the line and its order", outbound],
  ]
  return calls.flatMap(([name, says, calling, word]): Operation[] => {
    const path = calling && pathOf(calling)
    if (calling === undefined || path === undefined) return []
    const fields = [...path.matchAll(/\{(\w+)\}/g)]
      .map(([, field]) => field!)
      .filter((field) => !Object.hasOwn(secrets, field))
    const sent = calling === outbound ? Object.keys(outbound.send) : []
    return [{ name, says, method: calling.method, path, fields: [...fields, ...sent], ...(word ? { word } : {}) }]
  })
}

/** The part of a call's address below apiBase; none where it lies elsewhere. */
function pathOf({ address }: Calling): string | undefined {
  return /^\{apiBase\}\/?(.*)$/.exec(address)?.[1]
}
