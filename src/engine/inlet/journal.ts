import { setTimeout as pause } from "node:timers/promises"
import { faultPoint } from "../../store/faults.ts"
import { GroupCommit } from "../groupCommit.ts"
import type { JournalDisk, JournalDiskFile } from "./journalDisk.ts"
import type { JournalContent, JournalEntry, JournalFile } from "./journalFile.ts"
import { contentOf, fileNamed, lineOf, nameIn } from "./journalFile.ts"

/** Bytes after which a file is sealed and another begun: what is read at once stays small. */
const largestFile = 8 * 1024 * 1024

/** Milliseconds a caller waits at most while the last calls are read in, before its own stands behind them. */
const longestHold = 500

interface OpenFile {
  file: JournalFile
  disk: JournalDiskFile
  /** Bytes of it that are durable. */
  size: number
}

/**
 * Calls that their provider never repeats, kept on local disk while the database is away: synced before they are
 * answered, read in first when it is back.
 *
 * Whose file it is, and what is being done with it, stands in its name alone (see JournalFile). A process writes its own
 * open file, and reads what is sealed: its own files, and those whose holder has ended. A rename takes a file over, so
 * that only one process can. A writer whose file was taken away, by a process that held it for dead, notices before it
 * says that an entry is kept, and writes it once more: read in twice, an entry is kept once.
 */
export class Journal {
  private open: OpenFile | undefined
  /** The numbers of this process's own files that are to be read in. */
  private readonly own = new Set<number>()
  /** The number of the file that is being made or written. A name may say so of others, where a rename failed. */
  private writing: number | undefined
  private last = 0
  private emptying: Promise<void> | undefined
  /** What is done with the open file, one after the other. */
  private exclusive: Promise<unknown> = Promise.resolve()
  private readonly writes = new GroupCommit<JournalEntry, void>(async (entries) => {
    await this.alone(() => this.write(entries))
    return entries.map(() => undefined)
  }, 500)

  constructor(
    private readonly disk: JournalDisk,
    private readonly self: string,
  ) {}

  /** Whether calls of this process wait to be read in: then later ones must stand behind them. */
  get holds(): boolean {
    return this.own.size > 0
  }

  /** As `holds`; where the last calls are just being read in, it waits a little for the end of that. */
  async holdsStill(): Promise<boolean> {
    if (this.holds && this.emptying)
      await Promise.race([this.emptying.catch(() => undefined), pause(longestHold, undefined, { ref: false })])
    return this.holds
  }

  /** Resolves once the entry is on disk for good. */
  add(entry: JournalEntry): Promise<void> {
    return this.writes.add(entry)
  }

  /** Runs what reads in the last few calls. Whoever asks meanwhile whether more must stand behind them waits for it. */
  async empty(run: () => Promise<void>): Promise<void> {
    this.emptying = this.writes.drained().then(run)
    await this.emptying.finally(() => (this.emptying = undefined))
  }

  /**
   * All files of the folder, in their order.
   *
   * @param behind the name of a file, in whatever state it is by now: only those that follow it
   */
  async files(behind?: string): Promise<JournalFile[]> {
    const files = (await this.disk.list()).flatMap((name) => fileNamed(name) ?? [])
    const before = behind === undefined ? undefined : fileNamed(behind)
    return files.filter((file) => !before || inOrder(before, file) < 0).sort(inOrder)
  }

  /**
   * The files to be read in, the first first: this process's own, whose open one is sealed before, and those of
   * processes that no longer live.
   *
   * @param alive asked only where there are files of others
   */
  async waiting(alive: () => Promise<Set<string>>): Promise<JournalFile[]> {
    // Most of the time there is nothing to seal, and the disk may be slow.
    if (this.open) await this.alone(() => this.seal())
    const known = [...this.own]
    const files = (await this.files()).filter(({ state }) => state !== "kept")
    const mine = new Set(files.filter(({ writer }) => writer === this.self).map(({ sequence }) => sequence))
    for (const sequence of known) if (!mine.has(sequence)) this.own.delete(sequence)
    const isOthers = ({ holder }: JournalFile) => holder !== undefined && holder !== this.self
    const living = files.some(isOthers) ? await alive() : new Set<string>()
    // What a writer wrote is read in in its order: nothing of it while somebody else reads what stands before.
    const behind = new Set<string>()
    return files.filter((file) => {
      if (isOthers(file) && living.has(file.holder!)) behind.add(file.writer)
      if (behind.has(file.writer)) return false
      return file.writer !== this.self || file.sequence !== this.writing
    })
  }

  /** Takes a file over, and what can be read of it. Nothing where another process was faster. */
  async take(file: JournalFile): Promise<({ file: JournalFile } & JournalContent) | undefined> {
    const mine: JournalFile = { ...file, state: "reading", holder: this.self }
    mine.name = nameIn(mine)
    if (file.name !== mine.name && !(await this.disk.rename(file.name, mine.name))) return undefined
    return { file: mine, ...contentOf(await this.disk.read(mine.name)) }
  }

  /** What a file holds, without taking it. Nothing where it has been read in meanwhile. */
  async look(file: JournalFile): Promise<(JournalContent & { bytes: number }) | undefined> {
    const content = await this.disk.read(file.name).catch(() => undefined)
    return content && { ...contentOf(content), bytes: content.length }
  }

  /**
   * What could be read of a file is durable elsewhere.
   *
   * @param rest whether something of it could not be read: then it is kept, for people
   * @returns the name it is kept under
   */
  async forget(file: JournalFile, rest: boolean): Promise<string | undefined> {
    const kept = rest ? nameIn({ ...file, state: "kept" }) : undefined
    if (kept) await this.disk.rename(file.name, kept)
    else await this.disk.remove(file.name)
    if (file.writer === this.self) this.own.delete(file.sequence)
    return kept
  }

  async close(): Promise<void> {
    await this.writes.drained()
    await this.alone(() => this.seal())
  }

  /** Runs what changes the open file when nothing else does. */
  private alone<Result>(run: () => Promise<Result>): Promise<Result> {
    const done = this.exclusive.then(run, run)
    this.exclusive = done.catch(() => undefined)
    return done
  }

  private async write(entries: JournalEntry[]): Promise<void> {
    const content = entries.map(lineOf).join("")
    for (let tries = 0; tries < 3; tries++) {
      const open = (this.open ??= await this.newFile())
      let isThere: boolean
      try {
        await open.disk.append(content)
        await open.disk.sync()
        isThere = await open.disk.isThere()
      } catch (error) {
        // Half a line may stand there now: nothing is ever written behind it.
        await open.disk.cut(open.size).catch(() => undefined)
        await this.seal()
        throw error
      }
      if (isThere) {
        open.size += Buffer.byteLength(content)
        if (open.size > largestFile) await this.seal()
        return
      }
      // Whoever took it may have read it before this was written.
      await this.seal()
    }
    throw new Error("the files of the local journal are taken away while they are written")
  }

  /** Nothing more is written to the open file. */
  private async seal(): Promise<void> {
    const { open } = this
    if (!open) return
    this.open = undefined
    this.writing = undefined
    await open.disk.close().catch(() => undefined)
    await this.disk.rename(open.file.name, nameIn({ ...open.file, state: "sealed" })).catch(() => undefined)
  }

  private async newFile(): Promise<OpenFile> {
    const files = await this.files()
    const sequence = Math.max(this.last, ...files.map((file) => file.sequence)) + 1
    const file: JournalFile = { name: "", sequence, writer: this.self, state: "open", holder: this.self }
    file.name = nameIn(file)
    this.last = this.writing = sequence
    let disk: JournalDiskFile | undefined
    try {
      disk = await this.disk.create(file.name)
      this.own.add(sequence)
      if (FAULTS_BUILT) await faultPoint("journal: file made")
      // The file's name must survive a crash as well as what is in it.
      await this.disk.sync()
    } catch (error) {
      this.writing = undefined
      await disk?.close().catch(() => undefined)
      throw error
    }
    return { file, disk, size: 0 }
  }
}

function inOrder(a: JournalFile, b: JournalFile): number {
  return a.sequence - b.sequence || (a.writer === b.writer ? 0 : a.writer < b.writer ? -1 : 1)
}
