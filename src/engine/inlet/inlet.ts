import { createHash } from "node:crypto"
import { setTimeout as pause } from "node:timers/promises"
import type { Logger } from "pino"
import type { Alarm, ChannelKind, Parsed, ParsedMessage, Verdict } from "../../core/channels/kind.ts"
import { nothingParsed } from "../../core/channels/kind.ts"
import type { InboundCall, InletAnswer } from "../../core/channels/call.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { storable, storableJson } from "../../core/message/graphemes.ts"
import type { Message } from "../../core/message/message.ts"
import { noticesWish } from "../../core/message/noticesWish.ts"
import { wordsOf } from "../../core/message/words.ts"
import type { Bell } from "../../store/bell.ts"
import { claimSeconds } from "../../store/claims.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import { newId } from "../../store/ids.ts"
import type { Acceptance, Intake } from "../../store/intake.ts"
import { acceptIntakes, isForgotten } from "../../store/intake.ts"
import type { Claimed } from "../../store/lines.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import { GroupCommit, keepHalving, NotInTime } from "../groupCommit.ts"
import type { Identities } from "../identities.ts"
import type { Directory } from "../people/directory.ts"
import type { Figures } from "../process/figures.ts"
import type { Seal } from "../seal.ts"
import { redactBody, redactCall } from "../seal.ts"
import type { HeldAnswer, HeldCalls } from "../sender/heldCalls.ts"
import type { Forwarding } from "./forwarding.ts"
import type { Journal } from "./journal.ts"
import type { JournalEntry } from "./journalFile.ts"
import { Refusals } from "./refusals.ts"
import type { Sampling } from "./sampling.ts"
import { verified } from "./verified.ts"
import { wallClock } from "../process/wallClock.ts"

/** Milliseconds a batch of callers waits at most for turns that are far behind: none gives up that soon. */
const longestHold = 250

/** Seconds a provider waits for the answer to its call where its kind says nothing of that. */
const usualPatience = 8

/** What is read from a call before it is durable. */
interface Draft {
  channel: string
  intake: Omit<Intake, "messages">
  parsed: Parsed
  /** Set where the reply may go back inside the call: it is held open from the moment its messages have ids. */
  held?: { hold: (messages: string[]) => void }
}

/** A genuine call, read. */
interface Reading {
  known: KnownChannel
  kind: ChannelKind
  call: InboundCall
  parsed: Parsed
  intake: Omit<Intake, "messages">
  /** What its caller hears once it is durable. */
  answer: InletAnswer
  now: Date
  /** Set where the provider never brings this call again: by what it was found genuine. */
  once: string | undefined
}

/** An answer to a call; `written` is told whether it left whole. */
export interface ServedAnswer extends InletAnswer {
  written?: (whole: boolean) => void
}

/** Receives calls: verify, parse, make durable together with the others of the instant, answer. */
export class Inlet {
  private readonly refusals: Refusals
  private readonly accepting = new GroupCommit<Draft, void>((drafts) => this.accept(drafts), 500, 2)

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      directory: Directory
      identities: Identities
      seal: Seal
      bell: Bell
      log: Logger
      self: string
      figures: Figures
      /** Keeps calls that never come again while the database is away. */
      journal: Journal
      /** Takes the turns of conversations claimed on the way in; without it they are left for another process. */
      claimed?: (claims: Claimed[]) => void
      /** Told of messages that the provider has, by the marks our calls carried, as soon as that is kept. */
      proven?: (channel: string, proofs: { mark: string; providerId?: string }[]) => void
      /** Told when messages with media have been kept. */
      mediaCame?: () => void
      /** Told what the operator must hear. */
      alarmed?: (channel: string, alarm: Alarm) => void
      recovered?: (channel: string, says: string) => void
      /** Whether turns are so far behind that callers should wait a little for their answer. */
      behind?: () => boolean
      sampling: Sampling
      forwarding: Forwarding
      heldCalls: HeldCalls
    },
  ) {
    const { channels, seal, log } = parts
    this.refusals = new Refusals({ channels, seal, log, keep: (intakes) => this.store(intakes) })
  }

  /** @param origin set where the call did not come here by itself */
  async receive(key: string, call: InboundCall, now: Date, origin?: Origin): Promise<ServedAnswer> {
    const { channels, identities, sampling, figures } = this.parts
    const came = performance.now()
    const met = channels.get(key) ?? (await channels.meet(key))
    if (!met) return { status: 404 }
    if (met.row.learning && sampling.isOn(met, now)) {
      figures.called(met.row, "sample")
      return sampling.take(met, call)
    }
    // A channel that asks has nothing by which a call would be proven.
    const asks = origin?.said !== undefined && kindOf(met.row.kind).polling?.(met.channel) !== undefined
    const verdict = asks ? { genuine: true as const, by: "made here, to try the bot" } : verified(met, call, now)
    const verifiedAt = performance.now()
    figures.reached("verified", verifiedAt - came)
    figures.called(met.row, verdict.genuine ? "genuine" : "refused")
    if (!verdict.genuine) {
      const status = call.method === "GET" ? 403 : 401
      this.refusals.take(met, call, verdict, status, now)
      return { status }
    }
    const known = met.row.identity ? met : await identities.of(met)
    const reading = this.read(known, call, verdict, now, origin)
    figures.reached("parsed", performance.now() - verifiedAt)
    figures.received(met.row, reading.parsed.messages.length)
    if (FAULTS_BUILT) await faultPoint("inlet: call read")
    const answer = await this.answer(reading, origin !== undefined)
    figures.reached("received", performance.now() - came)
    return answer
  }

  /** Whether a call's head alone shows that it is not genuine, so that its body need not be read. */
  refutes(known: KnownChannel, head: InboundCall): boolean {
    if (known.row.learning) return false
    const verdict = verified(known, head, wallClock("signature"))
    return !verdict.genuine && verdict.byHead === true
  }

  private read(
    known: KnownChannel,
    call: InboundCall,
    verdict: Verdict & { genuine: true },
    now: Date,
    origin: Origin | undefined,
  ): Reading {
    const { row, channel } = known
    const kind = kindOf(row.kind)
    const parsed = origin?.said ? simulated(kind.parse(call, channel), origin) : kind.parse(call, channel)
    const answer = kind.acknowledge(call, parsed, channel)
    const repeats = (row.settings.repeats as boolean | undefined) ?? kind.repeats(call, channel)
    const secrets = [...Object.values(channel.secrets), ...Object.values(known.former)]
    const { address, headers } = redactCall(call, secrets, this.parts.seal)
    const body = kind.secretInBody?.(channel) ? redactBody(call.body, secrets, this.parts.seal) : Buffer.from(call.body)
    const intake = {
      id: origin?.id ?? newId("itk"),
      channel: row.key,
      via: origin === undefined ? ("webhook" as const) : origin.said ? ("say" as const) : ("bring" as const),
      method: call.method,
      address,
      headers,
      body,
      verdict,
      notes: parsed.notes,
      unreadable: parsed.unreadable,
      answered: answer.status,
    }
    return { known, kind, call, parsed, intake, answer, now, once: repeats ? undefined : verdict.by }
  }

  /** Keeps a call where it belongs; nobody is answered before that is durable. */
  private async answer(reading: Reading, brought: boolean): Promise<ServedAnswer> {
    const { known, call, answer, now, once } = reading
    try {
      // Behind what waits on disk already, so that the order stays what it was.
      if (once !== undefined && (await this.mustStandBehind())) return await this.journalled(reading, once)
      if (known.row.bringing && !brought && this.parts.forwarding.isOn(known, now) && call.method !== "GET")
        return (await this.forward(reading)) ?? answer
      return await this.kept(reading)
    } catch (error) {
      return this.notKept(reading, error)
    }
  }

  /** Whether calls wait on local disk, of which a later one must not come before. Asked without a promise where none do. */
  private mustStandBehind(): Promise<boolean> | false {
    const { journal } = this.parts
    return journal.holds && journal.holdsStill()
  }

  /** Keeps the call in the database, and waits for the reply where that goes back inside the call. */
  private async kept({ known, kind, call, parsed, intake, answer }: Reading): Promise<ServedAnswer> {
    const speaks = parsed.messages.some((message) => message.own === undefined)
    const terms = speaks ? kind.inline?.(known.channel) : undefined
    const held = terms && this.heldOpen(call, terms.within * 1000)
    const draft = { channel: known.row.key, parsed, intake, ...(held ? { held } : {}) }
    // A fifth of the provider's patience is left for the other ways to keep it.
    await this.accepting.add(draft, (kind.patience ?? usualPatience) * 800)
    const said = await held?.answer()
    if (!said) return answer
    return {
      // What has a body is not "no content".
      status: answer.status === 204 ? 200 : answer.status,
      headers: { "content-type": said.type },
      body: said.body,
      written: said.written,
    }
  }

  /** Nothing is acknowledged that is not durable: the provider will call again, or the call goes to local disk. */
  private async notKept(reading: Reading, error: unknown): Promise<InletAnswer> {
    const { log } = this.parts
    const { kind, call, intake, once } = reading
    const away = error instanceof NotInTime || databaseFault(error) === "away"
    if (!away) log.error({ err: error, channel: intake.channel }, "a call could not be kept")
    if (once !== undefined && away) {
      try {
        return await this.journalled(reading, once)
      } catch (fault) {
        log.error({ err: fault, channel: intake.channel }, "a call could not be written to the local journal either")
      }
    }
    const seen = once === undefined ? undefined : kind.refuseSeen?.(call)
    return seen ?? { status: 503, headers: { "retry-after": "5" } }
  }

  /** Keeps a call that never comes again on local disk; its person may be told that the answer will be late. */
  private async journalled({ kind, call, parsed, intake, answer, now }: Reading, by: string): Promise<InletAnswer> {
    const { id, channel, method, address, headers, body } = intake
    await this.parts.journal.add({
      id,
      channel,
      method,
      address,
      headers,
      body: body.toString("base64"),
      by,
      answered: answer.status,
      receivedAt: now.toISOString(),
    })
    if (FAULTS_BUILT) await faultPoint("journal: call written")
    return kind.acknowledgeLate?.(call, parsed) ?? answer
  }

  /** Holds a call open for the reply to what it brings, from now on for so many milliseconds. */
  private heldOpen(call: InboundCall, milliseconds: number) {
    let answer: Promise<HeldAnswer | undefined> = Promise.resolve(undefined)
    const end = performance.now() + milliseconds
    return {
      hold: (messages: string[]) => {
        answer = this.parts.heldCalls.hold(call, messages, end - performance.now())
      },
      answer: () => answer,
    }
  }

  /** Keeps a call for the service that fetches this channel's, and answers as that one says, if it is quick. */
  private async forward({ known, call, intake, now }: Reading): Promise<InletAnswer | undefined> {
    const note = `kept for ${known.row.bringing!.by}, who fetches this channel's calls`
    await this.store([{ ...intake, notes: [note], unreadable: undefined, messages: [] }])
    return this.parts.forwarding.carry(intake.id, known, call, now)
  }

  /** A call that was kept for a service elsewhere and not taken there. */
  async takeIn(known: KnownChannel, id: string, call: InboundCall, note: string): Promise<void> {
    const verdict = { genuine: true as const, by: "found genuine when it came" }
    const { parsed, intake } = this.read(known, call, verdict, wallClock("record"), undefined)
    const { answered: _answered, ...rest } = intake
    await this.keep([{ channel: known.row.key, parsed, intake: { ...rest, id, notes: [...rest.notes, note] } }])
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
      const verdict = { genuine: true as const, by }
      const intake = { id, channel, via: "webhook" as const, ...call, body, verdict, answered, receivedAt, ...rest }
      return { channel, parsed, intake: { ...intake, notes: [...notes, waited] } }
    })
    for (let at = 0; at < drafts.length; at += 200) await this.keep(drafts.slice(at, at + 200))
    if (FAULTS_BUILT) await faultPoint("journal: calls read in")
  }

  /** Updates fetched by polling, kept in one transaction with the offset that confirms them. */
  async receivePolled(met: KnownChannel, updates: string[], offset: { holder: string; next: string }): Promise<void> {
    const known = met.row.identity || updates.length === 0 ? met : await this.parts.identities.of(met)
    const { key, kind } = known.row
    const drafts = updates.map((update): Draft => {
      const body = Buffer.from(update)
      const call: InboundCall = { method: "POST", address: "(polled)", headers: {}, body }
      const parsed = kindOf(kind).parse(call, known.channel)
      const verdict = { genuine: true as const, by: "fetched with our own token" }
      const intake = { id: newId("itk"), channel: key, via: "polling" as const, ...call, body, verdict }
      return { channel: key, parsed, intake: { ...intake, ...leftovers(parsed) } }
    })
    const confirm = { channel: key, ...offset }
    if (FAULTS_BUILT && updates.length > 0) await faultPoint("poll: updates fetched")
    try {
      await this.storeDrafts(drafts, confirm)
      this.tell(drafts)
    } catch (error) {
      if (databaseFault(error) !== "data") throw error
      // One of them cannot be stored: each by itself first, then the offset. What comes twice falls out again.
      await this.keep(drafts)
      await this.store([], confirm)
    }
  }

  /** What was said before a channel was connected: kept in its place, and answered by nobody. */
  async receiveHistory({ row, channel }: KnownChannel, updates: string[], at: string): Promise<number> {
    const before = "it was said before the channel was connected"
    const drafts = updates.map((update): Draft => {
      const body = Buffer.from(update)
      const call: InboundCall = { method: "POST", address: "(history)", headers: {}, body }
      const { messages, notes, unreadable } = kindOf(row.kind).parse(call, channel)
      const parsed: Parsed = {
        ...nothingParsed(),
        messages: messages.map((one) => ({ ...one, own: one.own ?? before })),
        notes: [...notes, `fetched when the channel was connected, at ${at}`],
        ...(unreadable === undefined ? {} : { unreadable }),
      }
      const verdict = { genuine: true as const, by: "fetched with our own key" }
      const intake = { id: newId("itk"), channel: row.key, via: "history" as const, ...call, body, verdict }
      return { channel: row.key, parsed, intake: { ...intake, ...leftovers(parsed) } }
    })
    for (let from = 0; from < drafts.length; from += 100) await this.keep(drafts.slice(from, from + 100))
    return drafts.reduce((sum, { parsed }) => sum + parsed.messages.length, 0)
  }

  async drained(): Promise<void> {
    await this.accepting.drained()
    await this.refusals.drained()
  }

  private async accept(drafts: Draft[]): Promise<void[]> {
    for (const end = performance.now() + longestHold; performance.now() < end && this.parts.behind?.();) await pause(10)
    await this.keep(drafts)
    return drafts.map(() => undefined)
  }

  private async keep(drafts: Draft[]): Promise<void> {
    await keepHalving(
      drafts,
      (some) => this.storeDrafts(some),
      (draft, error) => this.keepRaw(draft, error),
    )
    this.tell(drafts)
  }

  /** A call whose messages PostgreSQL will not keep is kept as it came. */
  private async keepRaw({ intake, parsed }: Draft, error: Error): Promise<void> {
    if (parsed.messages.length + parsed.statuses.length === 0) throw error
    this.parts.log.error(
      { err: error, intake: intake.id },
      "a call's messages could not be stored; the raw call is kept",
    )
    const unreadable = `its messages could not be stored: ${storable(error.message).slice(-300)}`
    await this.store([{ ...intake, messages: [], statuses: [], unreadable }])
  }

  /** What else in these calls somebody waits for. */
  private tell(drafts: Draft[]): void {
    const { proven, alarmed, recovered } = this.parts
    for (const { channel, parsed } of drafts) {
      for (const alarm of parsed.alarms ?? []) alarmed?.(channel, alarm)
      if (parsed.recovered !== undefined) recovered?.(channel, parsed.recovered)
      const proofs = parsed.statuses.flatMap(({ about, status }) =>
        "mark" in about && about.mark !== undefined && status !== "failed"
          ? [{ mark: about.mark, ...(about.id ? { providerId: about.id } : {}) }]
          : [],
      )
      if (proofs.length > 0) proven?.(channel, proofs)
      for (const { about, status } of parsed.statuses)
        if (status === "delivered" && "id" in about && about.id !== undefined)
          this.parts.figures.delivered(channel, about.id)
    }
  }

  /** Gives every message its conversation. A place that moved has moved before its messages are placed. */
  private async placed(drafts: Draft[]): Promise<Intake[]> {
    for (const { channel, parsed } of drafts) {
      this.readWishes(channel, parsed)
      for (const { from, to } of parsed.moves) await this.parts.directory.move(channel, from, to)
    }
    const all = drafts.flatMap(({ channel, parsed }) =>
      parsed.messages.map((one) => ({ channel, message: saidTo(one) })),
    )
    const places = all.length > 0 ? await this.parts.directory.placesOf(all) : []
    let at = 0
    const now = wallClock("record").toISOString()
    const placed = drafts.map(({ channel, intake, parsed }) =>
      Object.assign(intake, {
        messages: parsed.messages.map((message) => ({
          id: newId("msg"),
          eventKey: message.eventKey === "" ? intake.id : shortKey(message.eventKey),
          conversation: places[at]!.conversation,
          message: message.message,
          words: wordsOf(message.message),
          courtesies: message.courtesies ?? [],
          own: message.own ?? false,
          by: message.by,
          contact: places[at++]!.contact ?? null,
        })),
        ...(parsed.statuses.length > 0
          ? { statuses: parsed.statuses.map((told) => ({ channel, intake: intake.id, told, at: now })) }
          : {}),
      }),
    )
    drafts.forEach(({ held }, n) => held?.hold(placed[n]!.messages.map((message) => message.id)))
    if (FAULTS_BUILT && all.length > 0) await faultPoint("inlet: ids made")
    return placed
  }

  /** Wishes against what starts from us, on kinds that have no such words of their own. */
  private readWishes(channel: string, { messages }: Parsed): void {
    const kind = this.parts.channels.get(channel)?.row.kind
    if (kind === undefined || kindOf(kind).stopWords) return
    for (const { message, own } of messages) {
      const wish = own === undefined ? noticesWish(message) : undefined
      if (wish) message.wish = wish
    }
  }

  /** Nobody answers again what was seen before: its caller need not wait. */
  private letGo(intakes: Intake[], { fresh }: Acceptance): void {
    const news = new Set(fresh.map((one) => one.id))
    this.parts.heldCalls.over(
      intakes.flatMap((intake) => intake.messages.map(({ id }) => id)).filter((id) => !news.has(id)),
    )
  }

  private async storeDrafts(drafts: Draft[], offset?: Offset): Promise<void> {
    try {
      await this.store(await this.placed(drafts), offset)
    } catch (error) {
      if (!isForgotten(error)) throw error
      // They write again, for the first time.
      this.parts.directory.lookAgain()
      await this.store(await this.placed(drafts), offset)
    }
  }

  private async store(intakes: Intake[], offset?: Offset): Promise<void> {
    const { database, self, claimed, bell } = this.parts
    const claim = claimed ? { holder: self, seconds: claimSeconds } : undefined
    const acceptance = await acceptIntakes(database, intakes.map(storableIntake), claim, offset)
    if (FAULTS_BUILT && acceptance.fresh.length > 0)
      await faultPoint(offset ? "poll: updates kept" : "inlet: call kept")
    if (intakes.length > 0) bell.ring("live")
    if (acceptance.fresh.length < intakes.reduce((sum, one) => sum + one.messages.length, 0))
      this.letGo(intakes, acceptance)
    if (acceptance.fresh.length === 0) return
    if (intakes.some((intake) => intake.messages.some(({ message }) => message.media))) this.parts.mediaCame?.()
    if (claimed && acceptance.claimed.length > 0) claimed(acceptance.claimed)
    if (!claimed) bell.ring("work")
  }
}

/** A poll's next offset, and who polls. */
interface Offset {
  channel: string
  holder: string
  next: string
}

/** Where a call came from that did not come here by itself. */
export interface Origin {
  /** The id it is kept under: where a service elsewhere received it, the one it has there. */
  id: string
  /** Set where it was made here to try the bot. */
  said?: {
    captured: boolean
    name?: string
    /** Set where a call that came before is said again: its messages are new ones, and all else in it has been done. */
    again?: true
  }
}

/** What was read from a made-up call, marked as such; a person nobody can ask about has the name that was given. */
function simulated(parsed: Parsed, { id, said }: Origin): Parsed {
  const { captured, name, again } = said!
  return {
    ...(again ? nothingParsed() : parsed),
    notes: [...parsed.notes, `simulated: it was said here${again ? " again" : ""}, to try the bot`],
    messages: parsed.messages.map(({ courtesies, message, ...rest }, at) => ({
      ...rest,
      ...(again ? { eventKey: `again:${id}:${at}` } : {}),
      ...(courtesies && !captured ? { courtesies } : {}),
      message: {
        ...message,
        ...(message.from && name !== undefined ? { from: { name, ...message.from } } : {}),
        ...(message.place.kind === "direct" && name !== undefined ? { place: { ...message.place, title: name } } : {}),
        simulated: captured ? ("captured" as const) : ("sent" as const),
      },
    })),
  }
}

/** The message as it tells of a person: what was said in our own name tells only to whom. */
function saidTo({ by, message }: ParsedMessage): Message {
  if (by === undefined) return message
  const { from: _us, ...rest } = message
  const { address, kind } = message.place
  return kind === "direct" ? { ...rest, from: { address, bot: false } } : rest
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
