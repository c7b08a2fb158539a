import { createHash } from "node:crypto"
import type { Logger } from "pino"
import type { Alarm, InboundCall, InletAnswer, Parsed, Verdict } from "../core/channels/kind.ts"
import { nothingParsed } from "../core/channels/kind.ts"
import { kindOf } from "../core/channels/registry.ts"
import { storable, storableJson } from "../core/message/graphemes.ts"
import type { Message } from "../core/message/message.ts"
import type { Database } from "../store/database.ts"
import { refusal } from "../store/database.ts"
import type { Acceptance, Claimed, Intake } from "../store/intake.ts"
import { acceptIntakes } from "../store/intake.ts"
import { faultPoint } from "../store/faults.ts"
import { newId } from "../store/ids.ts"
import type { Bell } from "./bell.ts"
import type { Bringing } from "./bringing.ts"
import type { Channels, KnownChannel } from "./channels.ts"
import type { Directory } from "./directory.ts"
import { Gatherer } from "./gatherer.ts"
import type { InlineAnswers, InsideAnswer } from "./inlineAnswers.ts"
import type { Journal, JournalEntry } from "./journal.ts"
import type { Learning } from "./learning.ts"
import { Refusals } from "./refusals.ts"
import type { Seal } from "./seal.ts"
import { redactCall } from "./seal.ts"

/** Seconds a claim lasts before another process may take it; renewed while its holder lives. */
export const claimSeconds = 30

/** Milliseconds a batch of callers waits at most for turns that are far behind: none gives up that soon. */
const longestHold = 250

/** What is read from a call before it is durable. */
interface Draft {
  channel: string
  intake: Omit<Intake, "messages">
  parsed: Parsed
  /** Set where the reply may go back inside the call: it is held open from the moment its messages have ids. */
  inside?: { hold: (messages: string[]) => void }
}

/** An answer to a call; `written` is told whether it left whole. */
export interface ServedAnswer extends InletAnswer {
  written?: (whole: boolean) => void
}

/** Receives calls: greet, verify, parse, make durable together with the others of the instant, answer. */
export class Inlet {
  private readonly refusals: Refusals
  private readonly gatherer = new Gatherer<Draft, void>((drafts) => this.accept(drafts), 500, 2)

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      directory: Directory
      seal: Seal
      bell: Bell
      log: Logger
      self: string
      /** Keeps calls that never come again while the database is away. */
      journal: Journal
      /** Takes the turns of conversations claimed on the way in; without it they are left for another process. */
      claimed?: (claims: Claimed[]) => void
      /** Told of messages that the provider has, by the marks our calls carried, as soon as that is kept. */
      proven?: (channel: string, proofs: { mark: string; providerId?: string }[]) => void
      /** Told when messages with media have been kept. */
      brought?: () => void
      /** Told what the operator must hear. */
      alarmed?: (channel: string, alarm: Alarm) => void
      /** Whether turns are so far behind that callers should wait a little for their answer. */
      behind?: () => boolean
      learning: Learning
      bringing: Bringing
      inline: InlineAnswers
    },
  ) {
    const { channels, seal, log } = parts
    this.refusals = new Refusals({ channels, seal, log, keep: (intakes) => this.store(intakes) })
  }

  /** @param brought set where a service elsewhere received the call, with the id it was kept under there */
  async receive(key: string, call: InboundCall, now: Date, brought?: { id: string }): Promise<ServedAnswer> {
    let known = this.parts.channels.get(key)
    if (!known) {
      await this.parts.channels.refresh().catch(() => undefined)
      known = this.parts.channels.get(key)
    }
    if (!known) return { status: 404 }
    if (known.row.learning && this.parts.learning.isOn(known, now)) return this.parts.learning.take(known, call)
    const kind = kindOf(known.row.kind)
    const verdict = kind.verify(call, known.channel, now)
    if (!verdict.genuine) {
      const status = call.method === "GET" ? 403 : 401
      this.refusals.take(known, call, verdict, status, now)
      return { status }
    }
    const parsed = kind.parse(call, known.channel)
    const answer: InletAnswer = kind.acknowledge(call, parsed, known.channel)
    if (FAULTS_BUILT) await faultPoint("inlet: call read")
    const kept = redactCall(call, Object.values(known.channel.secrets), this.parts.seal)
    const id = brought?.id ?? newId("itk")
    const body = Buffer.from(call.body)
    const repeats = (known.row.settings.repeats as boolean | undefined) ?? kind.repeats(call, known.channel)
    /** By what a call that comes only once was found genuine. */
    const once = repeats ? undefined : verdict.by
    const late = async (by: string): Promise<InletAnswer> => {
      await this.parts.journal.add({
        id,
        channel: key,
        method: call.method,
        ...kept,
        body: body.toString("base64"),
        by,
        answered: answer.status,
        receivedAt: now.toISOString(),
      })
      if (FAULTS_BUILT) await faultPoint("journal: call written")
      return kind.acknowledgeLate?.(call, parsed) ?? answer
    }
    try {
      // Behind what waits on disk already, so that the order stays what it was.
      if (once !== undefined && this.parts.journal.holds) return await late(once)
      if (known.row.bringing && !brought && this.parts.bringing.isOn(known, now) && call.method !== "GET")
        return (await this.carry(id, known, call, verdict, answer, now)) ?? answer
      const inside = parsed.messages.some((one) => one.own === undefined) ? kind.inside?.(known.channel) : undefined
      const held = inside && this.heldOpen(call, inside.within * 1000, now)
      await this.gatherer.add({
        channel: key,
        parsed,
        ...(held ? { inside: held } : {}),
        intake: {
          id,
          channel: key,
          via: brought ? "bring" : "webhook",
          method: call.method,
          address: kept.address,
          headers: kept.headers,
          body,
          verdict,
          notes: parsed.notes,
          unreadable: parsed.unreadable,
          answered: answer.status,
        },
      })
      const said = await held?.answer()
      if (said)
        return {
          // What has a body is not "no content".
          status: answer.status === 204 ? 200 : answer.status,
          headers: { "content-type": said.type },
          body: said.body,
          written: said.written,
        }
    } catch (error) {
      const cause = refusal(error)
      if (once !== undefined && cause === "away") {
        try {
          return await late(once)
        } catch (fault) {
          this.parts.log.error({ err: fault, channel: key }, "a call could not be written to the local journal either")
        }
      } else if (cause !== "away") {
        this.parts.log.error({ err: error, channel: key }, "a call could not be kept")
      }
      // Nothing is acknowledged that is not durable: the provider will call again.
      const seen = once === undefined ? undefined : kind.refuseSeen?.(call)
      return seen ?? { status: 503, headers: { "retry-after": "5" } }
    }
    return answer
  }

  /** Holds a call open for the reply to what it brings, from its receipt on for so many milliseconds. */
  private heldOpen(call: InboundCall, milliseconds: number, now: Date) {
    let answer: Promise<InsideAnswer | undefined> = Promise.resolve(undefined)
    return {
      hold: (messages: string[]) => {
        answer = this.parts.inline.hold(call, messages, now.getTime() + milliseconds - Date.now())
      },
      answer: () => answer,
    }
  }

  /** Keeps a call for the service that fetches this channel's, and answers as that one says, if it is quick. */
  private async carry(
    id: string,
    known: KnownChannel,
    call: InboundCall,
    verdict: Verdict,
    answer: InletAnswer,
    now: Date,
  ): Promise<InletAnswer | undefined> {
    const { bringing, seal } = this.parts
    const { row, channel } = known
    const kept = redactCall(call, Object.values(channel.secrets), seal)
    await this.store([
      {
        id,
        channel: row.key,
        via: "webhook",
        method: call.method,
        ...kept,
        body: Buffer.from(call.body),
        verdict,
        notes: [`kept for ${row.bringing!.by}, who fetches this channel's calls`],
        answered: answer.status,
        messages: [],
      },
    ])
    return bringing.carry(id, known, call, now)
  }

  /** A call that was kept for a service elsewhere and not taken there. */
  async takeIn(known: KnownChannel, id: string, call: InboundCall, note: string): Promise<void> {
    const parsed = kindOf(known.row.kind).parse(call, known.channel)
    const kept = redactCall(call, Object.values(known.channel.secrets), this.parts.seal)
    const { notes, unreadable } = leftovers(parsed)
    const verdict: Verdict = { genuine: true, by: "found genuine when it came" }
    const body = Buffer.from(call.body)
    const intake = { id, channel: known.row.key, via: "webhook" as const, method: call.method, ...kept, body, verdict }
    const drafts: Draft[] = [
      { channel: known.row.key, parsed, intake: { ...intake, notes: [...notes, note], unreadable } },
    ]
    await this.keepHalving(drafts)
    this.tell(drafts)
  }

  /** Calls that were kept on local disk while the database was away, in their order. What is there already stays. */
  async readIn(entries: JournalEntry[], now: Date): Promise<void> {
    const drafts = entries.map((entry): Draft => {
      const { id, channel, method, address, headers, by, answered, receivedAt } = entry
      const body = Buffer.from(entry.body, "base64")
      const call: InboundCall = { method, address, headers, body }
      const known = this.parts.channels.get(channel)
      const parsed: Parsed = known
        ? kindOf(known.row.kind).parse(call, known.channel)
        : { ...nothingParsed(), unreadable: "the channel was gone when this call was read in" }
      const { notes, ...rest } = leftovers(parsed)
      const waited = `the database was away: kept on local disk at ${receivedAt}, read in at ${now.toISOString()}`
      return {
        channel,
        parsed,
        intake: {
          id,
          channel,
          via: "webhook",
          ...call,
          body,
          verdict: { genuine: true, by },
          answered,
          receivedAt,
          notes: [...notes, waited],
          ...rest,
        },
      }
    })
    for (let at = 0; at < drafts.length; at += 200) await this.keepHalving(drafts.slice(at, at + 200))
    this.tell(drafts)
    if (FAULTS_BUILT) await faultPoint("journal: calls read in")
  }

  /** Updates fetched by polling, kept in one transaction with the offset that confirms them. */
  async receivePolled(known: KnownChannel, updates: string[], offset: { holder: string; next: string }): Promise<void> {
    const kind = kindOf(known.row.kind)
    const drafts = updates.map((update): Draft => {
      const body = Buffer.from(update)
      const call: InboundCall = { method: "POST", address: "(polled)", headers: {}, body }
      const parsed = kind.parse(call, known.channel)
      return {
        channel: known.row.key,
        parsed,
        intake: {
          id: newId("itk"),
          channel: known.row.key,
          via: "polling",
          ...call,
          body,
          verdict: { genuine: true, by: "fetched with our own token" },
          ...leftovers(parsed),
        },
      }
    })
    const confirm = { channel: known.row.key, ...offset }
    if (FAULTS_BUILT && updates.length > 0) await faultPoint("poll: updates fetched")
    try {
      await this.store(await this.placed(drafts), confirm)
    } catch (error) {
      if (refusal(error) !== "data") throw error
      // One of them cannot be stored: each by itself first, then the offset. What comes twice falls out again.
      await this.keepHalving(drafts)
      await this.store([], confirm)
    }
  }

  async drained(): Promise<void> {
    await this.gatherer.drained()
    await this.refusals.drained()
  }

  private async accept(drafts: Draft[]): Promise<void[]> {
    for (const end = Date.now() + longestHold; Date.now() < end && this.parts.behind?.();)
      await new Promise((resolve) => setTimeout(resolve, 10))
    await this.keepHalving(drafts)
    this.tell(drafts)
    return drafts.map(() => undefined)
  }

  /** What else in these calls somebody waits for. */
  private tell(drafts: Draft[]): void {
    const { proven, alarmed } = this.parts
    for (const { channel, parsed } of drafts) {
      for (const alarm of parsed.alarms ?? []) alarmed?.(channel, alarm)
      const proofs = parsed.statuses.flatMap(({ about, status }) =>
        "mark" in about && about.mark !== undefined && status !== "failed"
          ? [{ mark: about.mark, ...(about.id ? { providerId: about.id } : {}) }]
          : [],
      )
      if (proofs.length > 0) proven?.(channel, proofs)
    }
  }

  /** Gives every message its conversation. A place that moved has moved before its messages are placed. */
  private async placed(drafts: Draft[]): Promise<Intake[]> {
    for (const { channel, parsed } of drafts) {
      for (const { from, to } of parsed.moves) await this.parts.directory.move(channel, from, to)
    }
    const all = drafts.flatMap(({ channel, parsed }) => parsed.messages.map(({ message }) => ({ channel, message })))
    const conversations = all.length > 0 ? await this.parts.directory.conversationsOf(all) : []
    let at = 0
    const now = new Date().toISOString()
    const placed = drafts.map(({ channel, intake, parsed }) =>
      Object.assign(intake, {
        messages: parsed.messages.map((one) => ({
          id: newId("msg"),
          eventKey: one.eventKey === "" ? intake.id : shortKey(one.eventKey),
          conversation: conversations[at++]!,
          message: one.message,
          words: wordsOf(one.message),
          courtesies: one.courtesies ?? [],
          own: one.own ?? false,
          contact: this.parts.directory.contactOf(channel, one.message) ?? null,
        })),
        ...(parsed.statuses.length > 0
          ? { statuses: parsed.statuses.map((told) => ({ channel, intake: intake.id, told, at: now })) }
          : {}),
      }),
    )
    drafts.forEach(({ inside }, n) => inside?.hold(placed[n]!.messages.map((one) => one.id)))
    if (FAULTS_BUILT && all.length > 0) await faultPoint("inlet: ids made")
    return placed
  }

  /** One call that PostgreSQL refuses must not hurt its neighbours: the batch is halved until it stands alone. */
  private async keepHalving(drafts: Draft[]): Promise<void> {
    try {
      await this.store(await this.placed(drafts))
    } catch (error) {
      if (refusal(error) !== "data") throw error
      if (drafts.length > 1) {
        const middle = drafts.length >> 1
        await this.keepHalving(drafts.slice(0, middle))
        await this.keepHalving(drafts.slice(middle))
        return
      }
      const [poisoned] = drafts
      if (!poisoned || poisoned.parsed.messages.length + poisoned.parsed.statuses.length === 0) throw error
      this.parts.log.error(
        { err: error, intake: poisoned.intake.id },
        "a call's messages could not be stored; the raw call is kept",
      )
      const why = `its messages could not be stored: ${storable((error as Error).message).slice(-300)}`
      await this.store([{ ...poisoned.intake, messages: [], statuses: [], unreadable: why }])
    }
  }

  /** Nobody answers again what was seen before: its caller need not wait. */
  private letGo(intakes: Intake[], { fresh }: Acceptance): void {
    const news = new Set(fresh.map((one) => one.id))
    this.parts.inline.over(intakes.flatMap((one) => one.messages.map(({ id }) => id)).filter((id) => !news.has(id)))
  }

  private async store(intakes: Intake[], offset?: { channel: string; holder: string; next: string }): Promise<void> {
    const { database, self, claimed, bell } = this.parts
    const claim = claimed ? { holder: self, seconds: claimSeconds } : undefined
    const acceptance = await acceptIntakes(database, intakes.map(storableIntake), claim, offset)
    if (FAULTS_BUILT && acceptance.fresh.length > 0)
      await faultPoint(offset ? "poll: updates kept" : "inlet: call kept")
    if (intakes.length > 0) bell.ring("live")
    if (acceptance.fresh.length < intakes.reduce((sum, one) => sum + one.messages.length, 0))
      this.letGo(intakes, acceptance)
    if (acceptance.fresh.length === 0) return
    if (intakes.some((intake) => intake.messages.some(({ message }) => message.media))) this.parts.brought?.()
    if (claimed && acceptance.claimed.length > 0) claimed(acceptance.claimed)
    if (!claimed) bell.ring("work")
  }
}

function leftovers(parsed: Parsed): { notes: string[]; unreadable: string | undefined } {
  return { notes: parsed.notes, unreadable: parsed.unreadable }
}

function storableIntake(intake: Intake): Intake {
  const headers = storableJson(intake.headers)
  const address = storable(intake.address)
  return headers === intake.headers && address === intake.address ? intake : { ...intake, headers, address }
}

/** Keys longer than an index takes well are hashed. */
function shortKey(key: string): string {
  return key.length <= 200 ? key : `sha256:${createHash("sha256").update(key).digest("hex")}`
}

/** What a person reading a list sees of a message. */
export function wordsOf(message: Message): string {
  if (message.text !== undefined) return message.text
  if (message.choice) return message.choice.label ?? message.choice.id
  if (message.media) return message.media.map((one) => `(${one.kind})`).join(" ")
  if (message.location) return `(location${message.location.name ? ` ${message.location.name}` : ""})`
  if (message.contact) return `(contact ${message.contact.name})`
  if (message.reaction) return `(${message.reaction.removed ? "took back" : "reacted"} ${message.reaction.emoji})`
  if (message.people) return `(${message.event} ${message.people.map((one) => one.name ?? one.address).join(", ")})`
  return `(${message.providerEvent ?? message.event})`
}
