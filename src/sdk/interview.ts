import type { Leaving, Question, WayOut } from "../core/interview/question.ts"
import type { Media, Message } from "../core/message/message.ts"
import type { Option, ReplyPart } from "../core/message/reply.ts"
import { readDuration } from "../core/routing/duration.ts"
import type { State, Turn } from "./turn.ts"

export type { Leaving, WayOut } from "../core/interview/question.ts"

/** What an interview is given: what was said and known when it began. It stays the same for as long as it runs. */
export interface InterviewTurn extends Omit<Turn, "again" | "once" | "history" | "person"> {
  /** The release it began with. */
  release: string
}

/** What an interview yields. Each is made by a function of this file. */
export type Step =
  | { step: "ask"; question: Question; check?: Check<never> | undefined; at?: Error | undefined }
  | { step: "tell"; parts: ReplyPart[]; at?: Error | undefined }
  | {
      step: "once"
      name: string
      run: (key: string, before?: never) => unknown
      back?: "again" | undefined
      ifUnclear?: "report" | undefined
      at?: Error | undefined
    }
  | { step: "pause"; until: string | { for: number }; at?: Error | undefined }
  | { step: "expect"; when: When; within?: number | undefined; at?: Error | undefined }
  | { step: "remember"; where: "state" | "contact"; values: State; at?: Error | undefined }
  | { step: "leave"; to: Leaving; say?: string | undefined; at?: Error | undefined }
  | { step: "given" }

/** Part of an interview, for `yield*`: gives what was answered. */
export type Part<T> = Generator<Step, T, unknown>

/** Says why an answer will not do, or nothing where it will. */
export type Check<T> = (value: T) => string | undefined | void | Promise<string | undefined | void>

/** What every question takes. Times are such as `30s`, `10m`, `2h` and `1d`; a number is seconds. */
export interface Asking<T> {
  /** Says why an answer will not do; the question is put again with that. */
  check?: Check<T>
  /** Answers that will not do before the way out; 3 where nothing is said. */
  tries?: number
  /** How long an answer is waited for. */
  within?: string | number
  /** How long before the end of that the person is reminded; `false` for never. */
  remind?: string | number | false
  /** What happens after too many tries. */
  otherwise?: WayOut | "person"
}

type WithBounds<T, Bound> = Asking<T> & Bound

const stepNames = ["ask", "tell", "once", "pause", "expect", "remember", "leave", "given"]

/** Whether something that was yielded is a step. */
export function isStep(given: unknown): given is Step {
  return typeof given === "object" && given !== null && stepNames.includes((given as { step?: string }).step ?? "")
}

/** The questions. Each gives what the person answered, of a type that follows from the question. */
export const answer = {
  /** Whatever is written. */
  text: (text: string, asking: Asking<string> = {}): Part<string> => put("text", text, asking),

  number: (text: string, asking: WithBounds<number, { min?: number; max?: number }> = {}): Part<number> =>
    put("number", text, asking, bounds(asking)),

  /** A whole number. */
  integer: (text: string, asking: WithBounds<number, { min?: number; max?: number }> = {}): Part<number> =>
    put("integer", text, asking, bounds(asking)),

  /**
   * A day, as `2026-12-04`.
   *
   * @param asking.from the first day that will do, ISO 8601, or `today` and `tomorrow`
   */
  date: (text: string, asking: WithBounds<string, { from?: string; to?: string }> = {}): Part<string> =>
    put("date", text, asking, span(asking)),

  /** A time of day, as `14:20`. */
  time: (text: string, asking: WithBounds<string, { from?: string; to?: string }> = {}): Part<string> =>
    put("time", text, asking, span(asking)),

  /** One of several options: a list of labels, or of ids with labels, or labels by their ids. Gives the id. */
  choice: <const O extends Options>(
    text: string,
    options: O,
    asking: WithBounds<IdOf<O>, { perRow?: number }> = {},
  ): Part<IdOf<O>> => put("choice", text, asking, { options: optionsOf(options), ...row(asking) }),

  /** Any number of options. Gives their ids, in the order of the options. */
  choices: <const O extends Options>(
    text: string,
    options: O,
    asking: WithBounds<IdOf<O>[], { min?: number; max?: number; perRow?: number }> = {},
  ): Part<IdOf<O>[]> =>
    put("choices", text, asking, { options: optionsOf(options), ...bounds(asking), ...row(asking) }),

  yesNo: (text: string, asking: Asking<boolean> = {}): Part<boolean> => put("yesNo", text, asking),

  /** A telephone number, as `+447700900123`. */
  phone: (text: string, asking: Asking<string> = {}): Part<string> => put("phone", text, asking),

  email: (text: string, asking: Asking<string> = {}): Part<string> => put("email", text, asking),

  /** Pictures, sounds or files; `kinds` says which. */
  media: (text: string, asking: WithBounds<Media[], { kinds?: Media["kind"][] }> = {}): Part<Media[]> =>
    put("media", text, asking, asking.kinds ? { media: asking.kinds } : {}),

  location: (
    text: string,
    asking: Asking<NonNullable<Message["location"]>> = {},
  ): Part<NonNullable<Message["location"]>> => put("location", text, asking),

  /** Several things, with commas, lines or "and" between them. */
  list: (text: string, asking: WithBounds<string[], { min?: number; max?: number }> = {}): Part<string[]> =>
    put("list", text, asking, bounds(asking)),
}

export type Options = readonly (string | Option)[] | { readonly [id: string]: string }
type IdOf<O extends Options> = O extends readonly (infer One)[]
  ? One extends string
    ? One
    : One extends { id: infer Id extends string }
      ? Id
      : never
  : Extract<keyof O, string>

function optionsOf(options: Options): Option[] {
  if (!Array.isArray(options)) {
    if (typeof options !== "object" || options === null)
      throw new TypeError("Options are a list, or labels by their ids.")
    return Object.entries(options as { [id: string]: string }).map(([id, label]) => ({ id, label }))
  }
  return (options as (string | Option)[]).map((option) =>
    typeof option === "string" ? { id: option, label: option } : option,
  )
}

const bounds = ({ min, max }: { min?: number; max?: number }): Partial<Question> => ({
  ...(min === undefined ? {} : { min }),
  ...(max === undefined ? {} : { max }),
})
const span = ({ from, to }: { from?: string; to?: string }): Partial<Question> => ({
  ...(from === undefined ? {} : { from: day(from) }),
  ...(to === undefined ? {} : { to: day(to) }),
})
const row = ({ perRow }: { perRow?: number }): Partial<Question> => (perRow === undefined ? {} : { perRow })

function day(bound: string): string {
  if (typeof bound !== "string" || !/^(today|tomorrow|yesterday|\d{4}-\d{2}-\d{2}|\d{2}:\d{2})$/.test(bound))
    throw new TypeError(`"${String(bound)}" is no bound: write 2026-12-04, 14:20, today or tomorrow.`)
  return bound
}

const ways = ["say", "value", "leave"]

function* put<T>(kind: Question["kind"], text: string, asking: Asking<T>, more: Partial<Question> = {}): Part<T> {
  const at = line()
  if (typeof text !== "string" || text.trim() === "")
    throw new TypeError(`answer.${kind} wants the question as its first argument: words, not ${described(text)}.`)
  const { check, tries, within, remind, otherwise } = asking
  if (check !== undefined && typeof check !== "function") throw new TypeError("check is a function.")
  if (tries !== undefined && !(Number.isInteger(tries) && tries >= 1 && tries <= 20))
    throw new TypeError("tries is a whole number from 1 to 20.")
  const { options } = more
  if (options) {
    const labels = options.every((one) => typeof one?.label === "string" && one.label.trim() !== "" && one.id !== "")
    if (options.length === 0 || options.length > 100 || !labels)
      throw new TypeError(`answer.${kind} wants 1 to 100 options, each with a label.`)
    if (new Set(options.map(({ id }) => id)).size < options.length)
      throw new TypeError(`answer.${kind} has an option twice: each needs an id of its own.`)
  }
  for (const name of ["min", "max"] as const)
    if (more[name] !== undefined && !Number.isFinite(more[name])) throw new TypeError(`${name} is a number.`)
  const way = otherwise === "person" ? { leave: "person" as const } : otherwise
  if (way !== undefined && !ways.some((name) => name in way))
    throw new TypeError('otherwise is "person", or { say }, { value } or { leave }.')
  const question: Question = {
    kind,
    text,
    ...more,
    ...(tries === undefined ? {} : { tries }),
    ...(within === undefined ? {} : { within: time(within, "within") }),
    ...(remind === undefined ? {} : { remind: remind === false ? 0 : time(remind, "remind") }),
    ...(way === undefined ? {} : { otherwise: way }),
  }
  return (yield { step: "ask", question, check: check as Check<never> | undefined, at }) as T
}

function time(given: string | number, name: string): number {
  const ms = typeof given === "string" || typeof given === "number" ? readDuration(given) : undefined
  if (ms === undefined || !(ms > 0 && ms <= 400 * 86_400_000))
    throw new TypeError(`${name}: "${String(given)}" is no time; write 30s, 10m, 2h or 1d.`)
  return ms
}

/** Says something and goes on. */
export function* tell(...said: (string | ReplyPart)[]): Part<void> {
  const at = line()
  if (said.length === 0 || said.some((one) => one === null || !["string", "object"].includes(typeof one)))
    throw new TypeError(`tell wants words or parts of a reply, not ${described(said.find((one) => !one))}.`)
  const parts = said.map((one): ReplyPart => (typeof one === "string" ? { part: "text", text: one } : one))
  yield { step: "tell", parts, at }
}

/**
 * A side effect, run once: its start and its result are recorded in steps of their own. Where its result was lost in a
 * crash it is run again with the same key, which should be passed on as an idempotency key.
 *
 * @param name tells it from the interview's others
 * @param run is given the key, and, where the person went back behind it and it is run again, what it returned before
 * @param options.back `again` lets the person go back behind it; otherwise "back" stops there
 * @param options.ifUnclear `report` parks the turn where a result was lost, instead of running it again
 */
export function* once<T>(
  name: string,
  run: (key: string, before?: T) => T | Promise<T>,
  options: { back?: "again"; ifUnclear?: "again" | "report" } = {},
): Part<T> {
  const at = line()
  if (typeof name !== "string" || !/\S/.test(name) || name.length > 200)
    throw new TypeError(`once wants a name first, not ${described(name)}.`)
  if (typeof run !== "function") throw new TypeError(`once wants a function, not ${described(run)}.`)
  const { back, ifUnclear } = options
  const report = ifUnclear === "report" ? ("report" as const) : undefined
  return (yield { step: "once", name, run: run as (key: string) => unknown, back, ifUnclear: report, at }) as T
}

/**
 * Waits: for a time, or until one. Meanwhile the person may talk of anything else.
 *
 * @param how.until a Date, or ISO 8601; without an offset by the bot's own clock
 */
export function* pause(how: { for: string | number } | { until: string | Date }): Part<void> {
  const at = line()
  if ("for" in how) yield { step: "pause", until: { for: time(how.for, "for") }, at }
  else {
    const until = how?.until instanceof Date ? isoOf(how.until) : how?.until
    if (typeof until !== "string" || !/^\d{4}-\d{2}-\d{2}/.test(until) || Number.isNaN(Date.parse(until)))
      throw new TypeError(`pause wants { for: "2h" } or { until } with a date, not ${described(until)}.`)
    yield { step: "pause", until, at }
  }
}

function isoOf(date: Date): string | undefined {
  return Number.isNaN(date.getTime()) ? undefined : date.toISOString()
}

/** A condition as routes have it under `when:`. */
export interface When {
  phrase?: string | string[]
  pattern?: string | string[]
  command?: string | string[]
  choice?: string | string[]
  event?: string | string[]
  media?: string | string[]
  any?: When[]
  all?: When[]
  not?: When
  [condition: string]: unknown
}

/** Waits until the person says something that meets a condition; gives that, or nothing where the time is over. */
export function* expect(what: { when: When; within?: string | number }): Part<Message | undefined> {
  const at = line()
  if (typeof what?.when !== "object" || what.when === null)
    throw new TypeError("expect wants { when: … } with a condition as routes have it.")
  const within = what.within === undefined ? undefined : time(what.within, "within")
  return ((yield { step: "expect", when: what.when, within, at }) ?? undefined) as Message | undefined
}

/** Keeps values in the conversation's state, or with the person on every channel. */
export function* remember(values: State, where: "state" | "contact" = "state"): Part<void> {
  const at = line()
  if (typeof values !== "object" || values === null || Array.isArray(values))
    throw new TypeError(`remember wants values by their names, not ${described(values)}.`)
  yield { step: "remember", where, values, at }
}

/** Ends the interview and hands the conversation to a person, or the message to another route. */
export function* leave(to: Leaving, say?: string): Part<never> {
  const at = line()
  yield { step: "leave", to, say, at }
  throw new Error("An interview that was left does not continue.")
}

/** Runs another interview within this one: gives what that one returns. */
export function* ask<T>(other: InterviewHandler<T> | ((turn: InterviewTurn) => Part<T>)): Part<T> {
  const run = typeof other === "function" && "interview" in other ? other.interview.run : other
  if (typeof run !== "function") throw new TypeError(`ask wants an interview, not ${described(other)}.`)
  const turn = (yield { step: "given" }) as InterviewTurn
  return yield* (run as (turn: InterviewTurn) => Part<T>)(turn)
}

/** What holds for all questions of an interview, and what it says at certain moments. */
export interface InterviewOptions {
  /** How long an answer is waited for; a day where nothing is said. */
  within?: string | number
  /** How long before the end of that the person is reminded; an hour where nothing is said, `false` for never. */
  remind?: string | number | false
  tries?: number
  /** Its own words for what is said when it was cancelled, when time is over, and so on. */
  texts?: { [moment: string]: string }
}

export interface InterviewHandler<T = unknown> {
  (turn: Turn): never
  interview: { run: (turn: InterviewTurn) => Part<T>; options: InterviewOptions }
}

/** Marks a generator as the handler of its file: several questions in a row, read from top to bottom. */
export function interview<T>(
  run: (turn: InterviewTurn) => Part<T>,
  options: InterviewOptions = {},
): InterviewHandler<T> {
  if (typeof run !== "function" || run.constructor.name !== "GeneratorFunction")
    throw new TypeError(
      run?.constructor?.name === "AsyncGeneratorFunction"
        ? "An interview is written as function*, without async: what has to be waited for stands in once."
        : "An interview is written as interview(function* (…) { … }).",
    )
  const times = { within: options.within, remind: options.remind || undefined }
  for (const [name, given] of Object.entries(times)) if (given !== undefined) time(given, name)
  const handler = () => {
    throw new Error("An interview is run by Wobbet, or within another by: yield* ask(it)")
  }
  return Object.assign(handler as unknown as InterviewHandler<T>, { interview: { run, options } })
}

/** Where in the author's own file something stands, for reports: written out only when it is needed. */
function line(): Error {
  return new Error()
}

function described(given: unknown): string {
  if (given === undefined) return "nothing"
  return typeof given === "object" || typeof given === "function"
    ? (JSON.stringify(given)?.slice(0, 60) ?? "a function")
    : `"${String(given).slice(0, 60)}"`
}
