import { setTimeout as pause } from "node:timers/promises"
import type { Logger } from "pino"
import type { Outcome } from "../../core/channels/kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../../core/channels/call.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Place } from "../../core/message/message.ts"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import { giveUpLeases, takeLeases } from "../../store/leases.ts"
import { sentToday } from "../../store/messages.ts"
import type { Head, Settlement } from "../../store/outbox.ts"
import {
  abandonedSends,
  dueHeads,
  endWaits,
  headsOf,
  nextDue,
  noteWaits,
  parkOptedOut,
  settleAttempts,
  startAttempts,
  startedBy,
} from "../../store/outbox.ts"
import { proofsOf, settleParkedDoubts, traceOfMark } from "../../store/statuses.ts"
import { callTimeout, judged, keepable } from "../calls/perform.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import { GroupCommit } from "../groupCommit.ts"
import type { Uploads } from "../media/uploads.ts"
import type { Directory } from "../people/directory.ts"
import type { Errands } from "../process/errands.ts"
import type { Repeated } from "../process/every.ts"
import { every } from "../process/every.ts"
import type { Figures } from "../process/figures.ts"
import type { Alerts } from "./alerts.ts"
import type { Begun } from "./call.ts"
import { answerInline, makeCall, markOf } from "./call.ts"
import { Doubts } from "./doubts.ts"
import type { HeldCalls } from "./heldCalls.ts"
import { consequenceOf } from "./outcomes.ts"
import type { Clocks } from "./pacer.ts"
import { readClocks, Pacer, paceSettings, waitsFor } from "./pacer.ts"
import { wallClock } from "../process/wallClock.ts"

/** Seconds a process may send for a channel before it must renew. */
const leaseSeconds = 30
/** Calls under way at once on one channel: a provider that answers nothing keeps no other channel from sending. */
const mostCalls = 256
/** Milliseconds of a wait for the pace that is kept as a timer; a longer one is left to the sweep. */
const longestTimer = 90_000
/** Milliseconds of a wait for the pace that is put on record: nobody asks why a message is a moment late. */
const worthTelling = 5000
/** Lines held by this process at once: what waits beyond them is left to the sweep, so that a crowd costs no memory. */
const mostLines = 5000
/** What the log says of a step that threw. */
const failed = "sending met a fault of its own; it is tried again"

/**
 * Sends what stands in the outbox: one process a channel, one call a conversation at a time, within the provider's
 * pace. An attempt is on record before its first byte leaves, so that a crash leaves a doubt and never a silence.
 */
export class Sender {
  private readonly leases = new Map<string, Clocks>()
  private readonly pacers = new Map<string, Pacer>()
  /** Conversations this process has in hand: a call under way, or a wait for the pace or for a doubt to settle. */
  private readonly lines = new Map<string, NodeJS.Timeout | "busy">()
  private readonly grown = new Set<string>()
  private readonly starts: GroupCommit<Head, boolean>
  private readonly settlements: GroupCommit<Settlement, void>
  private readonly waits: GroupCommit<Head & { why: string; wait: number }, void>
  private readonly heads: GroupCommit<string, void>
  private readonly doubts: Doubts
  private leasing: Repeated | undefined
  private sweeping: Repeated | undefined
  /** Told whenever ended calls have been written. */
  written: (() => void) | undefined
  private readonly underWay = new Map<string, number>()
  /** Calls that were made and whose outcome could not be put on record yet, by message. */
  private readonly unrecorded = new Map<string, { attempt: number; outcome: Outcome }>()
  private stopping = false
  private wake: NodeJS.Timeout | undefined

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      directory: Directory
      uploads: Uploads
      bell: Bell
      alerts: Alerts
      errands: Errands
      log: Logger
      self: string
      heldCalls: HeldCalls
      figures: Figures
    },
  ) {
    this.doubts = new Doubts(parts.database)
    this.starts = new GroupCommit(
      async (heads) => {
        const guarded = heads.some((head) => this.isGuarded(head.channel))
        const begun = await startAttempts(parts.database, parts.self, heads, guarded)
        if (FAULTS_BUILT) await faultPoint("send: attempt begun")
        return heads.map((head) => begun.has(head.message))
      },
      200,
      2,
    )
    this.waits = new GroupCommit(
      async (waits) => {
        await noteWaits(parts.database, waits)
        parts.bell.ring("live")
        return new Array<void>(waits.length)
      },
      200,
      1,
    )
    this.settlements = new GroupCommit((ended) => this.settle(ended), 200, 2)
    this.heads = new GroupCommit(
      async (conversations) => {
        for (const head of await headsOf(parts.database, [...new Set(conversations)])) this.consider(head)
        return new Array<void>(conversations.length)
      },
      200,
      1,
    )
  }

  /** Whether a channel has so many calls under way that the replies of further turns would only wait. */
  isFull(channel: string): boolean {
    return this.callsOf(channel) >= mostCalls / 2
  }

  private callsOf(channel: string): number {
    return this.underWay.get(channel) ?? 0
  }

  /** Ended calls that wait to be written. */
  get unwritten(): number {
    return this.settlements.backlog
  }

  async start(): Promise<void> {
    const complain = (error: unknown) => this.complain(error)
    const leasing = (this.leasing = every(2000, () => this.lease(), complain))
    const { errands } = this.parts
    errands.sendsFor = () => [...this.leases.keys()]
    this.sweeping = errands.whenDue("sends", () => this.sweep(), failed, "sends")
    this.parts.bell.on("channels", () => void leasing.now())
    await leasing.now()
  }

  /**
   * Whether a reply's first call may start with the commit of its turn. Counts it as sent
   * even if the line turns out not to be free: better a moment late than over the provider's limit.
   */
  mayStart(channel: string, place: Place, call: OutgoingCall): boolean {
    if (this.stopping) return false
    // An answer inside a call that is held open here costs the provider no call, and nobody else can give it.
    if (call.inline) return this.parts.heldCalls.holds(call.inline.answers ?? [])
    if (this.callsOf(channel) >= mostCalls || !this.leased(channel, call)) return false
    const pacer = this.pacers.get(channel)
    const now = readClocks()
    if (!pacer || pacer.wait(place, call, now) > 0) return false
    pacer.take(place, call, now, Math.random)
    return true
  }

  /** A turn's commit has started the first attempt of this message. */
  started(begun: Pick<Begun, "message" | "conversation" | "position" | "channel" | "place" | "calls">): void {
    const { message, conversation, position, channel, place, calls } = begun
    this.hold(conversation, "busy")
    const first = { call: 0, attempt: 1, tries: 0, doubted: false }
    void this.call({ message, conversation, position, channel, place, calls, ...first })
  }

  /** Something joined the end of a conversation's line. */
  lineGrew(conversation: string, channel: string): void {
    if (!this.leases.has(channel) || this.stopping) return
    if (this.lines.has(conversation)) this.grown.add(conversation)
    else this.next(conversation)
  }

  async stop(limit: number): Promise<void> {
    this.stopping = true
    clearTimeout(this.wake)
    this.doubts.stop()
    for (const [conversation, timer] of this.lines) {
      if (timer === "busy") continue
      clearTimeout(timer)
      this.lines.delete(conversation)
    }
    await Promise.all([this.leasing?.stop(), this.sweeping?.stop()])
    // From the moment an attempt is being put on record until its outcome is.
    const isBusy = () => [...this.lines.values()].includes("busy")
    for (const end = performance.now() + limit; isBusy() && performance.now() < end;) await pause(20)
    await Promise.race([this.settlements.drained(), pause(2000, undefined, { ref: false })])
    await giveUpLeases(this.parts.database, this.parts.self, "send").catch(() => undefined)
    this.parts.bell.ring("sends")
  }

  /** Takes and renews the right to send for every channel that is on and that nobody else sends for. */
  private async lease(): Promise<void> {
    if (this.stopping) return
    const on = this.parts.channels.on()
    const asked = readClocks()
    const taken = await takeLeases(
      this.parts.database,
      "send",
      on.map(({ row }) => row.key),
      this.parts.self,
      leaseSeconds,
    )
    const mine = new Set(taken.map((one) => one.channel))
    for (const channel of this.leases.keys()) if (!mine.has(channel)) this.leases.delete(channel)
    const newly: string[] = []
    for (const { channel, taken: isNew } of taken) {
      const known = this.parts.channels.get(channel)
      if (!known) continue
      const fresh = isNew || !this.pacers.has(channel)
      if (fresh) newly.push(channel)
      if (fresh) await this.begin(known)
      else if (this.pacers.get(channel)!.adjust(paceSettings(known.row.settings))) await this.waitNoLonger(channel)
      this.leases.set(channel, asked)
    }
    await this.recoverStrays()
    // What was said before the right to send it came waits for nothing else.
    if (newly.length > 0) await this.sweeping?.now()
    for (const channel of newly) this.parts.log.debug(`this process sends for ${channel} from now on`)
  }

  /** Other settings may let go what waited for the pace. */
  private async waitNoLonger(channel: string): Promise<void> {
    const free = await endWaits(this.parts.database, channel, waitsFor)
    for (const conversation of free) {
      const state = this.lines.get(conversation)
      if (state === "busy") continue
      clearTimeout(state)
      this.lines.delete(conversation)
      this.next(conversation)
    }
  }

  /**
   * Attempts on record as begun by this process that are in nobody's hands. Either it never made them, because the
   * commit's own answer was lost with the connection: no byte left, so they are simply due again. Or it made them and
   * the database would not take their outcome, which is told again.
   */
  private async recoverStrays(): Promise<void> {
    const { database, self } = this.parts
    const strays = await startedBy(database, self, [...this.leases.keys()])
    for (const head of strays) {
      if (this.lines.has(head.conversation)) continue
      this.hold(head.conversation, "busy")
      const made = this.unrecorded.get(head.message)
      const neverMade = "the call was never made: the database went away first"
      const outcome: Outcome =
        made?.attempt === head.attempt ? made.outcome : { outcome: "again", why: neverMade, after: 0 }
      void this.conclude(head, outcome, undefined)
    }
  }

  /** A channel that is newly ours: counts the day's sends, and settles what another process left under way. */
  private async begin(known: KnownChannel): Promise<void> {
    const { database, self } = this.parts
    const settings = paceSettings(known.row.settings)
    const pacer = new Pacer(kindOf(known.row.kind).pace, settings)
    if (settings.perDay !== undefined)
      pacer.startDayAt(await sentToday(database, known.row.key, wallClock("calendar")), readClocks())
    this.pacers.set(known.row.key, pacer)
    await endWaits(database, known.row.key, waitsFor)
    const left = (await abandonedSends(database, known.row.key, self)).filter(
      (head) => this.lines.get(head.conversation) !== "busy",
    )
    for (const head of left) {
      const why = "the service stopped while the call was under way"
      // The provider may be about to take it yet: the line waits as long as an answer would have been waited for, or
      // the next message could overtake this one.
      const limit = head.calls[head.call]?.timeout ?? callTimeout
      const timer = setTimeout(
        () => {
          this.hold(head.conversation, "busy")
          void this.conclude(head, { outcome: "unclear", why }, undefined)
        },
        Math.max(0, limit - head.age),
      )
      this.hold(head.conversation, timer)
    }
  }

  private leased(channel: string, call: OutgoingCall): boolean {
    const since = this.leases.get(channel)
    // The claim must outlive the call's time limit, or another process might make the same call meanwhile.
    const limit = Math.min(call.timeout ?? callTimeout, (leaseSeconds - 5) * 1000)
    return since !== undefined && leftOf(since) > limit && this.parts.channels.get(channel)?.row.state === "on"
  }

  /** The safety net: what is due and in nobody's hands. */
  private async sweep(): Promise<void> {
    if (this.stopping) return
    const mine = [...this.leases.keys()].filter((key) => this.parts.channels.get(key)?.row.state === "on")
    if (mine.length === 0) return
    const heads = await dueHeads(this.parts.database, mine, 200 + this.lines.size)
    for (const head of heads) if (!this.lines.has(head.conversation)) this.consider(head)
    const due = await nextDue(this.parts.database, mine)
    clearTimeout(this.wake)
    if (due !== undefined && due < 1000 && !this.stopping)
      this.wake = setTimeout(() => void this.sweeping?.now(), Math.max(due, 5))
  }

  private next(conversation: string): void {
    if (this.stopping) return
    this.heads.add(conversation).catch((error: unknown) => this.complain(error))
  }

  /** Sends a head of line now, or when the pace allows. */
  private consider(head: Head): void {
    const state = this.lines.get(head.conversation)
    if (this.stopping || state !== undefined) {
      if (state === "busy") this.grown.add(head.conversation)
      return
    }
    const call = head.calls[head.call]
    const pacer = this.pacers.get(head.channel)
    if (!call || !pacer || !this.leased(head.channel, call)) return
    const now = readClocks()
    const wait = this.callsOf(head.channel) >= mostCalls ? 50 : pacer.wait(head.place, call, now)
    if (wait > 0) {
      if (wait > worthTelling) this.tellWait(head, pacer.reason(now), wait)
      if (wait > longestTimer || this.lines.size > mostLines) return
      const timer = setTimeout(() => {
        this.lines.delete(head.conversation)
        this.consider(head)
      }, wait)
      this.lines.set(head.conversation, timer)
      return
    }
    pacer.take(head.place, call, now, Math.random)
    this.hold(head.conversation, "busy")
    void this.begun(head)
  }

  /** Puts on record what a head of line waits for, and until when; it is looked at again then. */
  private tellWait(head: Head, why: string, wait: number): void {
    this.waits.add({ ...head, why, wait }).catch((error: unknown) => this.complain(error))
  }

  private async begun(head: Head): Promise<void> {
    try {
      const started = await this.starts.add(head)
      if (started) await this.call({ ...head, attempt: head.attempt + 1 })
      else {
        if (this.isGuarded(head.channel)) await parkOptedOut(this.parts.database, head.conversation)
        this.release(head.conversation)
      }
    } catch (error) {
      this.complain(error)
      this.release(head.conversation)
    }
  }

  /** Whether people there may have asked to be sent nothing more. */
  private isGuarded(channel: string): boolean {
    const known = this.parts.channels.get(channel)
    return known !== undefined && kindOf(known.row.kind).abilities.obeysStopWords === true
  }

  private async call(begun: Begun): Promise<void> {
    const { channels, heldCalls } = this.parts
    const known = channels.get(begun.channel)
    const call = begun.calls[begun.call]!
    const inline = call.inline && known && (await answerInline(heldCalls, call.inline, known, begun))
    // What is only tried out is captured, also where it comes too late for the call that waited for it.
    if (call.captured) return this.conclude(begun, { outcome: "accepted" }, undefined, "captured")
    if (inline) return this.conclude(begun, inline, undefined, "answer in the call")
    const began = performance.now()
    const answer = await this.counted(begun.channel, async () =>
      known && this.leased(begun.channel, call)
        ? makeCall(this.parts.uploads, call, known, begun)
        : { failure: "the call was not made: the right to send was lost", sent: false },
    )
    const outcome: Outcome = known
      ? judged(call, answer, known.channel)
      : { outcome: "again", why: "the channel is gone" }
    if (known) this.count(known, outcome, performance.now() - began)
    await this.conclude(begun, outcome, answer)
  }

  private count(known: KnownChannel, outcome: Outcome, milliseconds: number): void {
    const { figures } = this.parts
    figures.attempted(known.row, outcome.outcome)
    if (outcome.outcome !== "accepted") return
    figures.reached("sent", milliseconds)
    if (outcome.providerId !== undefined) figures.awaits(known.row.key, outcome.providerId)
  }

  /** Counts a call as under way while it is. */
  private async counted<T>(channel: string, make: () => Promise<T>): Promise<T> {
    this.underWay.set(channel, this.callsOf(channel) + 1)
    try {
      return await make()
    } finally {
      const left = this.callsOf(channel) - 1
      if (left > 0) this.underWay.set(channel, left)
      else this.underWay.delete(channel)
    }
  }

  /** Puts on record what a call came to, and does what follows from it. */
  private async conclude(
    begun: Begun,
    outcome: Outcome,
    answer: ProviderAnswer | undefined,
    name = begun.calls[begun.call]?.name ?? "",
  ): Promise<void> {
    const known = this.parts.channels.get(begun.channel)
    try {
      if (FAULTS_BUILT && answer) await faultPoint("send: call answered")
      const proven = outcome.outcome === "unclear" && known ? await this.doubts.settled(begun, known) : undefined
      const { settlement, ...rest } = consequenceOf(proven ?? outcome, begun, known)
      if (rest.hold !== undefined) this.pacers.get(begun.channel)?.hold(begun.place, rest.hold, readClocks())
      if (rest.moveTo !== undefined) await this.parts.directory.move(begun.channel, begun.place.address, rest.moveTo)
      if (rest.lockOut) await this.parts.alerts.lockOut(begun.channel, rest.lockOut)
      const blank = blankSettlement(begun, name, outcome, proven, answer, known)
      await patiently(() => this.settlements.add(Object.assign(blank, settlement)))
      this.unrecorded.delete(begun.message)
    } catch (error) {
      // Not on record: the attempt stays begun. This process tells its outcome again; to any other it is a doubt.
      this.unrecorded.set(begun.message, { attempt: begun.attempt, outcome })
      this.complain(error)
    } finally {
      this.release(begun.conversation)
    }
  }

  private async settle(ended: Settlement[]): Promise<void[]> {
    const onward = await settleAttempts(this.parts.database, this.parts.self, ended)
    if (FAULTS_BUILT) await faultPoint("send: answer recorded")
    onward.forEach((conversation) => this.grown.add(conversation))
    const parked = ended.filter((one) => one.parked?.cause === "doubt")
    if (parked.length > 0) void this.provenMeanwhile(parked).catch((error: unknown) => this.complain(error))
    this.written?.()
    this.parts.bell.ring("live")
    return ended.map(() => undefined)
  }

  /** A proof that came between the last look for it and the parking. */
  private async provenMeanwhile(parked: Settlement[]): Promise<void> {
    const marks = new Map(parked.map((one) => [traceOfMark(one.channel, markOf(one)), one]))
    for (const [trace, proof] of await proofsOf(this.parts.database, [...marks.keys()])) {
      const { channel, message, call } = marks.get(trace)!
      const mark = markOf({ message, call })
      const settled = await settleParkedDoubts(this.parts.database, channel, [{ mark, ...proof }])
      for (const conversation of settled) this.lineGrew(conversation, channel)
    }
  }

  private hold(conversation: string, state: NodeJS.Timeout | "busy"): void {
    const before = this.lines.get(conversation)
    if (before !== undefined && before !== "busy") clearTimeout(before)
    this.lines.set(conversation, state)
  }

  private release(conversation: string): void {
    this.lines.delete(conversation)
    if (this.grown.delete(conversation)) this.next(conversation)
  }

  private complain(error: unknown): void {
    if (databaseFault(error) === "away") this.parts.log.warn({ away: true }, "the database is away; sending waits")
    else this.parts.log.error({ err: error }, failed)
  }
}

/** What a call leaves on record whatever follows from it. */
function blankSettlement(
  begun: Begun,
  name: string,
  outcome: Outcome,
  proven: Outcome | undefined,
  answer: ProviderAnswer | undefined,
  known: KnownChannel | undefined,
): Settlement {
  const { conversation, position, message, channel, attempt, call } = begun
  const given = answer && "status" in answer && known ? answer : undefined
  return {
    conversation,
    position,
    message,
    channel,
    attempt,
    call,
    name,
    outcome: (proven ?? outcome).outcome,
    why: whyOf(outcome, proven),
    status: given?.status,
    answer: given && keepable(given.body, known!.channel),
    providerId: undefined,
    again: undefined,
    nextCall: undefined,
    tries: undefined,
    doubted: false,
    held: false,
    parked: undefined,
  }
}

function whyOf(outcome: Outcome, proven: Outcome | undefined): string | undefined {
  const why = "why" in outcome ? outcome.why : undefined
  if (!proven) return why
  if (proven.outcome === "accepted") return `${why ?? "in doubt"}; the provider told that it has the message`
  return "why" in proven ? proven.why : why
}

/** Tries again for two minutes while the database is away: what a provider answered must not be forgotten. */
async function patiently(run: () => Promise<void>): Promise<void> {
  const end = performance.now() + 120_000
  for (;;) {
    try {
      return await run()
    } catch (error) {
      if (databaseFault(error) !== "away" || performance.now() > end) throw error
      await pause(500)
    }
  }
}

/**
 * Milliseconds that are left of a lease. By whichever clock says less: one that is set ahead only makes us ask again, and the
 * steady one stands still while the machine sleeps.
 */
function leftOf(since: Clocks): number {
  const now = readClocks()
  return leaseSeconds * 1000 - Math.max(now.steady - since.steady, now.wall - since.wall)
}
