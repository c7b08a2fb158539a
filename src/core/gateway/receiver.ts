import type { Profile } from "./profile.ts"

/**
 * Whether a profile sends messages by a call that does not say whom they are for: neither `{to}` stands in it, nor a value
 * of the call that is answered. A setting is the same for everybody, so it names no receiver. Whoever wrote `to: none` has
 * said that the gateway needs none.
 */
export function lacksReceiver({ outbound }: Profile): boolean {
  if (!outbound || outbound.to === "none") return false
  const { address, headers, send } = outbound
  return !/\{(to(:number)?|in:[^{}]+)\}/.test(JSON.stringify([address, headers, send]))
}

/** What is wrong with such a profile, and what to do. */
export const noReceiver = {
  says: "what is sent does not say whom it is for: it would all go to the same place",
  remedy:
    'Write "{to}" where the receiver stands, in the address or in send. Where the gateway needs none, such as one that knows a single conversation, write to: none.',
}
