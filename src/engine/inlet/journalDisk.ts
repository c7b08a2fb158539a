import { mkdir, open, readdir, readFile, rename, rm, stat } from "node:fs/promises"
import { join } from "node:path"

/** A file that is being written. */
export interface JournalDiskFile {
  /** Writes behind what stands there; not durable before `sync`. */
  append(content: string): Promise<void>
  sync(): Promise<void>
  /** Takes off what stands behind so many bytes. */
  cut(size: number): Promise<void>
  /** Whether the file still has the name it was made under. */
  isThere(): Promise<boolean>
  close(): Promise<void>
}

/** A folder of local disk, as the journal needs it. Names are of files in it. */
export interface JournalDisk {
  /** The names of all files; none where there is no folder yet. */
  list(): Promise<string[]>
  /** Makes a file, and the folder where it is missing. */
  create(name: string): Promise<JournalDiskFile>
  read(name: string): Promise<Buffer>
  /** False where there is no such file: another process was faster. */
  rename(from: string, to: string): Promise<boolean>
  remove(name: string): Promise<void>
  /** Makes durable which names there are. */
  sync(): Promise<void>
}

const isMissing = (error: unknown) => (error as { code?: string }).code === "ENOENT"

export function localDisk(folder: string): JournalDisk {
  const at = (name: string) => join(folder, name)
  return {
    list: () => readdir(folder).catch((error: unknown) => (isMissing(error) ? [] : Promise.reject(error as Error))),
    async create(name) {
      await mkdir(folder, { recursive: true, mode: 0o700 })
      const handle = await open(at(name), "ax", 0o600)
      const { ino } = await handle.stat()
      return {
        append: (content) => handle.appendFile(content),
        sync: () => handle.datasync(),
        cut: (size) => handle.truncate(size),
        isThere: async () => (await stat(at(name)).catch(() => undefined))?.ino === ino,
        close: () => handle.close(),
      }
    },
    read: (name) => readFile(at(name)),
    async rename(from, to) {
      try {
        await rename(at(from), at(to))
        return true
      } catch (error) {
        if (isMissing(error)) return false
        throw error
      }
    },
    remove: (name) => rm(at(name), { force: true }),
    async sync() {
      const handle = await open(folder, "r")
      try {
        await handle.sync()
      } finally {
        await handle.close()
      }
    },
  }
}
