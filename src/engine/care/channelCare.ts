import { createHash, randomBytes } from "node:crypto"
import { setTimeout as pause } from "node:timers/promises"
import { isDeepStrictEqual } from "node:util"
import { isSent, keyHosts } from "../../core/channels/keyHosts.ts"
import type { Channel, ChannelKind, Identity } from "../../core/channels/kind.ts"
import { kinds } from "../../core/channels/registry.ts"
import type { FieldHelp } from "../../core/channels/fields.ts"
import { fieldsOf } from "../../core/channels/fields.ts"
import { readSecrets, readSettings } from "../../core/channels/settings.ts"
import type { Profile } from "../../core/gateway/profile.ts"
import { lacksReceiver, noReceiver } from "../../core/gateway/receiver.ts"
import type { ChannelRow } from "../../store/channels.ts"
import {
  addChannel,
  changeChannel,
  removeChannel,
  resumeChannel,
  stopChannel,
  waitingOn,
  noteAddressShown,
} from "../../store/channels.ts"
import type { Database } from "../../store/database.ts"
import { lastCalls } from "../../store/intakeReads.ts"
import type { Bell } from "../../store/bell.ts"
import type { Forwarding } from "../inlet/forwarding.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Identities } from "../identities.ts"
import type { ChannelCheck } from "./checks.ts"
import { walkTheLine } from "./checks.ts"
import { comparePresence } from "./presence.ts"
import type { SaidView, SayingGiven } from "./saying.ts"
import { say } from "./saying.ts"
import type { TriedView, TryGiven } from "./tryCall.ts"
import { operationsOf, tryCall } from "./tryCall.ts"
import { releaseOfChannel, releasesOfChannels } from "../../store/releases.ts"
import type { ChannelComparison, ChannelView } from "./views.ts"
import { tagOf, viewOf } from "./views.ts"
import { judged, perform } from "../calls/perform.ts"
import type { Inlet } from "../inlet/inlet.ts"
import type { Poller } from "../inlet/poller.ts"
import type { Alerts } from "../sender/alerts.ts"
import { isUnaddressed, unaddressedRemedy } from "../sender/alerts.ts"
import type { Seal } from "../seal.ts"
import { notFound, Trouble } from "../trouble.ts"
import { wallClock } from "../process/wallClock.ts"
import { withoutEnd } from "../../core/message/trimmed.ts"

/** Milliseconds that adding a channel waits for its provider to tell who it is. */
const identityPatience = 2000

/** What is to change of a channel. */
export interface ChannelChange {
  settings?: { [name: string]: unknown }
  secrets?: { [name: string]: string }
  /** Whether the secrets that are replaced go on to verify calls until they are dropped. */
  keepFormer?: boolean
  /** Whether secrets that were kept so are dropped. */
  dropFormer?: boolean
  /** The tag of the channel as its changer saw it. */
  ifMatch?: string
}

/** Adding channels and looking after them. */
export class ChannelCare {
  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      seal: Seal
      bell: Bell
      identities: Identities
      poller: () => Poller | undefined
      publicUrl: () => string
      forwarding: Forwarding
      alerts: Alerts
      inlet: () => Inlet
    },
  ) {}

  async add(given: {
    kind: string
    key: string
    settings: { [name: string]: unknown }
    secrets: { [name: string]: string }
  }): Promise<ChannelView> {
    const kind = kindNamed(given.kind)
    const profile = this.profileFor(kind, given.settings)
    refuseUnaddressed(profile)
    const { bot, lane, settings, secrets } = checked(kind, given.settings, given.secrets, profile)
    const sealed = Object.fromEntries(
      Object.entries(secrets).map(([name, value]) => [name, this.parts.seal.seal(value)]),
    )
    const added = await addChannel(this.parts.database, {
      key: given.key,
      kind: kind.kind,
      settings,
      sealed,
      bot: (bot as string | undefined) ?? null,
      lane: (lane as string | undefined) ?? usualLane,
    })
    if (!added)
      throw new Trouble(
        "taken",
        `There is a channel "${given.key}" already.`,
        `Choose another key, or change that one with "wobbet channel change ${given.key}".`,
        "key",
      )
    await this.changed()
    await this.learnIdentity(given.key)
    return this.show(given.key)
  }

  /** Asks who a channel is, if the provider says so soon: what its first calls mean may depend on it. */
  private async learnIdentity(key: string): Promise<void> {
    const asking = this.parts.identities.ask(this.known(key)).catch(() => undefined)
    await Promise.race([asking, pause(identityPatience, undefined, { ref: false })])
  }

  /**
   * Changes settings and secrets; what is not named stays. A setting given as null goes back to its default. Where the
   * channel's keys could go to another host after it, all of them must be given again: whoever may change a setting
   * must not learn a sealed secret by it.
   */
  async change(key: string, given: ChannelChange): Promise<ChannelView> {
    await this.parts.channels.refresh()
    const { row, channel, former } = this.known(key)
    if (given.ifMatch !== undefined && given.ifMatch !== tagOf(row)) throw changedMeanwhile(key)
    const profile = this.profileFor(kindNamed(row.kind), mergedSettings(row, given))
    const { bot, lane, settings, secrets } = changedTo({ row, channel }, given, profile)
    const sealed = Object.fromEntries(
      Object.entries(secrets).map(([name, value]) => [
        name,
        channel.secrets[name] === value && row.sealed[name] ? row.sealed[name] : this.parts.seal.seal(value),
      ]),
    )
    const kept = formerAfter(given, channel.secrets, former)
    const sealedFormer = Object.fromEntries(
      Object.entries(kept).map(([name, value]) => [
        name,
        former[name] === value && row.former[name] ? row.former[name] : this.parts.seal.seal(value),
      ]),
    )
    // Other keys, or another provider, may be another account.
    const other = settings.apiBase !== row.settings.apiBase || !isDeepStrictEqual(secrets, channel.secrets)
    const done = await changeChannel(this.parts.database, key, row, {
      settings,
      sealed,
      former: sealedFormer,
      forgetIdentity: other,
      bot: (bot as string | undefined) ?? null,
      lane: (lane as string | undefined) ?? usualLane,
    })
    if (!done) throw changedMeanwhile(key)
    await this.changed()
    if (other) await this.learnIdentity(key)
    return this.show(key)
  }

  /** Throws what a change would be refused with, were the profile the channel speaks by this one. */
  wouldChange(key: string, given: ChannelChange, profile: Profile): void {
    changedTo(this.known(key), given, profile)
  }

  /**
   * Removes a channel, and what waits to be handled or sent on it; what was said stays on record. Gives why our address
   * could not be taken away from the provider, where that is so.
   */
  async remove(key: string, by: string, ifMatch?: string): Promise<string | undefined> {
    await this.parts.channels.refresh()
    const { row } = this.known(key)
    if (ifMatch !== undefined && ifMatch !== tagOf(row)) throw changedMeanwhile(key)
    const why = await this.disconnect(key)
    await removeChannel(this.parts.database, key, by)
    await this.changed()
    return why
  }

  /** Takes our address away from the provider, where that can be done; gives why it was not. */
  private async disconnect(key: string): Promise<string | undefined> {
    const { row, channel } = this.known(key)
    const call = kindNamed(row.kind).account.disconnect?.(channel)
    if (!call) return undefined
    const outcome = judged(call, await perform(call, channel, undefined), channel)
    return outcome.outcome === "accepted" ? undefined : outcome.why
  }

  /** How much waits on a channel that would be lost with it. */
  async waiting(key: string): Promise<{ turns: number; replies: number; parked: number }> {
    this.known(key)
    return waitingOn(this.parts.database, key)
  }

  async list(): Promise<ChannelView[]> {
    const [counts, releases] = await Promise.all([
      this.parts.forwarding.counts(),
      releasesOfChannels(this.parts.database),
    ])
    return Promise.all(this.parts.channels.all().map((known) => this.view(known, counts, releases)))
  }

  async show(key: string): Promise<ChannelView> {
    return this.view(this.known(key))
  }

  /**
   * Asks the provider who the keys belong to. A channel that was locked out goes on when they work again; one that was for
   * its account's state, when the answer says that the state is good, or a person says so who resumes it.
   */
  async identify(key: string, byHand = false): Promise<{ identity: Identity; resumed: boolean }> {
    const known = this.known(key)
    const found = await this.parts.identities.ask(known)
    if ("fault" in found)
      throw new Trouble("provider-refused", `The check of "${key}" failed: ${found.fault}.`, found.remedy)
    // With keys that work, the account may be one that can send nothing all the same.
    if (found.alarm) await this.parts.alerts.alarmed(key, found.alarm)
    const isForAccount = known.row.for_state && !byHand
    const isWell = !found.alarm && !isUnaddressed(known.channel) && (!isForAccount || found.isWell === true)
    const resumed = known.row.state === "locked out" && isWell && (await resumeChannel(this.parts.database, key))
    if (resumed) {
      await this.changed()
      this.wake()
    }
    return { identity: found.identity, resumed }
  }

  /** Walks the line from the keys to the last call, and stops at the first thing that is wrong. */
  async check(key: string): Promise<ChannelCheck> {
    const { database, seal, poller } = this.parts
    return walkTheLine({
      known: this.known(key),
      inlet: this.inletOf(this.known(key).row),
      database,
      seal,
      pollTrouble: poller()?.troubles.get(key),
      identify: () => this.identify(key),
      compare: () => this.compare(key),
    })
  }

  /** Registers our address at the provider, or takes it away where the channel polls, and reads back what is on record. */
  async connect(key: string): Promise<ChannelComparison> {
    await this.identify(key)
    const known = this.known(key)
    const { account } = kindNamed(known.row.kind)
    const polls = kindNamed(known.row.kind).polling?.(known.channel) !== undefined
    const calls = polls
      ? account.disconnect?.(known.channel)
      : account.connect?.(known.channel, this.inletOf(known.row))
    for (const call of [calls ?? []].flat()) {
      const outcome = judged(call, await perform(call, known.channel, undefined), known.channel)
      if (outcome.outcome !== "accepted") {
        throw new Trouble(
          "provider-refused",
          `The provider did not take the address: ${outcome.why}.`,
          "Is the public address right, and https? Set it with publicUrl, or WOBBET_PUBLIC_URL.",
        )
      }
    }
    this.parts.poller()?.troubles.delete(key)
    await this.changed()
    const compared = await this.compareAddress(this.known(key))
    const presence = await comparePresence(this.parts.database, known, true)
    const history = await this.fetchHistory(known)
    return { ...compared, ...(presence ? { account: presence } : {}), ...(history ? { history } : {}) }
  }

  /** Fetches what was said before; what was fetched by an earlier connect is not kept twice. */
  private async fetchHistory(known: KnownChannel): Promise<ChannelComparison["history"]> {
    const history = kindNamed(known.row.kind).history?.(known.channel)
    if (!history) return undefined
    const read = history.read(await perform(history.ask, known.channel, undefined))
    if ("fault" in read) return { fault: read.fault }
    return { fetched: await this.parts.inlet().receiveHistory(known, read.updates, wallClock("record").toISOString()) }
  }

  /** What the provider has on record, against what this channel and its bot want. */
  async compare(key: string): Promise<ChannelComparison> {
    const known = this.known(key)
    const [compared, account] = await Promise.all([
      this.compareAddress(known),
      comparePresence(this.parts.database, known, false),
    ])
    return account ? { ...compared, account } : compared
  }

  private async compareAddress({ row, channel }: KnownChannel): Promise<ChannelComparison> {
    const { account } = kindNamed(row.kind)
    const inlet = this.inletOf(row)
    const hand = account.byHand?.(channel, inlet) ?? []
    const byHand = hand.length > 0 ? { byHand: hand } : {}
    const call = account.lookUp?.(channel)
    if (!call || !account.readLookUp) return { differences: [], ...byHand }
    const found = account.readLookUp(await perform(call, channel, undefined), channel)
    if ("fault" in found) return { differences: [], fault: { says: found.fault, remedy: found.remedy }, ...byHand }
    return { onRecord: found.onRecord, differences: account.compare?.(channel, found.onRecord, inlet) ?? [], ...byHand }
  }

  /** The channels a bot answers on which nothing can be said. */
  silent(bot: string): { key: string; kind: string; why: string }[] {
    return this.parts.channels.all().flatMap(({ row, channel }) => {
      const why = kindNamed(row.kind).cannot?.(channel).send
      return why === undefined || (row.bot !== null && row.bot !== bot) ? [] : [{ key: row.key, kind: row.kind, why }]
    })
  }

  /** The provider's calls that can be tried with a channel's keys. */
  operations(key: string): ReturnType<typeof operationsOf> {
    return operationsOf(this.known(key))
  }

  /** Tries one of them. */
  async tryCall(key: string, given: TryGiven): Promise<TriedView> {
    await this.parts.channels.refresh()
    return tryCall(this.known(key), given)
  }

  /** Says something to the bot, as the provider would bring it. */
  async say(key: string, given: SayingGiven): Promise<SaidView> {
    await this.parts.channels.refresh()
    return say({ database: this.parts.database, inlet: this.parts.inlet() }, this.known(key), given)
  }

  /** The whole address with the word that stands in it; once, since whoever has it can write to the bot. */
  async wholeAddress(key: string): Promise<{ address: string }> {
    await this.parts.channels.refresh()
    const { row, channel } = this.known(key)
    const whole = kindNamed(row.kind).account.wholeAddress?.(channel, this.inletOf(row))
    if (!whole)
      throw new Trouble(
        "not-found",
        `No secret stands in the address of "${key}".`,
        `Its address is ${this.inletOf(row)}.`,
      )
    const { sealed } = row
    const mark = createHash("sha256").update(sealed[whole.secret]!).digest("base64url").slice(0, 22)
    if (!(await noteAddressShown(this.parts.database, key, mark)))
      throw new Trouble(
        "decided",
        `The whole address of "${key}" was shown before, and is shown once.`,
        `Set the secret again ("wobbet channel change ${key} --secret ${whole.secret}=…"): then it can be shown once more.`,
      )
    return { address: whole.address }
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
    await this.parts.channels.refresh()
    const { row, channel } = this.known(key)
    if (isUnaddressed(channel)) {
      const profile = String(row.settings.profile)
      throw new Trouble(
        "cannot-be-said",
        `"${key}" cannot be resumed: with the profile "${profile}", ${noReceiver.says}.`,
        unaddressedRemedy(profile, key),
      )
    }
    // Keys that do not work would only lock it out again.
    if (row.state === "locked out") await this.identify(key, true)
    else await resumeChannel(this.parts.database, key)
    await this.changed()
    this.wake()
    return this.show(key)
  }

  inletOf(row: ChannelRow): string {
    const base = (row.settings.publicUrl as string | undefined) ?? this.parts.publicUrl()
    return `${withoutEnd(base, "/")}/in/${row.key}`
  }

  known(key: string): KnownChannel {
    const known = this.parts.channels.get(key)
    if (!known) throw notFound("channel", key, `"wobbet channel list" shows those there are.`)
    return known
  }

  private async view(
    known: KnownChannel,
    counts?: Awaited<ReturnType<Forwarding["counts"]>>,
    releases?: Map<string, string>,
  ): Promise<ChannelView> {
    const { database, forwarding, poller } = this.parts
    const { key, bringing } = known.row
    const release = releases ? releases.get(key) : await releaseOfChannel(database, key)
    return viewOf(known, {
      inlet: this.inletOf(known.row),
      last: await lastCalls(database, key),
      release,
      waiting: bringing ? (counts ?? (await forwarding.counts())).get(key) : undefined,
      polling: poller()?.troubles.get(key),
    })
  }

  /** What a channel of a kind is asked for, by the profile its gateway speaks, where there is one. */
  fields(name: string, profile: string | undefined): { kind: string; settings: FieldHelp[]; secrets: FieldHelp[] } {
    const kind = kindNamed(name)
    const settings = profile === undefined ? {} : { profile }
    return { kind: kind.kind, ...fieldsOf(kind, settings, this.profileFor(kind, settings)) }
  }

  /** The profile a channel of a gateway names; that it names one there is, is checked here. */
  private profileFor(kind: ChannelKind, settings: { [name: string]: unknown }): Profile | undefined {
    if (!kind.schemasFor) return undefined
    const name = settings.profile
    if (name === undefined || name === "") return undefined
    const profile = this.parts.channels.profile(name)
    if (profile) return profile
    throw new Trouble(
      "bad-input",
      `There is no gateway profile "${String(name)}".`,
      `"wobbet profile list" shows those there are. Write one under profiles/ of the bot folder, or let the channel learn it.`,
      "settings.profile",
    )
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

function formerAfter(
  { secrets = {}, keepFormer, dropFormer }: ChannelChange,
  now: { [name: string]: string },
  former: { [name: string]: string },
): { [name: string]: string } {
  const replaced = Object.keys(secrets).filter((name) => now[name] !== undefined && now[name] !== secrets[name])
  return {
    ...(dropFormer ? {} : former),
    ...(keepFormer ? Object.fromEntries(replaced.map((name) => [name, now[name]!])) : {}),
  }
}

/** A host the channel's keys could go to with other settings, and could not before. */
function movedTo(
  channel: Channel,
  settings: { [name: string]: unknown },
  profile: Profile | undefined,
): string | undefined {
  const { profile: _before, ...rest } = channel
  const before = keyHosts(channel)
  return keyHosts({ ...rest, settings, ...(profile ? { profile } : {}) }).find((host) => !before.includes(host))
}

/** Throws where a sealed secret could be sent to a new host. Wobbet makes its own secrets again instead. */
function refuseSealed(
  kind: ChannelKind,
  channel: Channel,
  profile: Profile | undefined,
  given: { [name: string]: string },
  moved: string,
): void {
  const sealed = Object.keys(channel.secrets).filter(
    (name) => given[name] === undefined && !(name in kind.madeSecrets) && isSent(name, profile),
  )
  if (sealed.length === 0) return
  throw new Trouble(
    "bad-input",
    `After this change the channel's keys could go to ${moved}, which they were not given for.`,
    `Give all of them again in the same change: ${sealed.join(", ")}.`,
    `secrets.${sealed[0]!}`,
  )
}

function changedMeanwhile(key: string): Trouble {
  return new Trouble(
    "changed",
    `The channel "${key}" was changed by somebody else meanwhile.`,
    "Read it again, and make the change on what it is now.",
    "If-Match",
  )
}

/** The lane a channel follows that names none. */
const usualLane = "live"

function kindNamed(name: string): ChannelKind {
  const kind = Object.hasOwn(kinds, name) ? kinds[name] : undefined
  if (!kind)
    throw new Trouble(
      "bad-input",
      `There is no channel kind "${name}".`,
      `Choose one of: ${Object.keys(kinds).join(", ")}.`,
      "kind",
    )
  return kind
}

/** A channel's settings and secrets as they are stored, or all that is wrong with them at once. */
function checked(
  kind: ChannelKind,
  givenSettings: { [name: string]: unknown },
  givenSecrets: { [name: string]: string },
  profile: Profile | undefined,
): { bot: unknown; lane: unknown; settings: { [name: string]: unknown }; secrets: { [name: string]: string } } {
  const made = Object.fromEntries(
    Object.entries(kind.madeSecrets)
      .filter(([name]) => !givenSecrets[name])
      .map(([name, length]) => [name, randomBytes(length).toString("base64url").slice(0, length)]),
  )
  const settings = readSettings(kind, givenSettings, profile)
  const secrets = readSecrets(
    kind,
    { ...made, ...givenSecrets },
    settings.fault ? givenSettings : settings.value,
    profile,
  )
  const faults = [
    ...(settings.fault ? [{ ...settings.fault, of: "setting", field: `settings.${settings.fault.field}` }] : []),
    ...(secrets.fault ? [{ ...secrets.fault, of: "secret", field: `secrets.${secrets.fault.field}` }] : []),
  ]
  const [first] = faults
  if (first) {
    const missing = faults.filter((fault) => fault.missing)
    const remedies = [
      ...(missing.length > 0 ? ["Give what is missing, with --set name=value or --secret name=value."] : []),
      ...(faults.some((fault) => fault.of === "secret" && !fault.missing)
        ? ["Copy the secret again from the provider, without spaces around it."]
        : []),
      ...(faults.some((fault) => fault.of === "setting")
        ? [`docs/connect-${kind.kind}.md lists the settings of a ${kind.kind} channel.`]
        : []),
    ]
    throw new Trouble(
      "bad-input",
      `${faults.map((fault) => `The ${fault.of} is ${fault.missing ? "missing" : "not right"}: ${fault.says}`).join(". ")}.`,
      remedies.join(" "),
      first.field.replace(/\.$/, ""),
    )
  }
  const { bot, lane, ...rest } = settings.value
  return { bot, lane, settings: rest, secrets: secrets.value as { [name: string]: string } }
}

/** A channel's settings with a change; what is given as null or as nothing goes back to its default. */
function mergedSettings(row: ChannelRow, given: ChannelChange): { [name: string]: unknown } {
  return Object.fromEntries(
    Object.entries({ ...row.settings, bot: row.bot, lane: row.lane, ...given.settings }).filter(
      ([, value]) => value !== null && value !== "",
    ),
  )
}

/** What a channel becomes by a change; throws where that may not be. A secret given as nothing is taken away. */
function changedTo(
  { row, channel }: Pick<KnownChannel, "row" | "channel">,
  given: ChannelChange,
  profile: Profile | undefined,
): ReturnType<typeof checked> {
  const kind = kindNamed(row.kind)
  // One that is held for its profile may be changed in all else.
  const { profile: wanted = row.settings.profile } = given.settings ?? {}
  if (wanted !== row.settings.profile) refuseUnaddressed(profile)
  const merged = mergedSettings(row, given)
  const { value: settings } = readSettings(kind, merged, profile)
  const { bot: _bot, lane: _lane, ...own } = settings
  const moved = Object.keys(own).length > 0 ? movedTo(channel, own, profile) : undefined
  if (moved !== undefined) refuseSealed(kind, channel, profile, given.secrets ?? {}, moved)
  const stay = Object.entries(channel.secrets).filter(([name]) => moved === undefined || !(name in kind.madeSecrets))
  const secrets = Object.entries({ ...Object.fromEntries(stay), ...given.secrets }).filter(([, value]) => value !== "")
  return checked(kind, merged, Object.fromEntries(secrets), profile)
}

/** No channel begins to speak by a profile that does not say whom a message is for. */
function refuseUnaddressed(profile: Profile | undefined): void {
  if (!profile || !lacksReceiver(profile)) return
  throw new Trouble(
    "bad-input",
    `The profile "${profile.profile}" cannot be used: ${noReceiver.says}.`,
    noReceiver.remedy,
    "profile",
  )
}
