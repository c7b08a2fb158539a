import type { DestinationStream, Logger, LoggerOptions } from "pino"
import pino from "pino"
import pretty from "pino-pretty"
import { shown, shownWithin } from "../client/shown.ts"

/**
 * One line a happening: for people at a terminal, as JSON with WOBBET_LOG=json. Secrets never reach it, and what strangers
 * wrote reaches it with escapes for all that a terminal obeys.
 *
 * @param to where it is written, where that is not the standard output
 */
export function makeLog(env: NodeJS.ProcessEnv, to?: DestinationStream): Logger {
  const level = env.WOBBET_LOG_LEVEL ?? "info"
  const redact = {
    paths: ["*.token", "*.hookSecret", "*.authorization", "headers.*", "req.headers", "secrets"],
    censor: "•••",
  }
  const options: LoggerOptions = {
    level,
    redact,
    base: undefined,
    serializers: { err: (error: Error) => shownWithin(pino.stdSerializers.err(error)) },
    formatters: { log: (entry) => mapped(entry) },
    hooks: {
      logMethod(given, method) {
        method.apply(this, given.map((one: unknown) => (typeof one === "string" ? shown(one) : one)) as typeof given)
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

/** An error is left to its serializer. */
function mapped(entry: { [name: string]: unknown }): { [name: string]: unknown } {
  return Object.fromEntries(
    Object.entries(entry).map(([name, value]) => [name, value instanceof Error ? value : shownWithin(value)]),
  )
}
