import type { Logger } from "pino"
import type { Doer } from "../../store/access.ts"
import { record } from "../../store/access.ts"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import type { ForgettingRow } from "../../store/forgetting.ts"
import { beginForgetting, forgettingsOnRecord, lookOn, takeForgetting } from "../../store/forgetting.ts"
import { forgottenFile, rememberForgotten } from "../../store/forgottenList.ts"
import { newId } from "../../store/ids.ts"
import type { Seal } from "../seal.ts"
import { wallClock } from "../process/wallClock.ts"

/** Seconds for which a process has a forgetting to itself, renewed with every slice. */
const lease = 20
/** Milliseconds of one slice. */
const slice = 5000

/** Forgets people on request: at once where they are known, then piece by piece in all that is on record. */
export class Forgetting {
  private readonly list: string

  constructor(
    private readonly parts: { database: Database; bell: Bell; seal: Seal; self: string; log: Logger; home: string },
  ) {
    this.list = forgottenFile(parts.home)
  }

  /** Gives undefined where there is no such person. */
  async begin(contact: string, by: Doer): Promise<ForgettingRow | undefined> {
    const { database, bell, seal } = this.parts
    const begun = await beginForgetting(database, {
      id: newId("fgt"),
      contact,
      by: by.name,
      at: wallClock("record"),
      markOf: (...at) => seal.mark(...at),
    })
    if (!begun) return undefined
    if (FAULTS_BUILT) await faultPoint("forgetting: begun")
    await bell.ringHereFirst("people")
    await record(database, by, "person forgotten", { contact, forgetting: begun.id })
    await this.remember()
    return begun
  }

  /** Keeps the list beside the database whole: a backup that is older than a forgetting is corrected by it. */
  async remember(): Promise<void> {
    await rememberForgotten(this.list, await forgettingsOnRecord(this.parts.database))
  }

  /** Looks through the record for some seconds, if somebody is to be forgotten. */
  async look(): Promise<void> {
    const { database, self, log } = this.parts
    let row = await takeForgetting(database, self, lease)
    if (!row) return
    await this.remember()
    for (const end = performance.now() + slice; row.endedAt === null && performance.now() < end;) {
      row = await lookOn(database, row)
      if (FAULTS_BUILT) await faultPoint("forgetting: piece removed")
    }
    if (row.endedAt) log.info({ forgetting: row.id, removed: row.removed }, "a person is forgotten")
  }
}
