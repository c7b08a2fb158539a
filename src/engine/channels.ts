import type { Channel } from "../core/channels/kind.ts"
import { kindOf } from "../core/channels/registry.ts"
import type { Profile } from "../core/gateway/profile.ts"
import { withDefaults } from "../core/gateway/settings.ts"
import { readProfile } from "../core/gateway/readProfile.ts"
import { profiles as shipped } from "../core/gateway/shipped.ts"
import type { OwnedSecret } from "../core/signature/secrets.ts"
import type { ChannelRow } from "../store/channels.ts"
import { listChannels } from "../store/channels.ts"
import type { Database } from "../store/database.ts"
import { listProfiles } from "../store/profiles.ts"
import type { Seal } from "./seal.ts"
import { withoutEnd } from "../core/message/trimmed.ts"

/** A channel as the engine keeps it at hand: its row, and what the pure rooms need, secrets opened. */
export interface KnownChannel {
  row: ChannelRow
  channel: Channel
  /** Secrets that were replaced and still verify calls until they are dropped. */
  former: { [name: string]: string }
}

/** An address as the channel's kind keeps it, whatever form it was given in. */
export function addressOn({ channel, row }: KnownChannel, given: string): string {
  return kindOf(row.kind).addressOf?.(given, channel) ?? given.trim()
}

/** All channels, read again whenever a process changed one, and every few seconds to be sure. */
export class Channels {
  private known = new Map<string, KnownChannel>()
  private own = new Map<string, { source: string; profile: Profile }>()
  private owned: OwnedSecret[] | undefined
  private lookedAt = -Infinity
  private reading: Promise<void> | undefined

  constructor(
    private readonly database: Database,
    private readonly seal: Seal,
    private readonly publicUrl: () => string,
  ) {}

  get(key: string): KnownChannel | undefined {
    return this.known.get(key)
  }

  /**
   * A channel that may have been added by another process a moment ago. Whoever calls addresses that are nobody's makes
   * the channels be read again once a second at most.
   */
  async meet(key: string): Promise<KnownChannel | undefined> {
    const known = this.known.get(key)
    if (known || performance.now() - this.lookedAt < 1000) return known
    this.lookedAt = performance.now()
    await this.refresh().catch(() => undefined)
    return this.known.get(key)
  }

  all(): KnownChannel[] {
    return [...this.known.values()]
  }

  on(): KnownChannel[] {
    return this.all().filter(({ row }) => row.state === "on")
  }

  /** A gateway profile by its name: one of this installation's, or one that ships. */
  profile(name: unknown): Profile | undefined {
    if (typeof name !== "string") return undefined
    return this.own.get(name)?.profile ?? (Object.hasOwn(shipped, name) ? shipped[name] : undefined)
  }

  /** Every secret there is, whose it is and what it is called: for finding out whether two were mixed up. */
  secrets(): OwnedSecret[] {
    return (this.owned ??= this.all().flatMap(({ channel, former }) =>
      [channel.secrets, former].flatMap((some) =>
        Object.entries(some).map(([name, value]) => ({ channel: channel.key, name, value })),
      ),
    ))
  }

  /** Reads them again; calls that come while one is reading wait for a reading that began after them. */
  async refresh(): Promise<void> {
    await this.reading?.catch(() => undefined)
    this.reading ??= this.read().finally(() => (this.reading = undefined))
    await this.reading
  }

  private async read(): Promise<void> {
    const [found, profiles] = await Promise.all([listChannels(this.database), listProfiles(this.database)])
    const own: typeof this.own = new Map()
    for (const { name, source } of profiles) {
      const before = this.own.get(name)
      const read = before?.source === source ? before : { source, ...readProfile(source, { kept: true }) }
      if ("profile" in read) own.set(name, read)
    }
    this.own = own
    this.known = new Map(
      found.map((row) => [row.key, { row, channel: this.open(row), former: this.openedFormer(row) }]),
    )
    this.owned = undefined
  }

  /** The row's secrets. Those that are as they were when it was read last are not opened again. */
  private opened(row: ChannelRow): { [name: string]: string } {
    const before = this.known.get(row.key)
    return Object.fromEntries(
      Object.entries(row.sealed).map(([name, sealed]) => [
        name,
        before?.row.sealed[name] === sealed ? before.channel.secrets[name]! : this.seal.open(sealed),
      ]),
    )
  }

  private openedFormer(row: ChannelRow): { [name: string]: string } {
    const before = this.known.get(row.key)
    return Object.fromEntries(
      Object.entries(row.former).map(([name, sealed]) => [
        name,
        before?.row.former[name] === sealed ? before.former[name]! : this.seal.open(sealed),
      ]),
    )
  }

  private open(row: ChannelRow): Channel {
    const secrets = this.opened(row)
    kindOf(row.kind)
    const own = row.settings.publicUrl as string | undefined
    const { publicUrl } = this
    const profile = this.own.get(String(row.settings.profile))?.profile
    return {
      get publicBase() {
        return withoutEnd(own ?? publicUrl(), "/")
      },
      key: row.key,
      kind: row.kind,
      settings: withDefaults(row.settings, profile ?? shipped[String(row.settings.profile)]),
      secrets,
      ...(row.identity ? { identity: row.identity } : {}),
      ...(profile ? { profile } : {}),
    }
  }
}
