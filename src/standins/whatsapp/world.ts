import type { Hook } from "../shared/hub.ts"

export interface WhatsAppScene {
  account: string
  number: World["number"]
  token: string
  appSecret: string
  people: { id: string; name: string }[]
}

export interface World {
  account: string
  number: { id: string; display: string; name: string }
  token: string
  appSecret: string
  hook: Hook | undefined
  /** What the token may do. */
  permissions: string[]
  /** The number's, as the provider names it. */
  state: string
  templates: Map<string, { name: string; language: string; status: string; parameters: number; id: number }>
  media: Map<string, { mime: string; content: Buffer }>
  /** What people see of the business. */
  profile: { about?: string; description?: string }
  commands: object[]
  /** When each person last wrote: the window for free words is open for a day. */
  heard: Map<string, number>
  /** Milliseconds until a message is delivered, and read; people who read nothing are not in here. */
  pace: { delivered: number; read: number }
  readers: Set<string>
}
