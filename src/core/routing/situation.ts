import type { Message } from "../message/message.ts"

/** What a decision looks at besides the message. */
export interface Situation {
  message: Message
  /** The single messages, where several were gathered: a phrase may fit one of them. */
  messages?: Message[]
  /** Left out only where a text is tried without one. */
  channel?: { key: string; kind: string }
  state: { [field: string]: unknown }
  /** ISO 8601: the time that "tomorrow" is counted from, where the message has none of its own. */
  now: string
  facts?: Facts
  /** Set where a text is tried: a condition on what is not given is open then, and nobody is told that it failed. */
  supposed?: true
}

/** What only the record knows of a conversation and a person; looked up where a bot asks for it. */
export interface Facts {
  /** How many messages of the conversation each route has taken so far. */
  taken?: { [route: string]: number }
  /** Milliseconds since anything was said in the conversation before; null where nothing was. */
  silent?: number | null
  contact?: { tags: string[]; fields: { [field: string]: unknown } }
  placeTags?: string[]
  /** Whether the message answers one of the bot's own. */
  answersBot?: boolean
  /** The state as it was once migrated, where it was of an earlier version of the bot. */
  migrated?: { [field: string]: unknown }
}

/** Which of these a bot needs for its decisions and texts; whether it is answered is looked up wherever that can be. */
export type FactsNeeded = { [fact in Exclude<keyof Facts, "answersBot" | "migrated">]-?: boolean }
