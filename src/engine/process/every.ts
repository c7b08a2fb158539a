/** A job that is done again and again, and never twice at once. */
export interface Repeated {
  /** Does the job now, or, where it is under way, once more as soon as that has ended. */
  now(): Promise<void>
  /** Ends the repetition; resolves when a job that is under way has ended. */
  stop(): Promise<void>
}

/**
 * Does a job every so many milliseconds. A turn that comes while the job is still under way is left out, so that a slow
 * database meets one sweep and not a crowd of them.
 *
 * @param failed told what the job threw; the repetition continues
 */
export function every(milliseconds: number, job: () => Promise<unknown>, failed: (error: unknown) => void): Repeated {
  const single = oneAtATime(job, failed)
  const timer = setInterval(() => single.nowOrSkip(), milliseconds)
  timer.unref()
  return {
    now: single.now,
    async stop() {
      clearInterval(timer)
      await single.stop()
    },
  }
}

/** A job that is done when it is asked for, and never twice at once. */
export interface OneAtATime extends Repeated {
  /** Does the job now, unless it is under way. */
  nowOrSkip(): void
}

export function oneAtATime(job: () => Promise<unknown>, failed: (error: unknown) => void): OneAtATime {
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
  return {
    nowOrSkip() {
      if (!running && !stopped) void run()
    },
    async now() {
      if (stopped) return
      if (running) again = true
      await run()
    },
    async stop() {
      stopped = true
      await running
    },
  }
}
