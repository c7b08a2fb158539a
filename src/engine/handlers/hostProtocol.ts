import type { Message } from "../../core/message/message.ts"
import type { HandlerError, TurnInput } from "./handler.ts"

/** Stands for the bot's folder in stack traces, so that a bundle is the same on every machine. */
export const folderWord = "bot://"

/** What the service says to a handler host, several at once, as JSON over the child's channel. */
export type ToHost =
  | { say: "load"; file: string }
  /** Without `messages` the message is the only one. */
  | {
      say: "run"
      id: number
      handler: string
      turn: Omit<TurnInput, "messages"> & { messages?: Message[] | undefined }
    }
  | { say: "ping"; at: number }

/** What a handler host says to the service. */
export type FromHost =
  | { say: "loaded"; handlers: string[] }
  | { say: "broken"; error: HandlerError }
  | { say: "done"; id: number; outcome: unknown; log: string[] }
  | { say: "threw"; id: number; error: HandlerError; log: string[] }
  | { say: "pong"; at: number; memory: number }
