import { mkdir, rename, writeFile } from "node:fs/promises"
import { join } from "node:path"
import { RouteTable } from "../core/routing/table.ts"
import type { Database } from "../store/database.ts"
import { releaseById } from "../store/releases.ts"
import type { HandlerAnswer, HostLimits } from "./hosts.ts"
import { HostPool } from "./hosts.ts"
import type { HostError, TurnInput } from "./hostProtocol.ts"

/** A release ready to decide and to run: its route table at hand, its hosts started when a code handler is first needed. */
export interface ReadyRelease {
  id: string
  table: RouteTable
  hosts: HostPool | undefined
}

/** The releases in use. A new release gets fresh hosts; those of an older one end when nothing runs in them. */
export class Bots {
  private readonly ready = new Map<string, Promise<ReadyRelease | undefined>>()
  private readonly warm = new Map<string, HostPool>()

  constructor(
    private readonly database: Database,
    private readonly folder: string,
    private readonly hostScript: string,
    private readonly limits: HostLimits,
  ) {}

  release(id: string): Promise<ReadyRelease | undefined> {
    let found = this.ready.get(id)
    if (!found) {
      found = this.prepare(id)
      this.ready.set(id, found)
      found.catch(() => this.ready.delete(id))
      this.retire()
    }
    return found
  }

  async run(release: ReadyRelease, handler: string, turn: TurnInput, deadline: number): Promise<HandlerAnswer> {
    if (!release.hosts) throw new Error(`The release ${release.id} has no code handlers.`)
    return release.hosts.run(handler, turn, deadline)
  }

  async close(): Promise<void> {
    const all = await Promise.all([...this.ready.values()].map((one) => one.catch(() => undefined)))
    await Promise.all(all.map((one) => one?.hosts?.close()))
    await Promise.all([...this.warm.values()].map((pool) => pool.close()))
    this.ready.clear()
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

  /** Loads a bundle in a host to see whether it loads. The host stays, so that the release's first turn finds it warm. */
  async tryOut(id: string, bundle: string): Promise<HostError | undefined> {
    const pool = new HostPool(this.hostScript, await this.bundleFile(id, bundle), this.limits)
    const error = await pool.check()
    if (error || this.ready.has(id)) await pool.close()
    else this.warm.set(id, pool)
    return error
  }

  private async prepare(id: string): Promise<ReadyRelease | undefined> {
    const row = await releaseById(this.database, id)
    if (!row) return undefined
    const table = new RouteTable(row.definition)
    if (row.bundle === null) return { id, table, hosts: undefined }
    const warm = this.warm.get(id)
    this.warm.delete(id)
    const hosts = warm ?? new HostPool(this.hostScript, await this.bundleFile(id, row.bundle), this.limits)
    return { id, table, hosts }
  }

  /** Keeps the newest few; a lane may be moved back at once. */
  private retire(): void {
    const old = [...this.ready.keys()].slice(0, -3)
    for (const id of old) {
      const leaving = this.ready.get(id)!
      this.ready.delete(id)
      void leaving.then((release) => release?.hosts?.close()).catch(() => undefined)
    }
  }
}
