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

/** Characters of an error's parts, and of a line of what was printed; lines of that. */
const longest = { name: 200, message: 20_000, stack: 20_000, line: 1000, key: 200 }
const mostLines = 100
/** What a host says at once. */
const mostAtOnce = 10_000

type Said = { readonly [field: string]: unknown }

/**
 * What a host said, as far as it is of the protocol: nothing where any of it is not. Code of authors runs in a host, and
 * can say anything in its name.
 */
export function readFromHost(said: unknown): FromHost[] | undefined {
  if (!Array.isArray(said) || said.length > mostAtOnce) return undefined
  const read: FromHost[] = []
  for (const words of said) {
    const known = isObject(words) ? wordsOf(words) : undefined
    if (!known) return undefined
    read.push(known)
  }
  return read
}

function wordsOf(words: Said): FromHost | undefined {
  const { say, id, call } = words
  if (say === "pong") return isNumber(words.at) && isNumber(words.memory) ? (words as FromHost) : undefined
  if (say === "loaded") return isListOfText(words.handlers, mostAtOnce) ? (words as FromHost) : undefined
  if (say === "broken") {
    const error = errorOf(words.error)
    return error && { say, error }
  }
  if (!isWhole(id)) return undefined
  if (say === "cold") return { say, id }
  if (say === "done") {
    const log = logOf(words.log)
    return log && isOutcome(words.outcome) ? { say, id, outcome: words.outcome, log } : undefined
  }
  if (say === "threw") {
    const [error, log] = [errorOf(words.error), logOf(words.log)]
    return error && log && { say, id, error, log }
  }
  if (!isWhole(call)) return undefined
  if (say === "person") return { say, id, call }
  if (say === "history") return isWhole(words.count) ? { say, id, call, count: words.count } : undefined
  if (say === "once") {
    const asked = askedOf(words.asked)
    return asked && { say, id, call, asked }
  }
  if (say !== "once ended" || !isText(words.key, longest.key)) return undefined
  const ended = endedOf(words.ended)
  return ended && { say, id, call, key: words.key, ended }
}

/** What a turn does with it is looked at by the turn; what carries it on its way there is looked at here. */
function isOutcome(given: unknown): boolean {
  if (!isObject(given)) return false
  const { interview } = given
  return interview === undefined || (isObject(interview) && isText(interview.id, 100) && isObject(interview.stands))
}

function errorOf(given: unknown): HandlerError | undefined {
  if (!isObject(given)) return undefined
  const { name, message, stack } = given
  if (typeof name !== "string" || typeof message !== "string") return undefined
  const short = { name: name.slice(0, longest.name), message: message.slice(0, longest.message) }
  return typeof stack === "string" ? { ...short, stack: stack.slice(0, longest.stack) } : short
}

function logOf(given: unknown): string[] | undefined {
  if (!isListOfText(given, mostAtOnce)) return undefined
  return given.slice(0, mostLines).map((line) => line.slice(0, longest.line))
}

function askedOf(given: unknown): OnceAsked | undefined {
  if (!isObject(given)) return undefined
  const { name, nth, round, ifUnclear, inInterview } = given
  if (typeof name !== "string" || !isWhole(nth) || !isWhole(round)) return undefined
  return {
    name,
    nth,
    round,
    ...(ifUnclear === "report" ? { ifUnclear } : {}),
    ...(inInterview === true ? { inInterview } : {}),
  }
}

function endedOf(given: unknown): OnceEnded | undefined {
  if (!isObject(given)) return undefined
  if (given.threw === undefined) return { value: given.value ?? null }
  const threw = errorOf(given.threw)
  return threw && { threw: { name: threw.name, message: threw.message } }
}

const isObject = (given: unknown): given is Said => typeof given === "object" && given !== null && !Array.isArray(given)
const isNumber = (given: unknown): given is number => typeof given === "number" && Number.isFinite(given)
const isWhole = (given: unknown): given is number => Number.isSafeInteger(given) && (given as number) >= 0
const isText = (given: unknown, most: number): given is string => typeof given === "string" && given.length <= most
const isListOfText = (given: unknown, most: number): given is string[] =>
  Array.isArray(given) && given.length <= most && given.every((one) => typeof one === "string")
