import type { Message, Place } from "../message/message.ts"
import type { ModelOrder } from "../model/order.ts"

/** What an endpoint, or a worker at a queue, is told of a turn. */
export interface AskedTurn {
  /** The same over all tries: whoever was asked twice can tell by it. */
  id: string
  bot: string
  /** The lane of its channel. */
  lane: string
  route: string | null
  release: string
  message: Message
  /** Where several were gathered into one. */
  messages: Message[]
  slots: { [name: string]: string | number }
  state: { [field: string]: unknown }
  contact: {
    id?: string
    name?: string
    handle?: string
    language?: string
    address?: string
    fields: { [field: string]: unknown }
  }
  conversation: { id: string; place: Place }
  channel: { key: string; kind: string }
  /** ISO 8601. */
  now: string
  /** What was said before, the oldest first; only where the handler asks for it. */
  history?: { direction: "in" | "out"; text: string; event: string; name?: string; at: string }[]
  /** Set where what it answers goes to nobody: the message was made up to try the bot. */
  trial?: true
}

/** What is posted to an endpoint: an event as the Standard Webhooks specification has it. */
export interface AskedEvent {
  type: "turn.asked"
  /** ISO 8601. */
  timestamp: string
  data: AskedTurn & {
    /** Where to an answer may be sent later, after a 202, and until when. */
    answer: { to: string; token: string; until: string }
  }
}

/** The body of a call to an endpoint. */
export function askedEvent(turn: AskedTurn, answer: AskedEvent["data"]["answer"], now: Date): string {
  const event: AskedEvent = { type: "turn.asked", timestamp: now.toISOString(), data: { ...turn, answer } }
  return JSON.stringify(event)
}

/** How an endpoint, or a model server, is asked, as its handler says it. */
export interface HowAsked {
  address: string
  /** Milliseconds one call may take. */
  limit: number
  /** Calls of this process to it at once. */
  atOnce: number
  /** Names of the secrets it is signed by. */
  signedBy: string[]
  /** Names of the secrets that must not stand on record. */
  secrets: string[]
  /** Set where a model is asked; `signedBy` is then its server's key. */
  model?: ModelOrder
}
