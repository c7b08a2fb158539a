import type { Logger } from "pino"
import type { Liveness } from "../process/liveness.ts"
import type { Inlet } from "./inlet.ts"
import type { Journal } from "./journal.ts"

/** Takes in what was kept on local disk while the database was away, by this process or one that ended. */
export class JournalReader {
  constructor(private readonly parts: { journal: Journal; inlet: Inlet; liveness: Liveness; log: Logger }) {}

  async read(): Promise<void> {
    const { journal, inlet, liveness, log } = this.parts
    for (const path of await journal.waiting(() => liveness.living())) {
      const taken = await journal.take(path)
      if (!taken) continue
      const { entries, broken } = taken
      await inlet.readIn(entries, new Date())
      await journal.forget(taken.path, broken)
      log.warn(`read in ${entries.length} calls that were kept on local disk while the database was away`)
      if (broken > 0) log.error(`${broken} lines of ${path} cannot be read; the file is kept as ${taken.path}.broken`)
    }
  }
}
