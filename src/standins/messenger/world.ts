import type { Hook } from "../shared/hub.ts"

export interface MessengerScene {
  page: { id: string; name: string }
  token: string
  appSecret: string
  people: { id: string; name: string }[]
}

export interface World extends Omit<MessengerScene, "people"> {
  hook: Hook | undefined
  /** What the token may do. */
  permissions: string[]
  fields: string[]
  attachments: Map<string, { mime: string; content: Buffer }>
  /** Greeting, commands and the like. */
  profile: { [property: string]: unknown }
  heard: Map<string, number>
  pace: { delivered: number; read: number }
}
