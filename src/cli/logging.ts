import type { DestinationStream, Logger, LoggerOptions } from "pino"
import pino from "pino"
import pretty from "pino-pretty"
import { shown, shownWithin } from "../client/shown.ts"

/**
 * One line a happening: for people at a terminal, as JSON with WOBBET_LOG=json. Secrets never reach it, and what strangers
 * wrote reaches it with escapes for all that a terminal obeys.
 *
 * @param to where it is written, where that is not the standard output
 * @param steady milliseconds by a clock that nobody sets
 */
export function makeLog(
  env: NodeJS.ProcessEnv,
  to?: DestinationStream,
  steady: () => number = () => performance.now(),
): Logger {
  const level = env.WOBBET_LOG_LEVEL ?? "info"
  const redact = {
    paths: ["*.token", "*.hookSecret", "*.authorization", "headers.*", "req.headers", "secrets"],
    censor: "•••",
  }
  const repeats = repetition(steady)
  const options: LoggerOptions = {
    level,
    redact,
    base: undefined,
    serializers: { err: (error: Error) => shownWithin(pino.stdSerializers.err(error)) },
    formatters: { log: (entry) => mapped(entry) },
    hooks: {
      logMethod(given, method) {
        if (repeats(given as unknown[])) return
        method.apply(this, given.map((one: unknown) => (typeof one === "string" ? indented(one) : one)) as typeof given)
      },
    },
  }
  if (env.WOBBET_LOG === "json") return to ? pino(options, to) : pino(options)
  return pino(
    options,
    pretty({
      colorize: process.stdout.isTTY === true && env.NO_COLOR === undefined,
      translateTime: "HH:MM:ss",
      ignore: "pid,hostname",
      singleLine: false,
      sync: true,
      ...(to ? { destination: to } : {}),
    }),
  )
}

/** What is told, each line after its first set in: nothing that a stranger wrote looks like a line of its own. */
const indented = (says: string) => shown(says).replaceAll("\n", "\n      ")

/** Milliseconds within which the same trouble is told once. */
const toldOnceIn = 60_000

/**
 * Says whether an entry tells of the same trouble as one that was told within the last minute: what is tried again every
 * second fails as often, and a database that is away would fill the disk. Told again, it says how often it came in between.
 */
function repetition(steady: () => number): (given: unknown[]) => boolean {
  const told = new Map<string, { at: number; times: number }>()
  return (given) => {
    const [fields, says] = given as [{ [name: string]: unknown }, string]
    if (typeof fields !== "object" || fields === null || !(fields.err instanceof Error || fields.away === true))
      return false
    const about = Object.entries(fields).filter(([, value]) => typeof value !== "object")
    const key = [says, ...about, fields.err instanceof Error ? fields.err.message : ""].join("\n").slice(0, 2000)
    const now = steady()
    const before = told.get(key)
    if (before && now - before.at < toldOnceIn) {
      before.times++
      return true
    }
    if (before?.times) given[0] = { ...fields, timesMeanwhile: before.times }
    if (told.size >= 1000) told.clear()
    told.set(key, { at: now, times: 0 })
    return false
  }
}

/** An error is left to its serializer. */
function mapped({ away: _, ...entry }: { [name: string]: unknown }): { [name: string]: unknown } {
  return Object.fromEntries(
    Object.entries(entry).map(([name, value]) => [name, value instanceof Error ? value : shownWithin(value)]),
  )
}
