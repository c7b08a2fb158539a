import type { Logger } from "pino"
import pino from "pino"
import pretty from "pino-pretty"

/** One line a happening: for people at a terminal, as JSON with WOBBET_LOG=json. Secrets never reach it. */
export function makeLog(env: NodeJS.ProcessEnv): Logger {
  const level = env.WOBBET_LOG_LEVEL ?? "info"
  const redact = {
    paths: ["*.token", "*.hookSecret", "*.authorization", "headers.*", "req.headers", "secrets"],
    censor: "•••",
  }
  if (env.WOBBET_LOG === "json") return pino({ level, redact, base: undefined })
  return pino(
    { level, redact, base: undefined },
    pretty({
      colorize: process.stdout.isTTY === true && env.NO_COLOR === undefined,
      translateTime: "HH:MM:ss",
      ignore: "pid,hostname",
      singleLine: false,
      sync: true,
    }),
  )
}
