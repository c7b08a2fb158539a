import { mkdir, writeFile } from "node:fs/promises"
import { join } from "node:path"
import { isSent, keyHosts } from "../../core/channels/keyHosts.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { FieldRole, OwnMark, Proposal, Sending } from "../../core/gateway/learn.ts"
import { propose, writeProfile } from "../../core/gateway/learn.ts"
import type { Profile, ProfileFault, VerifyScheme } from "../../core/gateway/profile.ts"
import { readProfile } from "../../core/gateway/readProfile.ts"
import { profiles, shippedSources } from "../../core/gateway/shipped.ts"
import type { Database } from "../../store/database.ts"
import { keepProfile, listProfiles } from "../../store/profiles.ts"
import { beginLearning, dropSample, endLearning } from "../../store/samples.ts"
import type { Bell } from "../../store/bell.ts"
import type { ChannelCare } from "./channelCare.ts"
import type { ChannelView } from "./views.ts"
import type { Channels } from "../channels.ts"
import type { Inlet } from "../inlet/inlet.ts"
import type { Sampling } from "../inlet/sampling.ts"
import { notFound, Trouble } from "../trouble.ts"

export interface ProfileView {
  name: string
  title: string
  /** Ships with Wobbet, is a bot folder's, was learned from a call, or set by hand. */
  origin: "ships" | "folder" | "learned" | "set"
  secrets: string[]
  settings: string[]
  source: string
}

/** What has been learned so far: nothing yet, or a sample and what it seems to mean. */
export interface LearningView {
  waiting?: { by: string; until: string }
  sample?: Proposal & { at: Date; call: { method: string; address: string; headers: string[] } }
  inlet: string
}

/** What a person agreed to about a gateway. */
export interface Agreement {
  name: string
  places: { [role in FieldRole]?: string }
  own?: OwnMark
  proof?: VerifyScheme
  sending: Sending
  addresses: "numbers" | "names"
  secrets: { [name: string]: string }
  settings: { [name: string]: unknown }
}

/** Gateway profiles: those there are, and learning new ones from a call. */
export class Profiles {
  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      bell: Bell
      care: ChannelCare
      sampling: Sampling
      inlet: Inlet
      /** The bot folder that is followed, where profiles are written to. */
      folder: () => string | undefined
    },
  ) {}

  async profiles(): Promise<ProfileView[]> {
    const own = await listProfiles(this.parts.database)
    const views: ProfileView[] = Object.values(profiles).map((one) => ({
      name: one.profile,
      title: one.title,
      origin: "ships",
      secrets: Object.keys(one.secrets),
      settings: Object.keys(one.settings),
      source: shippedSources[one.profile] ?? "",
    }))
    for (const { name, source, origin } of own) {
      const read = readProfile(source)
      if ("faults" in read) continue
      const { title, secrets, settings } = read.profile
      views.push({ name, title, origin, secrets: Object.keys(secrets), settings: Object.keys(settings), source })
    }
    return views.sort((a, b) => (a.name < b.name ? -1 : 1))
  }

  /** Checks a profile and says every fault; `keep` takes it when there is none. */
  async setProfile(source: string, keep: boolean): Promise<{ name?: string; faults: ProfileFault[] }> {
    const read = readProfile(source)
    if ("faults" in read) return { faults: read.faults }
    const { profile: name } = read.profile
    if (Object.hasOwn(profiles, name))
      return {
        faults: [
          {
            line: 1,
            field: "profile",
            says: `"${name}" ships with Wobbet and stays as it is`,
            remedy: "Give yours another name.",
          },
        ],
      }
    if (keep) {
      this.refuseToMoveKeys(read.profile)
      await this.keep(name, source, "set")
    }
    return { name, faults: [] }
  }

  /** Another version of a profile must not take the keys of channels that speak by it to another host. */
  private refuseToMoveKeys(profile: Profile): void {
    for (const { row, channel } of this.parts.channels.all()) {
      if (row.settings.profile !== profile.profile || !kindOf(row.kind).schemasFor) continue
      const before = keyHosts(channel)
      const added = keyHosts({ ...channel, profile }).find((host) => !before.includes(host))
      const sent = Object.keys(channel.secrets).find((name) => isSent(name, profile))
      if (added === undefined || sent === undefined) continue
      throw new Trouble(
        "bad-input",
        `With this version of the profile "${profile.profile}" the keys of the channel "${channel.key}" could go to ${added}, which they were not given for.`,
        `Give the profile another name, and let the channel change to it together with its secrets.`,
        "source",
      )
    }
  }

  async begin(key: string, by: string, minutes: number): Promise<LearningView> {
    const { row } = this.parts.care.known(key)
    // Only kinds that are told how a gateway speaks have schemas that depend on it.
    if (!kindOf(row.kind).schemasFor)
      throw new Trouble(
        "bad-input",
        `A ${row.kind} channel has nothing to learn: its provider's calls are known.`,
        "Only channels of the kinds sms and custom learn.",
      )
    await beginLearning(this.parts.database, key, by, minutes)
    await this.changed()
    return this.view(key)
  }

  async end(key: string): Promise<void> {
    this.parts.care.known(key)
    await endLearning(this.parts.database, key)
    await dropSample(this.parts.database, key)
    await this.changed()
  }

  async view(key: string): Promise<LearningView> {
    await this.parts.channels.refresh()
    const { row, channel } = this.parts.care.known(key)
    const sample = await this.parts.sampling.sample(key)
    const waits = row.learning !== null && Date.parse(row.learning.until) > Date.now()
    const view: LearningView = {
      inlet: this.parts.care.inletOf(row),
      ...(waits ? { waiting: { by: row.learning!.by, until: row.learning!.until } } : {}),
    }
    if (!sample) return view
    const { call, at } = sample
    const hidden = Object.values(channel.secrets)
    const proposal = propose(call, channel.secrets, channel.publicBase ?? "", numberOf(channel.settings))
    const safe = (text: string) =>
      hidden.reduce((shown, secret) => (secret.length > 3 ? shown.replaceAll(secret, "•••") : shown), text)
    return {
      ...view,
      sample: {
        ...proposal,
        fields: proposal.fields.map((field) => ({ ...field, value: safe(field.value.slice(0, 200)) })),
        at,
        call: { method: call.method, address: safe(call.address.split("?")[0]!), headers: Object.keys(call.headers) },
      },
    }
  }

  /** Writes the profile that was agreed to, and reads the sample with it as the channel's first call. */
  async agree(
    key: string,
    given: Agreement,
  ): Promise<{ channel: ChannelView; profile: string; file?: string; first: { status: number } }> {
    const { care, sampling, inlet } = this.parts
    const { channel } = care.known(key)
    const sample = await sampling.sample(key)
    if (!sample) throw notFound("sample of the channel", key, `"wobbet channel learn ${key}" waits for one.`)
    if (Object.hasOwn(profiles, given.name))
      throw new Trouble("taken", `A profile "${given.name}" ships with Wobbet.`, "Give this one another name.", "name")
    const secrets = { ...channel.secrets, ...given.secrets }
    const proposal = propose(sample.call, secrets, channel.publicBase ?? "", numberOf(channel.settings))
    const proof = given.proof ?? proposal.proofs[0]?.scheme
    if (!proof)
      throw new Trouble(
        "bad-input",
        "Nothing in the call proves that it is genuine, so no profile is written: whoever finds the address could write to your bot.",
        "Let the gateway repeat a word, such as ?word=… in the address, set it as the secret sharedWord, and learn once more.",
        "proof",
      )
    const written = writeProfile({
      ...given,
      places: relative(given.places).places,
      body: proposal.body,
      proof,
      each: relative(given.places).each,
      own: relativeTo(relative(given.places).each, given.own),
    })
    if ("faults" in written)
      throw new Trouble(
        "bad-input",
        `The profile has faults: ${written.faults.join(" ")}`,
        "Correct the places named.",
        "places",
      )
    const change = { settings: { ...given.settings, profile: given.name }, secrets: given.secrets }
    // Before anything is written: a channel that would be refused leaves no profile behind.
    care.wouldChange(key, change, written.profile)
    const file = await this.keep(given.name, written.source, "learned")
    const shown = await care.change(key, change)
    await dropSample(this.parts.database, key)
    const first = await inlet.receive(key, sample.call, new Date())
    return { channel: shown, profile: given.name, ...(file ? { file } : {}), first: { status: first.status } }
  }

  /** Into the database, from where every process reads it; and into the bot folder, where its authors look for it. */
  private async keep(name: string, source: string, origin: "learned" | "set"): Promise<string | undefined> {
    const { database, folder } = this.parts
    await keepProfile(database, { name, source, origin })
    await this.changed()
    const inside = folder()
    if (inside === undefined) return undefined
    const file = join("profiles", `${name}.yaml`)
    await mkdir(join(inside, "profiles"), { recursive: true })
    await writeFile(join(inside, file), source)
    return file
  }

  private async changed(): Promise<void> {
    await this.parts.channels.refresh()
    this.parts.bell.ring("channels")
    this.parts.bell.ring("live")
  }
}

/** Places within the first of a list are meant for each of it. */
function relative(places: { [role in FieldRole]?: string }): {
  places: { [role in FieldRole]?: string }
  each?: string
} {
  const list = /^(.*?)\/0\//.exec(places.from ?? "")?.[1]
  const given = Object.entries(places)
  if (list === undefined || !given.every(([, where]) => where.startsWith(`${list}/0/`))) return { places }
  return {
    each: list,
    places: Object.fromEntries(given.map(([role, where]) => [role, where.slice(list.length + 2)])),
  }
}

/** A place within the list's entries. */
function relativeTo(each: string | undefined, own: OwnMark | undefined): OwnMark | undefined {
  if (own === undefined || each === undefined || !own.where.startsWith(`${each}/0/`)) return own
  return { ...own, where: own.where.slice(each.length + 2) }
}

function numberOf({ number }: { [name: string]: unknown }): string | undefined {
  return typeof number === "string" ? number : undefined
}
