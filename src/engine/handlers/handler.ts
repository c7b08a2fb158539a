import type Joi from "joi"
import type { Person, Said } from "../../sdk/index.ts"
import type { InterviewOrder, InterviewResult } from "../../core/interview/interviewRun.ts"
import type { Entry } from "../../core/interview/journal.ts"
import type { Leaving } from "../../core/interview/question.ts"
import type { AskedTurn, HowAsked } from "../../core/elsewhere/asked.ts"
import type { Message, Place } from "../../core/message/message.ts"
import type { Bot } from "../../core/routing/bot.ts"
import type { Relay } from "../../core/relay/relay.ts"
import type { RouteTable } from "../../core/routing/table.ts"
import type { ElsewhereCall } from "../../core/elsewhere/note.ts"
import type { WaitAnswer } from "../../store/waits.ts"
import type { OnceAnswer, OnceAsked, OnceEnded } from "./once.ts"

/** What a handler is told of a turn. */
export interface TurnInput {
  message: Message
  messages: Message[]
  slots: { [name: string]: string | number }
  state: { [field: string]: unknown }
  contact: { id?: string; name?: string; handle?: string; language?: string; address?: string }
  conversation: { id: string; place: Place }
  channel: { key: string; kind: string }
  /** Whether an earlier run of this turn may have begun. */
  again: boolean
  /** ISO 8601. */
  now: string
}

/** What a handler answered, unchecked, and what it printed. */
export interface HandlerAnswer {
  outcome: {
    replies?: unknown[]
    state?: { [field: string]: unknown } | null
    contact?: { [field: string]: unknown }
    leave?: Leaving
    /** Set where the handler is an interview. */
    interview?: InterviewResult
  }
  log: string[]
  /** Set where the answer is still to come, from elsewhere; "still" where the turn was looked at before it was there. */
  waits?: WaitsFor | "still"
  /** Calls that were made for it. */
  calls?: ElsewhereCall[]
  /** Where what was said is to be shown. */
  relay?: Relay
  /** Names of secrets that were masked in it before. */
  masked?: string[]
  /** Why a text of the author's stands in the place of an answer. */
  instead?: string
  /** Why there is no answer, where the author has no text for that. */
  fails?: string
}

/** How a turn waits for an answer from elsewhere. */
export interface WaitsFor {
  kind: "endpoint" | "queue" | "model"
  place: string
  /** What is told to whoever answers. */
  asked: AskedTurn
  /** Milliseconds. */
  within: number
  /** Milliseconds until it may be asked, or leased; undefined where nothing but the answer is waited for. */
  due: number | undefined
  /** Set while a call is under way. */
  lease?: string
  /** How often it was asked. */
  leases: number
  /** How an endpoint is asked again. */
  how?: HowAsked
  /** Said once, now that it waits. */
  meanwhile: string | undefined
  /** Whether that grows into the answer. */
  draft?: true
}

/** An error as a bot's author reads it. */
export interface HandlerError {
  name: string
  message: string
  stack?: string
}

/** A handler that did not answer as it should. With what it printed. The turn is retried, then parked. */
export class HandlerFault extends Error {
  constructor(
    readonly error: HandlerError,
    readonly log: string[] = [],
  ) {
    super(`${error.name}: ${error.message}`)
  }
}

/** Runs a release's code handlers. */
export interface CodeRunner {
  /** @param deadline in milliseconds */
  run(
    handler: string,
    turn: TurnInput,
    deadline: number,
    keeping?: Keeping,
    secrets?: { readonly [name: string]: string },
  ): Promise<HandlerAnswer>
}

/** What a run of code may need of the record while it is under way. */
export interface Keeping {
  /** What is to be run where the handler is an interview. */
  interview: InterviewOrder
  /** Read where no host has the interview warm. */
  journal(): Promise<Entry[]>
  /** Who the turn is with, on every channel. */
  person(): Promise<Person | null>
  /** What was said before, the oldest first. */
  history(count: number): Promise<Said[]>
  once: OnceKeeper
}

/** Keeps side effects on record: each step is durable before the next. */
export interface OnceKeeper {
  /** Puts a start on record, under the turn's claim. Says what came of it before, where something did. */
  begin(asked: OnceAsked): Promise<OnceAnswer>
  end(key: string, ended: OnceEnded): Promise<OnceAnswer>
}

/** A release ready to decide and to run: its route table at hand, and what runs its code, if it has any. */
export interface ReadyRelease {
  id: string
  table: RouteTable
  hosts: CodeRunner | undefined
}

/** One kind of handler: how it is written in `bot.yaml`, and what it does with a turn. */
export interface HandlerKind {
  /** The name it is written under: `handler: { text: … }`. */
  kind: string
  /** Everything that may be written for it, that name among it. */
  schema: Joi.ObjectSchema
  /** Whether it asks somebody else, and its turns may wait. */
  asksElsewhere?: true
  /** Names of the secrets it takes besides those its route lists. */
  secretsOf?(written: { [name: string]: unknown }, bot: Pick<Bot, "models">): string[]
  /** The author's text in the place of an answer that cannot be said or kept; nothing where there is none. */
  insteadOf?(
    written: { [name: string]: unknown },
    why: string,
    turn: TurnInput,
    release: ReadyRelease,
    given: HandlerGiven,
  ): HandlerAnswer | undefined
  /**
   * Answers a turn. Whatever it throws besides a HandlerFault is a fault of the service's own.
   *
   * @param written what stands in `bot.yaml`, as its schema lets it through
   */
  run(
    written: { [name: string]: unknown },
    turn: TurnInput,
    release: ReadyRelease,
    given: HandlerGiven,
  ): Promise<HandlerAnswer>
}

/** What the route of a turn gives its handler. */
export interface HandlerGiven {
  /** Milliseconds it may take. */
  deadline: number
  /** How many messages of the conversation the route has taken already, where the bot counts that. */
  times: number
  /** The person's own fields, where the bot asks for them. */
  fields: { [field: string]: unknown }
  /** The secrets its route lists. */
  secrets: { readonly [name: string]: string }
  /** What code needs of the record; nothing where a text is only tried. */
  keeping?: Keeping
  /** For what asks elsewhere. */
  asking?: Asking
}

/** Asks somebody elsewhere about a turn. */
export interface Asking {
  /**
   * Set where the turn has waited: what came, or that its time is over; nothing yet where it was only looked at. With the
   * provider's id of what was shown growing.
   */
  standing?: { came?: WaitAnswer; draft?: string }
  endpoint(
    how: HowAsked,
    asks: { within: number; history: number },
  ): Promise<{ answer: WaitAnswer; calls: ElsewhereCall[] } | { waits: Waiting; calls: ElsewhereCall[] }>
  model: Asking["endpoint"]
  queue(name: string, asks: { within: number; history: number }): Promise<Waiting>
}

type Waiting = Omit<WaitsFor, "meanwhile">
