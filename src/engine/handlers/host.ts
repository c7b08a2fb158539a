import { AsyncLocalStorage } from "node:async_hooks"
import { pathToFileURL } from "node:url"
import { format } from "node:util"
import { goneInterview } from "../../core/interview/interviewRun.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { replyList } from "../../core/message/replyList.ts"
import type { Handler, InterviewHandler, Outcome, Turn } from "../../sdk/index.ts"
import type { HandlerError } from "./handler.ts"
import type { FromHost, ToHost } from "./hostProtocol.ts"
import { folderWord } from "./hostProtocol.ts"
import { cold, runInterview, WarmInterviews } from "./interviews.ts"
import type { OnceAnswer, OnceAsked, OnceEnded, OnceRunner } from "./once.ts"
import { OnceThrew } from "./once.ts"
import { stepTime } from "./stepTime.ts"

/**
 * A handler host: a process of its own that runs a bot's code handlers, many at once as long as they await. It knows
 * nothing of the service and inherits none of its environment.
 */
const logs = new AsyncLocalStorage<string[]>()
/** What the run under way may have of the bot's secrets. */
const secrets = new AsyncLocalStorage<{ readonly [name: string]: string }>()
let handlers: { [name: string]: { default?: Handler | InterviewHandler } } = {}
const warm = new WarmInterviews()
/** Side effects that wait for what the record says, by run and call. */
const asking = new Map<string, (answer: OnceAnswer) => void>()

stepTime.install()

/** Texts of the folder that travel with the release. */
let files: { [name: string]: string } = {}

/** What the SDK, which is another copy of its code in every bundle, asks for a secret. */
Object.assign(globalThis, {
  [Symbol.for("wobbet.secret")]: (name: unknown): string => {
    const value = secrets.getStore()?.[String(name)]
    if (value === undefined)
      throw new TypeError(
        `The secret "${String(name)}" is not listed: write secrets: [${String(name)}] beside the route's handler.`,
      )
    return value
  },
  [Symbol.for("wobbet.file")]: (name: unknown): string => {
    if (!Object.hasOwn(files, String(name)))
      throw new TypeError(
        `There is no file "${String(name)}" under files/: ${Object.keys(files).slice(0, 20).join(", ") || "it is empty"}.`,
      )
    return files[String(name)]!
  },
})

for (const level of ["log", "info", "warn", "error", "debug"] as const) {
  console[level] = (...parts: unknown[]) => {
    const lines = logs.getStore()
    if (lines && lines.length < 100) lines.push(format(...parts).slice(0, 1000))
  }
}

process.on("message", (orders: ToHost[]) => {
  for (const order of orders) {
    if (order.say === "ping") tell({ say: "pong", at: order.at, memory: process.memoryUsage.rss() })
    else if (order.say === "load") void load(order.file)
    else if (order.say === "once") asking.get(`${order.id} ${order.call}`)?.(order.answer)
    else void run(order)
  }
})
// A handler whose loop never ends does not hear that; the service's guardian sees to those.
process.on("disconnect", () => process.exit(0))
// A promise nobody waits for is a fault of the handler's that threw it, not a reason to end the others.
process.on("unhandledRejection", () => undefined)

async function load(file: string): Promise<void> {
  try {
    const bundle = (await import(pathToFileURL(file).href)) as { handlers: typeof handlers; files?: typeof files }
    handlers = bundle.handlers
    // Releases of before have none.
    files = bundle.files ?? {}
    for (const [name, module] of Object.entries(handlers)) {
      if (typeof module.default !== "function")
        throw new TypeError(`handlers/${name}: the default export is not a function`)
    }
    tell({ say: "loaded", handlers: Object.keys(handlers) })
  } catch (error) {
    tell({ say: "broken", error: plain(error) })
  }
}

async function run(order: ToHost & { say: "run" }): Promise<void> {
  const log: string[] = []
  const { id } = order
  try {
    const handler = handlers[order.handler]?.default
    if (!handler && !order.interview?.goesOn) throw new Error(`There is no handler "${order.handler}" in this release.`)
    const outcome = await secrets.run(order.secrets ?? {}, () => logs.run(log, () => answerOf(handler, order)))
    if (outcome === cold) tell({ say: "cold", id })
    else tell({ say: "done", id, outcome, log })
  } catch (error) {
    tell({ say: "threw", id, error: plain(error instanceof OnceThrew ? error.cause : error), log })
  }
}

async function answerOf(
  handler: Handler | InterviewHandler | undefined,
  { id, turn, interview }: ToHost & { say: "run" },
) {
  const { again, ...given } = { ...turn, messages: turn.messages ?? [turn.message], now: new Date(turn.now) }
  const ask = askingFor(id)
  const once = onceOf(id, ask)
  if (interview?.goesOn && !(handler && "interview" in handler)) return goneInterview(interview.id)
  if (!handler) throw new Error("There is no such handler.")
  if (!("interview" in handler))
    return normal(
      await handler({ ...given, again, once: plainOnce(once), history: historyOf(id, ask), person: personOf(id, ask) }),
    )
  if (!interview) throw new Error("An interview was begun without a place for its journal.")
  return runInterview(handler, given, interview, warm, once, (run) => logs.run([], run))
}

type Ask = (words: (call: number) => FromHost) => Promise<OnceAnswer>

/** Asks the record something, for one run. */
function askingFor(id: number): Ask {
  let calls = 0
  return async (words) => {
    const call = ++calls
    try {
      return await new Promise<OnceAnswer>((resolve) => {
        asking.set(`${id} ${call}`, resolve)
        tell(words(call))
      })
    } finally {
      asking.delete(`${id} ${call}`)
    }
  }
}

function historyOf(id: number, ask: Ask): Turn["history"] {
  return async (count = 20) => {
    if (!Number.isInteger(count) || count < 1 || count > 100)
      throw new TypeError("history wants a whole number from 1 to 100.")
    const answer = await ask((call) => ({ say: "history", id, call, count }))
    if ("history" in answer) return answer.history
    throw new Error(`history: ${"refused" in answer ? answer.refused : "the record did not answer"}`)
  }
}

function personOf(id: number, ask: Ask): Turn["person"] {
  return async () => {
    const answer = await ask((call) => ({ say: "person", id, call }))
    if ("person" in answer) return answer.person ?? undefined
    throw new Error(`person: ${"refused" in answer ? answer.refused : "the record did not answer"}`)
  }
}

/** Side effects of one run: none begins before its start is on record, nor goes on before its result is. */
function onceOf(id: number, ask: Ask): OnceRunner {
  return async (asked: OnceAsked, run) => {
    const begun = await ask((call) => ({ say: "once", id, call, asked }))
    if ("refused" in begun) throw refusal(asked.name, begun)
    if (!("key" in begun)) throw new Error("The record of side effects gave no key.")
    const { key } = begun
    if ("value" in begun) return { key, value: begun.value }
    const ended = await outcomeOf(run, key)
    const kept = await ask((call) => ({ say: "once ended", id, call, key, ended: ended.told }))
    if ("refused" in kept) throw refusal(asked.name, kept)
    if (ended.threw !== undefined) throw new OnceThrew(key, ended.threw, ended.error)
    return { key, value: ended.value }
  }
}

function refusal(name: string, { refused, name: kind }: { refused: string; name?: string }): Error {
  return Object.assign(new Error(`once "${name}": ${refused}`), { name: kind ?? "OnceRefused" })
}

interface OnceOutcome {
  told: OnceEnded
  value?: unknown
  threw?: { name: string; message: string }
  error?: unknown
}

/** Runs the callback; what it returns is given as it will be read from the record. */
async function outcomeOf(run: (key: string) => unknown, key: string): Promise<OnceOutcome> {
  try {
    const text = JSON.stringify(await run(key))
    const value = text === undefined ? undefined : (JSON.parse(text) as unknown)
    return { told: { value }, value }
  } catch (error) {
    const { name, message } = plain(error)
    const threw = { name, message: message.slice(0, 2000) }
    return { told: { threw }, threw, error }
  }
}

function plainOnce(runner: OnceRunner): Turn["once"] {
  const times = new Map<string, number>()
  return async <T>(name: string, run: (key: string) => T | Promise<T>, { ifUnclear = "again" } = {}) => {
    if (typeof name !== "string" || name === "" || name.length > 200) throw new TypeError("once wants a name first.")
    if (typeof run !== "function") throw new TypeError("once wants a function.")
    const nth = (times.get(name) ?? 0) + 1
    times.set(name, nth)
    const unclear = ifUnclear === "report" ? ("report" as const) : undefined
    try {
      return (await runner({ name, nth, round: 0, ifUnclear: unclear }, run)).value as T
    } catch (error) {
      throw error instanceof OnceThrew ? error.cause : error
    }
  }
}

function normal(outcome: Outcome | string | void): Outcome {
  if (outcome === undefined || outcome === null) return {}
  if (typeof outcome === "string") return { replies: [{ part: "text", text: outcome }] }
  if (typeof outcome !== "object")
    throw new TypeError(`A handler answers with { replies, state }, not with ${typeof outcome}.`)
  const { replies, state, contact, leave } = outcome
  return {
    replies: replyList(replies) as ReplyPart[],
    ...(state !== undefined ? { state } : {}),
    ...(contact ? { contact } : {}),
    ...(leave ? { leave } : {}),
  }
}

function plain(error: unknown): HandlerError {
  try {
    if (!(error instanceof Error)) return { name: "Error", message: format(error) }
    const { name, message, stack } = error
    return { name: `${name}`, message: `${message}`, ...(stack ? { stack: ownLines(`${stack}`) } : {}) }
  } catch {
    return { name: "Error", message: "what was thrown cannot be read" }
  }
}

/** A stack as the bot's author reads it: files as they are named in the folder, without what lies underneath. */
function ownLines(stack: string): string {
  const lines = stack
    .split("\n")
    .filter((line) => !/\(?node:|[/\\]host-[0-9a-f]{12}\.mjs|src[/\\]engine[/\\]handlers[/\\]host/.test(line))
  return lines
    .slice(0, 12)
    .join("\n")
    .replaceAll(new RegExp(`${folderWord}/+`, "g"), "")
}

const said: FromHost[] = []

/** The way to the service is the host's own: what a handler sends by itself goes nowhere. */
const send = process.send?.bind(process)
process.send = undefined

/** What is said within one turn of the event loop goes as one message. */
function tell(words: FromHost): void {
  if (said.push(words) === 1) setImmediate(() => sendAll(said.splice(0)))
}

function sendAll(all: FromHost[]): void {
  try {
    send?.(all)
  } catch (error) {
    // Something in it is no JSON, such as a circle or a BigInt: only whoever gave that notices.
    if (all.length > 1) all.forEach((one) => sendAll([one]))
    else all.forEach((one) => "id" in one && sendAll([unsendable(one.id, error)]))
  }
}

function unsendable(id: number, error: unknown): FromHost {
  const { message } = plain(error)
  return { say: "threw", id, error: { name: "TypeError", message: `What it gave is no JSON: ${message}` }, log: [] }
}
