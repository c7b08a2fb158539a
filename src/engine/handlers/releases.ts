import type { Database } from "../../store/database.ts"
import { releaseById, releasesOfLanes } from "../../store/releases.ts"
import type { HandlerError, ReadyRelease } from "./handler.ts"
import type { HostLimits } from "./hostProcess.ts"
import { HostPool } from "./hosts.ts"
import type { Housing } from "./housing.ts"
import { tableOf } from "./tables.ts"

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

/** Days for which the bundle of a release that nobody uses is kept on disk; the database has it as well. */
const keptDays = 30

/** Milliseconds the hosts of a release that is no longer used have to end what runs in them. */
const longestEnd = 60_000

/** The releases in use. A new release gets fresh hosts; those of one that nobody names any more end. */
export class Releases {
  private uses = 0
  private readonly entries = new Map<string, Entry>()
  private readonly warm = new Map<string, HostPool>()
  private onLanes: ReadonlySet<string> = new Set()
  private readonly pools = new Set<HostPool>()

  constructor(
    private readonly database: Database,
    private readonly housing: Housing,
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

  /** How many processes run handlers at the moment. */
  get hosts(): number {
    return [...this.pools].reduce((sum, pool) => sum + pool.size, 0)
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

  /** Removes bundles of releases that no lane has stood for in a month. */
  sweep(now: Date): void {
    const inUse = new Set([...this.onLanes, ...this.entries.keys(), ...this.warm.keys()])
    this.housing.sweep(new Date(now.getTime() - keptDays * 86_400_000), inUse)
  }

  /** Ends all hosts; what still runs in them is given up. */
  async close(): Promise<void> {
    const entries = [...this.entries.values()]
    this.entries.clear()
    const ready = await Promise.all(entries.map((entry) => entry.ready.catch(() => undefined)))
    const pools = [...ready.map((one) => one?.hosts), ...this.warm.values()]
    await Promise.all(pools.map((pool) => pool?.close(0)))
    this.housing.close()
  }

  /** Loads a bundle in a host to see whether it loads. The host stays, so that the release's first turn finds it warm. */
  async tryOut(id: string, bundle: string): Promise<HandlerError | undefined> {
    if (this.warm.has(id)) return undefined
    const pool = this.poolFor(id, bundle)
    const error = await pool.check()
    if (error || this.entries.has(id)) await pool.close(0)
    else this.warm.set(id, pool)
    return error
  }

  /** Ends the hosts of a release that was tried out and is not to go live. */
  async letGo(id: string): Promise<void> {
    const pool = this.warm.get(id)
    this.warm.delete(id)
    await pool?.close(0)
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
    const table = tableOf(row)
    if (row.bundle === null) return { id, table, hosts: undefined }
    const warm = this.warm.get(id)
    this.warm.delete(id)
    const hosts = warm ?? this.poolFor(id, row.bundle)
    return { id, table, hosts }
  }

  private poolFor(id: string, bundle: string): HostPool {
    const pool = new HostPool(this.housing, this.housing.bundle(id, bundle), this.limits)
    for (const ended of this.pools) if (ended.isOver) this.pools.delete(ended)
    this.pools.add(pool)
    return pool
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
