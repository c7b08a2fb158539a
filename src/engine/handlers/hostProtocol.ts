import type { Message } from "../../core/message/message.ts"
import type { InterviewOrder } from "../../core/interview/interviewRun.ts"
import type { HandlerError, TurnInput } from "./handler.ts"
import type { OnceAnswer, OnceAsked, OnceEnded } from "./once.ts"

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
      /** What is to be run where the handler is an interview. */
      interview: InterviewOrder | undefined
      /** Those its route lists. */
      secrets: { readonly [name: string]: string } | undefined
    }
  /** What was asked about a side effect of a run. */
  | { say: "once"; id: number; call: number; answer: OnceAnswer }
  | { say: "ping"; at: number }

/** What a handler host says to the service. */
export type FromHost =
  | { say: "loaded"; handlers: string[] }
  | { say: "broken"; error: HandlerError }
  | { say: "done"; id: number; outcome: unknown; log: string[] }
  | { say: "threw"; id: number; error: HandlerError; log: string[] }
  /** An interview should continue that is not here, and its journal did not come along. */
  | { say: "cold"; id: number }
  | { say: "once"; id: number; call: number; asked: OnceAsked }
  | { say: "person"; id: number; call: number }
  | { say: "history"; id: number; call: number; count: number }
  | { say: "once ended"; id: number; call: number; key: string; ended: OnceEnded }
  | { say: "pong"; at: number; memory: number }
