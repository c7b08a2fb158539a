import { mkdir, writeFile } from "node:fs/promises"
import { join } from "node:path"
import { isSent, keyHosts } from "../../core/channels/keyHosts.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Channel } from "../../core/channels/kind.ts"
import type { Asked, CallProposal, Sort, KnownValues } from "../../core/gateway/examples/propose.ts"
import { proposeCalls } from "../../core/gateway/examples/propose.ts"
import { NotAnExample, readExample } from "../../core/gateway/examples/request.ts"
import type { InboundCall } from "../../core/channels/call.ts"
import type { DescribedCall } from "../../core/gateway/examples/openapi.ts"
import { inlineFrom } from "../../core/gateway/learn/answer.ts"
import type { Further, Ours, OwnMark, Proposal } from "../../core/gateway/learn/propose.ts"
import { propose } from "../../core/gateway/learn/propose.ts"
import type { FieldRole } from "../../core/gateway/learn/sample.ts"
import { echoIn, sampleIn } from "../../core/gateway/learn/sample.ts"
import type { Incoming, Sending } from "../../core/gateway/learn/write.ts"
import { writeInto, writeProfile } from "../../core/gateway/learn/write.ts"
import type { Profile, ProfileFault, VerifyScheme } from "../../core/gateway/profile.ts"
import { readProfile } from "../../core/gateway/readProfile.ts"
import { profiles, shippedSources } from "../../core/gateway/shipped.ts"
import type { Database } from "../../store/database.ts"
import { keepProfile, listProfiles } from "../../store/profiles.ts"
import { beginLearning, dropSample, endLearning } from "../../store/samples.ts"
import type { Bell } from "../../store/bell.ts"
import type { ChannelCare } from "./channelCare.ts"
import type { Documents } from "./documents.ts"
import type { ProfileSample, SampleResult } from "./profileTests.ts"
import { testProfile } from "./profileTests.ts"
import type { ChannelView } from "./views.ts"
import type { Channels } from "../channels.ts"
import type { Inlet } from "../inlet/inlet.ts"
import type { Sampling } from "../inlet/sampling.ts"
import { notFound, Trouble } from "../trouble.ts"
import { wallClock } from "../process/wallClock.ts"

export interface ProfileView {
  name: string
  title: string
  /** Ships with Wobbet, is a bot folder's, was learned from a call, or set by hand. */
  origin: "ships" | "folder" | "learned" | "set"
  secrets: string[]
  settings: string[]
  source: string
}

/** What has been learned so far: nothing yet, or samples and what they seem to mean. */
export interface LearningView {
  waiting?: { by: string; until: string; wanted: number; came: number }
  sample?: Proposal & { at: Date; call: { method: string; address: string; headers: string[] } }
  inlet: string
}

/** What a person agreed to about a gateway. */
export interface Agreement {
  name: string
  places: { [role in FieldRole]?: string }
  own?: OwnMark
  /** Further fields that reach handlers, by their names. */
  fields?: { [name: string]: string }
  proof?: VerifyScheme
  /** How the reply reaches the gateway: field by field, or by examples of its documentation, or inside its call. */
  sending?: Sending
  requests?: ExampleGiven[]
  answer?: string
  /** Examples of what the gateway answers to calls of ours, for examples of requests that show none. */
  answers?: { to: Sort; text: string }[]
  remedy?: string
  addresses?: "numbers" | "names"
  secrets: { [name: string]: string }
  settings: { [name: string]: unknown }
}

/** An example of a request, and what it is for where a person says so. */
export interface ExampleGiven {
  text: string
  as?: Sort
}

/** What examples of requests seem to be, and the profile they make. */
export interface ExamplesView {
  apiBase: string
  calls: Omit<CallProposal, "answer" | "media" | "extra">[]
  settings: Asked[]
  secrets: Asked[]
  lacks: string[]
  doubts: string[]
  /** YAML; not there where the examples do not make a profile. */
  source?: string
  name: string
  faults?: string[]
  file?: string
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
      documents: Documents
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
      const read = readProfile(source, { kept: true })
      if ("faults" in read) continue
      const { title, secrets, settings } = read.profile
      views.push({ name, title, origin, secrets: Object.keys(secrets), settings: Object.keys(settings), source })
    }
    return views.sort((a, b) => (a.name < b.name ? -1 : 1))
  }

  /** Runs a profile's samples; or says what is wrong in the profile itself. */
  test(source: string, samples: ProfileSample[]): { faults: ProfileFault[]; results: SampleResult[] } {
    const read = readProfile(source)
    if ("faults" in read) return { faults: read.faults, results: [] }
    return { faults: [], results: testProfile(read.profile, samples) }
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

  async begin(key: string, by: string, wait: { minutes: number; wanted: number }): Promise<LearningView> {
    this.learner(key)
    await beginLearning(this.parts.database, key, by, wait)
    await this.changed()
    return this.view(key)
  }

  /** Samples from files, in place of calls that come. */
  async give(key: string, texts: string[]): Promise<LearningView> {
    this.learner(key)
    await endLearning(this.parts.database, key)
    await this.parts.sampling.put(key, texts.map(sampleIn))
    await this.changed()
    return this.view(key)
  }

  private learner(key: string): void {
    const { row } = this.parts.care.known(key)
    // Only kinds that are told how a gateway speaks have schemas that depend on it.
    if (!kindOf(row.kind).schemasFor)
      throw new Trouble(
        "bad-input",
        `A ${row.kind} channel has nothing to learn: its provider's calls are known.`,
        "Only channels of the kinds sms and custom learn.",
      )
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
    const found = await this.parts.sampling.samples(key)
    const came = found?.samples.length ?? 0
    const waits = row.learning !== null && Date.parse(row.learning.until) > wallClock("until").getTime()
    const { by, until, wanted = 1 } = row.learning ?? { by: "", until: "" }
    const view: LearningView = {
      inlet: this.parts.care.inletOf(row),
      ...(waits ? { waiting: { by, until, wanted, came } } : {}),
    }
    if (!found || waits) return view
    const calls = found.samples.map(({ call }) => call)
    const hidden = Object.values(channel.secrets)
    const proposal = propose(calls, oursOf(channel, {}))
    const safe = (text: string) =>
      hidden.reduce((shown, secret) => (secret.length > 3 ? shown.replaceAll(secret, "•••") : shown), text)
    const call = calls.find((one) => echoIn(one) === undefined) ?? calls[0]!
    return {
      ...view,
      sample: {
        ...proposal,
        fields: proposal.fields.map((field) => ({ ...field, value: safe(field.value.slice(0, 200)) })),
        at: found.at,
        call: { method: call.method, address: safe(call.address.split("?")[0]!), headers: Object.keys(call.headers) },
      },
    }
  }

  /** Writes the profile that was agreed to, and reads the calls that came with it as the channel's first. */
  async agree(
    key: string,
    given: Agreement,
  ): Promise<{ channel: ChannelView; profile: string; file?: string; first?: { status: number }; stays: string[] }> {
    const { care, sampling, inlet } = this.parts
    const { channel } = care.known(key)
    const found = await sampling.samples(key)
    if (!found) throw notFound("sample of the channel", key, `"wobbet channel learn ${key}" waits for one.`)
    this.refuseShipped(given.name)
    const ours = oursOf(channel, given)
    const proposal = propose(
      found.samples.map(({ call }) => call),
      ours,
    )
    const { calls = [], base } = given.requests
      ? examplesIn(given.requests, receiversIn(proposal, given.places), given.answers)
      : {}
    const proof = given.proof ?? proposal.proofs[0]?.scheme
    // What is fetched with our own key needs no proof.
    const fetched = calls.some((call) => call.sort === "fetch from the queue")
    if (!proof && !fetched)
      throw new Trouble(
        "bad-input",
        "Nothing in the call proves that it is genuine, so no profile is written: whoever finds the address could write to your bot.",
        "Give a word as the secret sharedWord, which then stands in the address you enter at the gateway (?word=…).",
        "proof",
      )
    const inline = given.answer === undefined ? undefined : answerIn(given.answer, proposal)
    const { places, each } = relative({ ...proposal.roles, ...given.places })
    const written = writeProfile({
      name: given.name,
      addresses: given.addresses ?? addressesBy(proposal, calls),
      incoming: {
        body: proposal.body,
        places,
        each,
        ...(proof && !fetched ? { proof } : {}),
        own: relativeTo(each, given.own ?? proposal.own),
        fields: given.fields,
        more: inList(each, proposal.more),
      },
      ...(given.sending ? { sending: given.sending } : {}),
      ...(inline ? { inline } : {}),
      calls,
      ...(given.remedy === undefined ? {} : { remedy: given.remedy }),
    })
    if ("faults" in written)
      throw new Trouble(
        "bad-input",
        `The profile has faults: ${written.faults.join(" ")}`,
        "Correct the places named.",
        "places",
      )
    const settings = { ...(base === undefined ? {} : { apiBase: base }), ...given.settings, profile: given.name }
    const change = { settings, secrets: given.secrets }
    // Before anything is written: a channel that would be refused leaves no profile behind.
    care.wouldChange(key, change, written.profile)
    const file = await this.keep(given.name, written.source, "learned")
    const shown = await care.change(key, change)
    await dropSample(this.parts.database, key)
    let first: { status: number } | undefined
    for (const { call, given: fromFile } of found.samples)
      if (!fromFile) first ??= { status: (await inlet.receive(key, call, wallClock("record"))).status }
    const stays = calls.flatMap((call) => call.stays)
    return { channel: shown, profile: given.name, ...(file ? { file } : {}), ...(first ? { first } : {}), stays }
  }

  /**
   * Reads examples of requests as documentation shows them, and writes a profile of them: a new one, or over one there is.
   *
   * @param given.keep whether it is kept, where it has no fault
   */
  async fromRequests(given: {
    examples: ExampleGiven[]
    name: string
    into?: string
    keep: boolean
  }): Promise<ExamplesView> {
    return this.written({ ...examplesIn(given.examples), ...given })
  }

  /** Writes the profile that calls, and a sample of what comes in, make. */
  private async written(given: {
    calls: CallProposal[]
    base: string
    otherHosts: string[]
    sample?: InboundCall
    name: string
    title?: string
    into?: string
    keep: boolean
  }): Promise<ExamplesView> {
    const { calls, base, otherHosts, sample } = given
    const before = given.into === undefined ? undefined : await this.sourceOf(given.into)
    const name = given.into ?? given.name
    if (given.keep) this.refuseShipped(name)
    // Documents hardly ever say how calls are proven; a word in our address can always be given.
    const proposal = sample && propose([sample], { secrets: { sharedWord: "" }, publicBase: "" })
    const proof: VerifyScheme = proposal?.proofs[0]?.scheme ?? { scheme: "word", secret: "sharedWord", query: "word" }
    const incoming = proposal && incomingOf(proposal, proof)
    const title = given.title === undefined ? {} : { title: given.title }
    const known = { name, ...title, addresses: addressesBy(proposal, calls), calls, ...(incoming ? { incoming } : {}) }
    const written = before === undefined ? writeProfile(known) : writeInto(before, known)
    const unique = (list: Asked[]) =>
      list.filter((one, at) => list.findIndex((other) => other.name === one.name) === at)
    const view: ExamplesView = {
      apiBase: base,
      name,
      calls: calls.map(({ answer: _answer, media: _media, extra: _extra, ...call }) => call),
      settings: unique(calls.flatMap((call) => call.settings)),
      secrets: unique(calls.flatMap((call) => call.secrets)),
      lacks: [
        ...(proposal?.lacks ?? []),
        ...calls.flatMap((call) => call.lacks),
        ...otherHosts.map((host) => `${host} is another host than ${base}: the setting keyHosts must name it`),
      ],
      doubts: [...(proposal?.doubts ?? []), ...calls.flatMap((call) => call.doubts)],
    }
    if ("faults" in written) return { ...view, faults: written.faults }
    if (!given.keep) return { ...view, source: written.source }
    this.refuseToMoveKeys(written.profile)
    const file = await this.keep(name, written.source, "set")
    return { ...view, source: written.source, ...(file ? { file } : {}) }
  }

  /**
   * Lists the calls of a gateway's OpenAPI document, or writes a profile of those that are picked: of how a message is sent,
   * and of what the gateway brings.
   */
  async fromOpenApi(given: {
    document: string
    name: string
    send?: string
    webhook?: string
    more: { operation: string; as: Sort }[]
    keep: boolean
  }): Promise<ExamplesView & { offered: DescribedCall[] }> {
    try {
      const { offered, picked } = await this.parts.documents.describe(given.document, given)
      if (!picked)
        return { offered, name: given.name, apiBase: "", calls: [], settings: [], secrets: [], lacks: [], doubts: [] }
      const view = await this.written({ ...picked, ...given, title: "from its OpenAPI document" })
      return { ...view, offered }
    } catch (error) {
      if (!(error instanceof NotAnExample)) throw error
      throw new Trouble("bad-input", error.message, error.remedy, "document")
    }
  }

  private async sourceOf(name: string): Promise<string> {
    const found = (await this.profiles()).find((one) => one.name === name)
    if (!found) throw notFound("gateway profile", name, '"wobbet profile list" shows those there are.')
    return found.source
  }

  private refuseShipped(name: string): void {
    if (Object.hasOwn(profiles, name))
      throw new Trouble("taken", `A profile "${name}" ships with Wobbet.`, "Give this one another name.", "name")
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

/** What else messages tell, where they stand in a list: relative to its entries. */
function inList(each: string | undefined, more: Further): Further {
  if (each === undefined || !more.message) return more
  const written = JSON.stringify(more.message).replaceAll(`"${each}/0/`, '"/')
  return { ...more, message: JSON.parse(written) as Further["message"] & object }
}

/** A place within the list's entries. */
function relativeTo(each: string | undefined, own: OwnMark | undefined): OwnMark | undefined {
  if (own === undefined || each === undefined || !own.where.startsWith(`${each}/0/`)) return own
  return { ...own, where: own.where.slice(each.length + 2) }
}

function oursOf(channel: Channel, given: Partial<Pick<Agreement, "secrets" | "settings">>): Ours {
  const settings = { ...channel.settings, ...given.settings }
  return {
    secrets: { ...channel.secrets, ...given.secrets },
    settings,
    publicBase: channel.publicBase ?? "",
    ...(typeof settings.number === "string" ? { number: settings.number } : {}),
  }
}

/** Reads examples of requests; says of the first that cannot be read what is wrong with it. */
/** Who wrote in the samples, and where: examples of requests may name the same. */
function receiversIn({ fields, roles }: Proposal, places: Agreement["places"]): KnownValues {
  const wanted = [places.from ?? roles.from, places.place ?? roles.place]
  return { receivers: fields.filter(({ where }) => wanted.includes(where)).map(({ value }) => value) }
}

function examplesIn(
  examples: ExampleGiven[],
  known?: KnownValues,
  answers: Agreement["answers"] = [],
): ReturnType<typeof proposeCalls> {
  try {
    const read = examples.map(({ text, as }) => ({ ...readExample(text), ...(as ? { as } : {}) }))
    const proposed = proposeCalls(read, known)
    for (const call of proposed.calls) {
      const answer = answers.find(({ to }) => to === call.sort)?.text
      if (answer !== undefined) call.answer = answer
    }
    return proposed
  } catch (error) {
    if (!(error instanceof NotAnExample)) throw error
    throw new Trouble("bad-input", error.message, error.remedy, "examples")
  }
}

function answerIn(text: string, { fields }: Proposal) {
  const inline = inlineFrom(text, fields)
  if ("fault" in inline)
    throw new Trouble(
      "bad-input",
      `${inline.fault[0]!.toUpperCase()}${inline.fault.slice(1)}.`,
      "Give the answer whole.",
      "answer",
    )
  return inline
}

/** What comes in, as it was proposed and nobody corrected it. */
function incomingOf({ body, roles, own, more }: Proposal, proof: VerifyScheme): Incoming {
  const { places, each } = relative(roles)
  return { body, places, each, proof, own: relativeTo(each, own), more: inList(each, more) }
}

/** Whether people are numbers here, or names of the gateway's own: as examples and the sample show them. */
function addressesBy(proposal: Proposal | undefined, calls: CallProposal[]): "numbers" | "names" {
  const send = calls.find((call) => call.sort === "send")
  const from = proposal?.fields.find((field) => field.role === "from")?.value
  const isNumber = from === undefined ? undefined : /^([a-z]+:)?\+?\d{7,15}(@[\w.-]+)?$/.test(from.trim())
  if (isNumber === false || send?.names) return "names"
  return "numbers"
}
