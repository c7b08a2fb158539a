import { createHash } from "node:crypto"
import type { FileHandle } from "node:fs/promises"
import { mkdir, open, readdir, readFile, rename, rm } from "node:fs/promises"
import { join } from "node:path"
import { GroupCommit } from "../groupCommit.ts"

/** A call as the journal keeps it: what its intake will hold. Secrets are taken out before, as for the database. */
export interface JournalEntry {
  id: string
  channel: string
  method: string
  address: string
  headers: { [name: string]: string }
  /** Base64. */
  body: string
  /** By what it was found genuine. */
  by: string
  answered: number
  receivedAt: string
}

const nameShape = /^(\d{14})-(.+)\.calls$/

/**
 * Calls that their provider never repeats, kept on local disk while the database is away: synced before they are
 * answered, read in first when it is back. A process writes files of its own; what one left behind that ended is taken
 * over by another on the same data directory.
 */
export class Journal {
  private file: { handle: FileHandle; path: string } | undefined
  private unread = new Set<string>()
  private lastStamp = 0
  private readonly writes = new GroupCommit<JournalEntry, void>((entries) => this.write(entries), 500)

  constructor(
    private readonly folder: string,
    private readonly self: string,
  ) {}

  /** Whether calls of this process wait to be read in: then later ones must stand behind them. */
  get holds(): boolean {
    return this.unread.size > 0
  }

  /** Resolves once the entry is on disk for good. */
  add(entry: JournalEntry): Promise<void> {
    return this.writes.add(entry)
  }

  /**
   * The files to be read in, the oldest first: this process's own, and those of processes that no longer live.
   *
   * @param alive asked only where there are files of others
   */
  async waiting(alive: () => Promise<Set<string>>): Promise<string[]> {
    const names = await readdir(this.folder).catch(() => [] as string[])
    const files = names.flatMap((name) => {
      const owner = nameShape.exec(name)?.[2]
      return owner === undefined ? [] : [{ name, owner }]
    })
    const living = files.some(({ owner }) => owner !== this.self) ? await alive() : new Set<string>()
    return files
      .filter(({ owner }) => owner === this.self || !living.has(owner))
      .map(({ name }) => name)
      .sort()
      .map((name) => join(this.folder, name))
  }

  /** A file's entries; what is written from now on goes into another. Nothing when another process was faster. */
  async take(path: string): Promise<{ path: string; entries: JournalEntry[]; broken: number } | undefined> {
    if (path === this.file?.path) await this.closeFile()
    let mine = path
    if (!this.unread.has(path)) {
      mine = path.replace(/-[^-]+\.calls$/, `-${this.self}.calls`)
      try {
        await rename(path, mine)
      } catch {
        return undefined
      }
      this.unread.add(mine)
    }
    const lines = (await readFile(mine, "utf8")).split("\n").filter(Boolean)
    const read = lines.map(entryOf)
    const entries = read.filter((entry) => entry !== undefined)
    // The last line may be torn: its process ended while writing it, and its caller had no answer. Any other may not.
    const broken = read.slice(0, -1).filter((entry) => entry === undefined).length
    return { path: mine, entries, broken }
  }

  /** Everything in the file is durable elsewhere. One that could not be read whole is kept beside, for people. */
  async forget(path: string, broken: number): Promise<void> {
    if (broken > 0) await rename(path, `${path}.broken`)
    else await rm(path)
    this.unread.delete(path)
  }

  async close(): Promise<void> {
    await this.writes.drained()
    await this.closeFile()
  }

  private async closeFile(): Promise<void> {
    const { file } = this
    this.file = undefined
    await file?.handle.close()
  }

  private async write(entries: JournalEntry[]): Promise<void[]> {
    const { handle } = (this.file ??= await this.newFile())
    await handle.appendFile(entries.map(lineOf).join(""))
    await handle.datasync()
    return entries.map(() => undefined)
  }

  private async newFile(): Promise<{ handle: FileHandle; path: string }> {
    await mkdir(this.folder, { recursive: true, mode: 0o700 })
    this.lastStamp = Math.max(Date.now(), this.lastStamp + 1)
    const path = join(this.folder, `${String(this.lastStamp).padStart(14, "0")}-${this.self}.calls`)
    const handle = await open(path, "a", 0o600)
    // The file's name must survive a crash as well as what is in it.
    const folder = await open(this.folder, "r")
    await folder.sync()
    await folder.close()
    this.unread.add(path)
    return { handle, path }
  }
}

function lineOf(entry: JournalEntry): string {
  const json = JSON.stringify(entry)
  return `${digest(json)} ${json}\n`
}

function entryOf(line: string): JournalEntry | undefined {
  const json = line.slice(17)
  return digest(json) === line.slice(0, 16) ? (JSON.parse(json) as JournalEntry) : undefined
}

function digest(text: string): string {
  return createHash("sha256").update(text).digest("hex").slice(0, 16)
}
