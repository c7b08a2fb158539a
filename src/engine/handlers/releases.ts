import { mkdir, rename, writeFile } from "node:fs/promises"
import { join } from "node:path"
import { RouteTable } from "../../core/routing/table.ts"
import type { Database } from "../../store/database.ts"
import { releaseById, releasesOfLanes } from "../../store/releases.ts"
import type { HandlerError, ReadyRelease } from "./handler.ts"
import type { HostLimits } from "./hostProcess.ts"
import { HostPool } from "./hosts.ts"

/** A release with the hosts of its code, which are started when a handler is first needed. */
interface Hosted extends ReadyRelease {
  hosts: HostPool | undefined
}

interface Entry {
  ready: Promise<Hosted | undefined>
  /** Turns that are under way with it. */
  users: number
  /** Counts up with every use: the largest was used last. */
  used: number
}

/** Releases kept ready although no lane stands for them and no turn uses them: a lane may be moved back at once. */
const kept = 2

/** Milliseconds the hosts of a release that is no longer used have to end what runs in them. */
const longestEnd = 60_000

/** The releases in use. A new release gets fresh hosts; those of one that nobody names any more end. */
export class Releases {
  private uses = 0
  private readonly entries = new Map<string, Entry>()
  private readonly warm = new Map<string, HostPool>()
  private onLanes: ReadonlySet<string> = new Set()

  constructor(
    private readonly database: Database,
    private readonly folder: string,
    private readonly hostScript: string,
    private readonly limits: HostLimits,
  ) {}

  /** Runs something with a release, which stays ready at least until that has ended. */
  async with<T>(id: string | null, run: (release: ReadyRelease | undefined) => Promise<T>): Promise<T> {
    if (id === null) return run(undefined)
    const entry = this.entry(id)
    entry.users++
    try {
      return await run(await entry.ready)
    } finally {
      entry.users--
    }
  }

  /** Makes a release ready before anybody needs it. */
  async prepare(id: string): Promise<void> {
    await this.entry(id).ready
  }

  /** Reads which releases the lanes stand for, and ends the hosts of those that nobody needs. */
  async follow(): Promise<void> {
    this.onLanes = new Set(await releasesOfLanes(this.database))
    this.retire()
  }

  /** Ends all hosts; what still runs in them is given up. */
  async close(): Promise<void> {
    const entries = [...this.entries.values()]
    this.entries.clear()
    const ready = await Promise.all(entries.map((entry) => entry.ready.catch(() => undefined)))
    const pools = [...ready.map((one) => one?.hosts), ...this.warm.values()]
    await Promise.all(pools.map((pool) => pool?.close(0)))
  }

  /** Loads a bundle in a host to see whether it loads. The host stays, so that the release's first turn finds it warm. */
  async tryOut(id: string, bundle: string): Promise<HandlerError | undefined> {
    const pool = new HostPool(this.hostScript, await this.bundleFile(id, bundle), this.limits)
    const error = await pool.check()
    if (error || this.entries.has(id)) await pool.close(0)
    else this.warm.set(id, pool)
    return error
  }

  private entry(id: string): Entry {
    let entry = this.entries.get(id)
    if (!entry) {
      const ready = this.read(id)
      this.entries.set(id, (entry = { ready, users: 0, used: 0 }))
      ready.catch(() => {
        if (this.entries.get(id)?.ready === ready) this.entries.delete(id)
      })
    }
    entry.used = ++this.uses
    return entry
  }

  private async read(id: string): Promise<Hosted | undefined> {
    const row = await releaseById(this.database, id)
    if (!row) return undefined
    const table = new RouteTable(row.definition)
    if (row.bundle === null) return { id, table, hosts: undefined }
    const warm = this.warm.get(id)
    this.warm.delete(id)
    const hosts = warm ?? new HostPool(this.hostScript, await this.bundleFile(id, row.bundle), this.limits)
    return { id, table, hosts }
  }

  /** Writes a bundle where a host can load it; the name is its content's hash, since modules are never unloaded. */
  private async bundleFile(id: string, bundle: string): Promise<string> {
    await mkdir(this.folder, { recursive: true })
    const file = join(this.folder, `${id}.mjs`)
    const draft = `${file}.${process.pid}`
    await writeFile(draft, bundle)
    await rename(draft, file)
    return file
  }

  private retire(): void {
    const unused = [...this.entries]
      .filter(([id, entry]) => entry.users === 0 && !this.onLanes.has(id))
      .sort(([, a], [, b]) => a.used - b.used)
    for (const [id, { ready }] of unused.slice(0, -kept)) {
      this.entries.delete(id)
      void ready.then((release) => release?.hosts?.close(longestEnd)).catch(() => undefined)
    }
    for (const [id, pool] of [...this.warm].slice(0, -kept)) {
      this.warm.delete(id)
      void pool.close(0)
    }
  }
}
