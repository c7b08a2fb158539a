import type { Logger } from "pino"
import type { Bell, Ring } from "../../store/bell.ts"
import { databaseFault } from "../../store/database.ts"

/** A job that is done again and again, and never twice at once. */
export interface Repeated {
  /** Does the job now, or, where it is under way, once more as soon as that has ended. */
  now(): Promise<void>
  /** Ends the repetition; resolves when a job that is under way has ended. */
  stop(): Promise<void>
}

/**
 * Does a job again and again, and at once when it is rung for. What fails is told, unless the database is away: then it is
 * tried again like everything else.
 */
export function everyOrRung(
  { bell, log }: { bell: Bell; log: Logger },
  ring: Ring,
  milliseconds: number,
  job: () => Promise<unknown>,
  failed: string,
): Repeated {
  const repeated = every(milliseconds, job, (error) => {
    if (databaseFault(error) !== "away") log.error({ err: error }, failed)
  })
  bell.on(ring, () => void repeated.now().catch(() => undefined))
  return repeated
}

/**
 * Does a job every so many milliseconds. A turn that comes while the job is still under way is left out, so that a slow
 * database meets one sweep and not a crowd of them.
 *
 * @param failed told what the job threw; the repetition continues
 */
export function every(milliseconds: number, job: () => Promise<unknown>, failed: (error: unknown) => void): Repeated {
  let running: Promise<void> | undefined
  let again = false
  let stopped = false
  const run = (): Promise<void> =>
    (running ??= (async () => {
      do {
        again = false
        await job().catch(failed)
      } while (again && !stopped)
    })().finally(() => (running = undefined)))
  const timer = setInterval(() => {
    if (!running) void run()
  }, milliseconds)
  timer.unref()
  return {
    async now() {
      if (stopped) return
      if (running) again = true
      await run()
    },
    async stop() {
      stopped = true
      clearInterval(timer)
      await running
    },
  }
}
