import type { Logger } from "pino"
import type { Errand } from "../../store/errands.ts"
import { errandsDue } from "../../store/errands.ts"
import type { Bell, Ring } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import type { OneAtATime, Repeated } from "./every.ts"
import { every, oneAtATime } from "./every.ts"

/** Milliseconds between two questions whether something is due. */
const lookEvery = 1000

/**
 * What this process does when its time has come. Once a second one statement asks what is due of all of it, and only
 * that is done: a service with nothing to do asks the database one thing a second, however much it could do.
 */
export class Errands {
  /** The channels this process sends for. */
  sendsFor: () => string[] = () => []
  private readonly jobs = new Map<Errand, OneAtATime>()
  private looking: Repeated | undefined

  constructor(private readonly parts: { database: Database; bell: Bell; log: Logger; self: string }) {}

  start(): void {
    this.looking = every(
      lookEvery,
      () => this.look(),
      (error) => this.complain(error, "what is due could not be found out; it is tried again"),
    )
  }

  async stop(): Promise<void> {
    await this.looking?.stop()
  }

  /**
   * Does a job whenever there is something to do for it, and at once when it is rung for. What fails is told, unless the
   * database is away: then it is tried again like everything else.
   *
   * @param failed what the log says of a job that threw
   */
  whenDue(errand: Errand, job: () => Promise<unknown>, failed: string, ring?: Ring): Repeated {
    const repeated = oneAtATime(job, (error) => this.complain(error, failed))
    this.jobs.set(errand, repeated)
    const silence = ring && this.parts.bell.on(ring, () => void repeated.now())
    return {
      now: () => repeated.now(),
      stop: () => {
        this.jobs.delete(errand)
        silence?.()
        return repeated.stop()
      },
    }
  }

  private async look(): Promise<void> {
    const { database, self } = this.parts
    const due = await errandsDue(database, [...this.jobs.keys()], { self, channels: this.sendsFor() })
    // A job that is under way asks by itself whether there is more.
    for (const errand of due) this.jobs.get(errand)?.nowOrSkip()
  }

  private complain(error: unknown, failed: string): void {
    if (databaseFault(error) !== "away") this.parts.log.error({ err: error }, failed)
  }
}
