import type { Logger } from "pino"
import { endChore, takeChore } from "../../store/chores.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import type { Repeated } from "./every.ts"
import { every } from "./every.ts"

/** What is to be done now and then by one process of all, by the database's clock. */
export interface Chore {
  name: string
  /** Seconds after which it is due again. */
  every: number
  /** @param now the database's time */
  run(now: Date): Promise<unknown>
}

/** What each process does for itself, again and again. */
export interface Round {
  /** Milliseconds. */
  every: number
  run(): Promise<unknown>
}

/** Seconds after which a chore whose process has ended may be taken by another. */
const longestChore = 600

/** Keeps house: the rounds of this process, and its share of the chores of all. */
export class Housekeeping {
  private repeated: Repeated[] = []

  constructor(
    private readonly parts: { database: Database; log: Logger; self: string; rounds: Round[]; chores: Chore[] },
  ) {}

  start(): void {
    const { rounds, chores, log } = this.parts
    const failed = (error: unknown) => {
      if (databaseFault(error) !== "away") log.error({ err: error }, "housekeeping failed; it is tried again")
    }
    this.repeated = rounds.map((round) => every(round.every, () => round.run(), failed))
    const doing = every(60_000, () => this.doChores(chores), failed)
    this.repeated.push(doing)
    // What was due while no service ran is not left for another minute.
    void doing.now()
  }

  async stop(): Promise<void> {
    await Promise.all(this.repeated.map((one) => one.stop()))
  }

  private async doChores(chores: Chore[]): Promise<void> {
    const { database, self, log } = this.parts
    for (const chore of chores) {
      const now = await takeChore(database, { name: chore.name, every: chore.every, within: longestChore }, self)
      if (!now) continue
      try {
        await chore.run(now)
        await endChore(database, chore.name, self, true)
      } catch (error) {
        await endChore(database, chore.name, self, false).catch(() => undefined)
        if (databaseFault(error) === "away") throw error
        log.error({ err: error }, `${chore.name} failed; it is tried again`)
      }
    }
  }
}
