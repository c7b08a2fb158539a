import type { Message, Place } from "../core/message/message.ts"

/** Stands for the bot's folder in stack traces, so that a bundle is the same on every machine. */
export const folderWord = "bot://"

/** What the service and a handler host say to each other, several at once, as JSON over the child's channel. */
export type ToHost =
  | { say: "load"; file: string }
  /** `messages` is left out where the message is the only one. */
  | {
      say: "run"
      id: number
      handler: string
      turn: Omit<TurnInput, "messages"> & { messages?: Message[] | undefined }
    }
  | { say: "ping"; at: number }

export type FromHost =
  | { say: "loaded"; handlers: string[] }
  | { say: "broken"; error: HostError }
  | { say: "done"; id: number; outcome: unknown; log: string[] }
  | { say: "threw"; id: number; error: HostError; log: string[] }
  | { say: "pong"; at: number; memory: number }

export interface HostError {
  name: string
  message: string
  stack?: string
}

export interface TurnInput {
  message: Message
  messages: Message[]
  slots: { [name: string]: string | number }
  state: { [field: string]: unknown }
  contact: { id?: string; name?: string; handle?: string; language?: string; address?: string }
  conversation: { id: string; place: Place }
  channel: { key: string; kind: string }
  again: boolean
  now: string
}
