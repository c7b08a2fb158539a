import type { MediaKind } from "../message/message.ts"
import type { Option } from "../message/reply.ts"

/** What a question wants to hear. */
export type AnswerKind =
  | "text"
  | "number"
  | "integer"
  | "date"
  | "time"
  | "choice"
  | "choices"
  | "yesNo"
  | "phone"
  | "email"
  | "media"
  | "location"
  | "list"

/** A question as it is put, remembered and read. Everything in it is JSON. */
export interface Question {
  kind: AnswerKind
  /** In light markup. */
  text: string
  /** Options in the order in which they are shown; a yes-or-no question has two. */
  options?: Option[]
  /** For numbers and lists: bounds, both included. */
  min?: number
  max?: number
  /** For dates and times, ISO 8601 (`2026-12-04`, `14:20`): bounds, both included. */
  from?: string
  to?: string
  /** For media: the kinds that count. */
  media?: MediaKind[]
  /** How many answers that are none, or not good ones, are taken before the way out. */
  tries?: number
  /** Milliseconds after which nobody waits for an answer any more. */
  within?: number
  /** Milliseconds before that at which the person is reminded; 0 for never. */
  remind?: number
  otherwise?: WayOut
  /** Buttons beside each other. */
  perRow?: number
}

/** What happens when a question was asked in vain. */
export type WayOut =
  /** The interview ends with these words. */
  | { say: string }
  /** The interview continues with this answer. */
  | { value: unknown }
  /** A person takes over, or another route. */
  | { leave: Leaving }

/** Where an interview, or a handler, leaves a conversation to. */
export type Leaving = "person" | { route: string }

/** Why something that was said is no answer. A `why` is the author's own reason. */
export type NoAnswer =
  | { reason: "unread" }
  | { reason: "too small"; least: number | string }
  | { reason: "too large"; most: number | string }
  | { reason: "too few"; least: number }
  | { reason: "too many"; most: number }
  | { reason: "author"; why: string }
