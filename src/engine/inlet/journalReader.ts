import type { Logger } from "pino"
import { databaseFault } from "../../store/database.ts"
import type { Liveness } from "../process/liveness.ts"
import type { Inlet } from "./inlet.ts"
import type { Journal } from "./journal.ts"
import type { JournalEntry, JournalFile } from "./journalFile.ts"
import { wallClock } from "../process/wallClock.ts"

/** What came of one file: calls read in, and what is left in it, which is kept. */
export interface FileRead {
  file: string
  read: number
  left: number
}

/** Calls that are read in at once while others wait for the end of that. */
const few = 200

/** Takes in what was kept on local disk while the database was away, by this process or one that ended. */
export class JournalReader {
  private reading: Promise<FileRead[]> = Promise.resolve([])

  constructor(private readonly parts: { journal: Journal; inlet: Inlet; liveness: Liveness; log: Logger }) {}

  /**
   * Reads in all there is, unless that is under way.
   *
   * @param again whether files that could not be read whole are read once more
   */
  read(again = false): Promise<FileRead[]> {
    const next = this.reading.catch(() => undefined).then(() => this.readAll(again))
    this.reading = next
    return next
  }

  private async readAll(again: boolean): Promise<FileRead[]> {
    const { journal } = this.parts
    const kept = again ? (await journal.files()).filter(({ state }) => state === "kept") : []
    const done = await this.readFiles(kept)
    // As long as there are calls on disk, later ones go there, too: the last few are read in while those wait.
    for (let last = Infinity; last > 0 && (last === Infinity || journal.holds);) {
      const isLast = last <= few
      const found: FileRead[] = []
      const round = async () => void found.push(...(await this.readWaiting()))
      await (isLast ? journal.empty(round) : round())
      done.push(...found)
      last = isLast ? 0 : found.reduce((sum, { read }) => sum + read, 0)
    }
    return done
  }

  private async readWaiting(): Promise<FileRead[]> {
    const { journal, liveness } = this.parts
    return this.readFiles(await journal.waiting(() => liveness.living()))
  }

  private async readFiles(files: JournalFile[]): Promise<FileRead[]> {
    const done: FileRead[] = []
    const takenElsewhere = new Set<string>()
    for (const file of files) {
      if (takenElsewhere.has(file.writer)) continue
      const read = await this.readFile(file)
      if (read) done.push(read)
      else takenElsewhere.add(file.writer)
    }
    return done
  }

  private async readFile(file: JournalFile): Promise<FileRead | undefined> {
    const { journal, log } = this.parts
    const taken = await journal.take(file)
    if (!taken) return undefined
    const { entries, damaged, torn } = taken
    const refused = await this.readIn(entries)
    const name = (await journal.forget(taken.file, damaged + refused > 0)) ?? file.name
    const read = entries.length - refused
    const about = { file: name, calls: read }
    if (read > 0) log.warn(about, "read in what was kept on local disk while the database was away")
    if (torn > 0) log.warn({ ...about, torn }, "a journal file ends with half a call, whose caller had no answer")
    if (damaged > 0)
      log.error({ ...about, damaged }, 'part of a journal file cannot be read: it is kept, see "wobbet journal show"')
    if (refused > 0)
      log.error({ ...about, refused }, "the database will not take some calls of a journal file: it is kept")
    return { file: name, read, left: damaged + refused }
  }

  /** Gives how many of the entries the database will not take, by themselves. */
  private async readIn(entries: JournalEntry[]): Promise<number> {
    const { inlet, log } = this.parts
    try {
      await inlet.readIn(entries, wallClock("record"))
      return 0
    } catch (error) {
      if (databaseFault(error) !== "data") throw error
      if (entries.length === 1) {
        log.error({ err: error, intake: entries[0]!.id }, "a call of the local journal cannot be kept in the database")
        return 1
      }
      let refused = 0
      for (const entry of entries) refused += await this.readIn([entry])
      return refused
    }
  }
}
