import type { Channel } from "../core/channels/kind.ts"
import { kindOf } from "../core/channels/registry.ts"
import type { ChannelRow } from "../store/channels.ts"
import { listChannels } from "../store/channels.ts"
import type { Database } from "../store/database.ts"
import type { Seal } from "./seal.ts"

/** A channel as the engine keeps it at hand: its row, and what the pure rooms need, secrets opened. */
export interface KnownChannel {
  row: ChannelRow
  channel: Channel
}

/** All channels, read again whenever a process changed one, and every few seconds to be sure. */
export class Channels {
  private known = new Map<string, KnownChannel>()
  private reading: Promise<void> | undefined

  constructor(
    private readonly database: Database,
    private readonly seal: Seal,
    private readonly publicUrl: () => string,
  ) {}

  get(key: string): KnownChannel | undefined {
    return this.known.get(key)
  }

  all(): KnownChannel[] {
    return [...this.known.values()]
  }

  on(): KnownChannel[] {
    return this.all().filter(({ row }) => row.state === "on")
  }

  /** Reads them anew; calls that come while one is reading wait for a reading that began after them. */
  async refresh(): Promise<void> {
    await this.reading?.catch(() => undefined)
    this.reading ??= this.read().finally(() => (this.reading = undefined))
    await this.reading
  }

  private async read(): Promise<void> {
    const found = await listChannels(this.database)
    this.known = new Map(found.map((row) => [row.key, { row, channel: this.open(row) }]))
  }

  private open(row: ChannelRow): Channel {
    const secrets = Object.fromEntries(
      Object.entries(row.sealed).map(([name, sealed]) => [name, this.seal.open(sealed)]),
    )
    kindOf(row.kind)
    const own = row.settings.publicUrl as string | undefined
    const { publicUrl } = this
    return {
      get publicBase() {
        return (own ?? publicUrl()).replace(/\/+$/, "")
      },
      key: row.key,
      kind: row.kind,
      settings: row.settings,
      secrets,
      ...(row.identity ? { identity: row.identity } : {}),
    }
  }
}
