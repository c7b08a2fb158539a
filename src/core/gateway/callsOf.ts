import type { Calling, Profile } from "./profile.ts"

/** Every call to the gateway that a profile describes. */
export function callsOf({ outbound, queue, check, register, fetch, history, find }: Profile): Calling[] {
  const { amend, remove, react, typing } = outbound ?? {}
  const all = [outbound, amend, remove, react, typing, queue?.ask, queue?.remove, check, fetch, history, find]
  return [...all, ...(register?.set ?? []), register?.read, register?.remove].filter((one) => one !== undefined)
}
