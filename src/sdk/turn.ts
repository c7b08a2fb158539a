import type { Leaving } from "../core/interview/question.ts"
import type { Message, Place } from "../core/message/message.ts"
import type { ReplyPart } from "../core/message/reply.ts"

/** What Wobbet remembers of a conversation between turns: any JSON. */
export type State = { [field: string]: unknown }

/** Something that was said before. */
export interface Said {
  direction: "in" | "out"
  text: string
  event: string
  /** Who said it, where that is known and it was not the bot. */
  name?: string
  /** The address of who said it, where it was not the bot: people choose their names, and two may have the same. */
  address?: string
  /** ISO 8601. */
  at: string
}

/** Somebody as they are known on every channel. */
export interface Person {
  name: string | null
  tags: string[]
  fields: { [field: string]: unknown }
  addresses: { channel: string; address: string; name: string | null; handle: string | null; language: string | null }[]
}

/** What a handler is given. */
export interface Turn {
  /** What was said. Several messages sent in one go are one, their texts on lines of their own. */
  message: Message
  /** The same messages one by one. */
  messages: Message[]
  /** What the phrase's slots hold, or a command's `args`. */
  slots: { [name: string]: string | number }
  state: State
  /** Who said it, as far as the provider tells. */
  contact: { id?: string; name?: string; handle?: string; language?: string; address?: string }
  conversation: { id: string; place: Place }
  channel: { key: string; kind: string }
  /** Set when this turn was begun before and its result was lost: side effects may have happened already. */
  again: boolean
  /** When the turn began. */
  now: Date
  /** Who this is on every channel: tags, fields and addresses; undefined where nobody is named. */
  person(): Promise<Person | undefined>
  /** What was said before in the conversation, both ways: the last so many messages, the oldest first; 100 at most. */
  history(count?: number): Promise<Said[]>
  /**
   * A side effect, run once: its start and its result are recorded in steps of their own. Where the turn runs again
   * after that, it gives the recorded result; where the result was lost in a crash, it is run again with the same key.
   */
  once<T>(name: string, run: (key: string) => T | Promise<T>, options?: { ifUnclear?: "again" | "report" }): Promise<T>
}

/** What a handler answers: what to say, and the new state. Without `state` it stays; `null` forgets it. */
export interface Outcome {
  replies?: (ReplyPart | string)[] | ReplyPart | string
  state?: State | null
  /** Changes of the person's own fields, on every channel; `null` takes one away. */
  contact?: State
  /** Hands the conversation to a person, or the message to another route. */
  leave?: Leaving
}

export type Handler = (turn: Turn) => Promise<Outcome | string | void> | Outcome | string | void
