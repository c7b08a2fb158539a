import { randomBytes } from "node:crypto"
import type { ChannelKind, Identity, OnRecord, ProviderAnswer } from "../core/channels/kind.ts"
import { kinds } from "../core/channels/registry.ts"
import { readSecrets, readSettings } from "../core/channels/settings.ts"
import type { ChannelRow } from "../store/channels.ts"
import { addChannel, changeChannel, keepIdentity, resumeChannel, stopChannel } from "../store/channels.ts"
import type { Database } from "../store/database.ts"
import { lastCalls } from "../store/intake.ts"
import type { Bell } from "./bell.ts"
import type { Channels, KnownChannel } from "./channels.ts"
import { perform } from "./perform.ts"
import type { Poller } from "./poller.ts"
import type { Seal } from "./seal.ts"
import { notFound, Trouble } from "./trouble.ts"

/** A channel as it may be shown: settings, the names of its secrets, never their values. */
export interface ChannelView {
  key: string
  kind: string
  state: ChannelRow["state"]
  reason?: string
  remedy?: string
  settings: { [name: string]: unknown }
  secrets: string[]
  bot?: string
  lane: string
  identity?: Identity
  checkedAt?: Date
  /** Where the provider is to call. */
  inlet: string
  lastGenuine?: Date
  lastRefused?: Date
  polling?: { says: string; remedy: string; since: Date }
}

export interface ChannelComparison {
  onRecord?: OnRecord
  /** In words; empty when both sides agree. */
  differences: string[]
  fault?: { says: string; remedy: string }
  /** What a person enters at the provider, where the service cannot do it. */
  byHand?: { field: string; value: string }[]
}

/** Adding channels and looking after them. */
export class ChannelCare {
  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      seal: Seal
      bell: Bell
      poller: () => Poller | undefined
      publicUrl: () => string
    },
  ) {}

  async add(given: {
    kind: string
    key: string
    settings: { [name: string]: unknown }
    secrets: { [name: string]: string }
  }): Promise<ChannelView> {
    const kind = kindNamed(given.kind)
    const { bot, lane, ...settings } = checkedSettings(kind, given.settings)
    const secrets = this.checkedSecrets(kind, given.secrets, settings)
    const sealed = Object.fromEntries(
      Object.entries(secrets).map(([name, value]) => [name, this.parts.seal.seal(value)]),
    )
    const added = await addChannel(this.parts.database, {
      key: given.key,
      kind: kind.kind,
      settings,
      sealed,
      bot: (bot as string | undefined) ?? null,
      lane: (lane as string | undefined) ?? "live",
    })
    if (!added)
      throw new Trouble(
        "taken",
        `There is a channel "${given.key}" already.`,
        `Choose another key, or change that one with "wobbet channel change ${given.key}".`,
        "key",
      )
    await this.changed()
    return this.show(given.key)
  }

  /** Changes settings and secrets; what is not named stays. A setting given as null goes back to its default. */
  async change(
    key: string,
    given: { settings?: { [name: string]: unknown }; secrets?: { [name: string]: string } },
  ): Promise<ChannelView> {
    const { row, channel } = this.known(key)
    const kind = kindNamed(row.kind)
    const merged = Object.fromEntries(
      Object.entries({ ...row.settings, ...given.settings }).filter(([, value]) => value !== null),
    )
    const { bot, lane, ...settings } = checkedSettings(kind, merged)
    const secrets = this.checkedSecrets(kind, { ...channel.secrets, ...given.secrets }, settings)
    const sealed = Object.fromEntries(
      Object.entries(secrets).map(([name, value]) => [
        name,
        channel.secrets[name] === value && row.sealed[name] ? row.sealed[name] : this.parts.seal.seal(value),
      ]),
    )
    await changeChannel(this.parts.database, key, {
      settings,
      sealed,
      ...(bot ? { bot: bot as string } : {}),
      ...(lane ? { lane: lane as string } : {}),
    })
    await this.changed()
    return this.show(key)
  }

  list(): Promise<ChannelView[]> {
    return Promise.all(this.parts.channels.all().map((known) => this.view(known)))
  }

  async show(key: string): Promise<ChannelView> {
    return this.view(this.known(key))
  }

  /** Asks the provider who the keys belong to. A channel that was locked out goes on when they work again. */
  async check(key: string): Promise<{ identity: Identity; resumed: boolean }> {
    const { row, channel } = this.known(key)
    const { account } = kindNamed(row.kind)
    const call = account.check(channel)
    const answer: ProviderAnswer = call
      ? await perform(call, channel, undefined)
      : { failure: "there is nothing to ask", sent: false }
    const found = account.readCheck(answer, channel)
    if ("fault" in found)
      throw new Trouble("provider-refused", `The check of "${key}" failed: ${found.fault}.`, found.remedy)
    await keepIdentity(this.parts.database, key, found.identity)
    const resumed = row.state === "locked out" && (await resumeChannel(this.parts.database, key))
    await this.changed()
    if (resumed) this.wake()
    return { identity: found.identity, resumed }
  }

  /** Registers our address at the provider, or takes it away where the channel polls, and reads back what is on record. */
  async connect(key: string): Promise<ChannelComparison> {
    await this.check(key)
    const known = this.known(key)
    const { account } = kindNamed(known.row.kind)
    const polls = known.row.settings.receive === "polling"
    const call = polls ? account.disconnect?.(known.channel) : account.connect?.(known.channel, this.inletOf(known.row))
    if (!call) return this.compare(key)
    const answer = await perform(call, known.channel, undefined)
    const outcome = kindNamed(known.row.kind).judge(call, answer, known.channel)
    if (outcome.outcome !== "accepted") {
      throw new Trouble(
        "provider-refused",
        `The provider did not take the address: ${outcome.why}.`,
        "Is the public address right, and https? Set it with publicUrl, or WOBBET_PUBLIC_URL.",
      )
    }
    this.parts.poller()?.troubles.delete(key)
    await this.changed()
    return this.compare(key)
  }

  /** What the provider has on record, against what this channel wants. */
  async compare(key: string): Promise<ChannelComparison> {
    const { row, channel } = this.known(key)
    const { account } = kindNamed(row.kind)
    const inlet = this.inletOf(row)
    const hand = account.byHand?.(channel, inlet) ?? []
    const byHand = hand.length > 0 ? { byHand: hand } : {}
    if (!account.lookUp || !account.readLookUp) return { differences: [], ...byHand }
    const found = account.readLookUp(await perform(account.lookUp(channel), channel, undefined))
    if ("fault" in found) return { differences: [], fault: { says: found.fault, remedy: found.remedy }, ...byHand }
    return { onRecord: found.onRecord, differences: account.compare?.(channel, found.onRecord, inlet) ?? [], ...byHand }
  }

  async pause(key: string, by: string): Promise<ChannelView> {
    this.known(key)
    await stopChannel(this.parts.database, key, {
      state: "paused",
      reason: `paused by ${by}`,
      remedy: `Resume it with "wobbet channel resume ${key}".`,
    })
    await this.changed()
    return this.show(key)
  }

  async resume(key: string): Promise<ChannelView> {
    const { row } = this.known(key)
    // Keys that do not work would only lock it out again.
    if (row.state === "locked out") await this.check(key)
    else await resumeChannel(this.parts.database, key)
    await this.changed()
    this.wake()
    return this.show(key)
  }

  inletOf(row: ChannelRow): string {
    const base = (row.settings.publicUrl as string | undefined) ?? this.parts.publicUrl()
    return `${base.replace(/\/+$/, "")}/in/${row.key}`
  }

  known(key: string): KnownChannel {
    const known = this.parts.channels.get(key)
    if (!known) throw notFound("channel", key, `"wobbet channel list" shows those there are.`)
    return known
  }

  private async view({ row }: KnownChannel): Promise<ChannelView> {
    const last = await lastCalls(this.parts.database, row.key)
    const polling = this.parts.poller()?.troubles.get(row.key)
    return {
      key: row.key,
      kind: row.kind,
      state: row.state,
      ...(row.reason ? { reason: row.reason } : {}),
      ...(row.remedy ? { remedy: row.remedy } : {}),
      settings: row.settings,
      secrets: Object.keys(row.sealed),
      ...(row.bot ? { bot: row.bot } : {}),
      lane: row.lane,
      ...(row.identity ? { identity: row.identity } : {}),
      ...(row.checked_at ? { checkedAt: row.checked_at } : {}),
      inlet: this.inletOf(row),
      ...(last.genuine ? { lastGenuine: last.genuine } : {}),
      ...(last.refused ? { lastRefused: last.refused } : {}),
      ...(polling ? { polling } : {}),
    }
  }

  private checkedSecrets(
    kind: ChannelKind,
    given: { [name: string]: string },
    settings: { [name: string]: unknown },
  ): { [name: string]: string } {
    const made = Object.fromEntries(
      Object.entries(kind.madeSecrets)
        .filter(([name]) => !given[name])
        .map(([name, length]) => [name, randomBytes(length).toString("base64url").slice(0, length)]),
    )
    const { value, fault } = readSecrets(kind, { ...made, ...given }, settings)
    if (fault)
      throw new Trouble(
        "bad-input",
        `The secret is not right: ${fault.says}.`,
        "Copy it again from the provider, without blanks around it.",
        `secrets.${fault.field}`,
      )
    return value as { [name: string]: string }
  }

  private async changed(): Promise<void> {
    await this.parts.channels.refresh()
    this.parts.bell.ring("channels")
    this.parts.bell.ring("live")
  }

  private wake(): void {
    this.parts.bell.ring("work")
    this.parts.bell.ring("sends")
  }
}

function kindNamed(name: string): ChannelKind {
  const kind = kinds[name]
  if (!kind)
    throw new Trouble(
      "bad-input",
      `There is no channel kind "${name}".`,
      `Choose one of: ${Object.keys(kinds).join(", ")}.`,
      "kind",
    )
  return kind
}

function checkedSettings(kind: ChannelKind, given: { [name: string]: unknown }): { [name: string]: unknown } {
  const { value, fault } = readSettings(kind, given)
  if (fault)
    throw new Trouble(
      "bad-input",
      `The setting is not right: ${fault.says}.`,
      `docs/connect-${kind.kind}.md lists the settings of a ${kind.kind} channel.`,
      `settings.${fault.field}`,
    )
  return value
}
