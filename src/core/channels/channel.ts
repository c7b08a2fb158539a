import type { Profile } from "../gateway/profile.ts"

/** A channel as the pure rooms see it. Secrets are here for `verify` only; rendered calls name them. */
export interface Channel {
  key: string
  kind: string
  settings: { [name: string]: unknown }
  secrets: { [name: string]: string }
  identity?: Identity
  /** How its gateway speaks, where that is no profile that ships. */
  profile?: Profile
  /** Where the provider reaches this service: scheme, host and port. */
  publicBase?: string
}

/** Who a channel's keys belong to at the provider. */
export interface Identity {
  id: string
  name?: string
  handle?: string
  /** Other ids by which the provider names the same account. */
  also?: string[]
  /** Things worth knowing, in words. */
  remarks?: string[]
  /** Permissions the keys lack and without which the channel does not work, by the provider's names. */
  missing?: string[]
  /** What keeps the account from sending or receiving although its keys work, in words. */
  restricted?: string[]
}
