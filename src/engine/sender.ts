import type { Logger } from "pino"
import type { Doubts, InlineAnswer, Outcome, OutgoingCall, ProviderAnswer } from "../core/channels/kind.ts"
import { kindOf } from "../core/channels/registry.ts"
import { retryAfter, sendTries } from "../core/delivery/retry.ts"
import type { Place } from "../core/message/message.ts"
import { stopChannel } from "../store/channels.ts"
import type { Database } from "../store/database.ts"
import { refusal } from "../store/database.ts"
import { giveUpLeases, takeLeases } from "../store/leases.ts"
import { sentToday } from "../store/messages.ts"
import { faultPoint } from "../store/faults.ts"
import type { Head, Settlement } from "../store/outbox.ts"
import {
  abandonedSends,
  dueHeads,
  headsOf,
  nextDue,
  parkOptedOut,
  settleAttempts,
  startAttempts,
  startedBy,
} from "../store/outbox.ts"
import { proofOf, settleParkedDoubts, traceOf } from "../store/statuses.ts"
import type { Alerts } from "./alerts.ts"
import type { Bell } from "./bell.ts"
import type { Channels, KnownChannel } from "./channels.ts"
import type { Directory } from "./directory.ts"
import { Gatherer } from "./gatherer.ts"
import type { InlineAnswers } from "./inlineAnswers.ts"
import { Pacer } from "./pacer.ts"
import { callTimeout, inlineBody, keepable, perform } from "./perform.ts"
import type { Uploads } from "./uploads.ts"

/** Seconds a process may send for a channel before it must renew. */
const leaseSeconds = 30
/** Calls under way at once on one channel: a provider that answers nothing keeps no other channel from sending. */
const mostCalls = 256

/** A call that is due, its attempt already on record. */
interface Begun {
  message: string
  conversation: string
  position: number
  channel: string
  place: Place
  calls: OutgoingCall[]
  call: number
  attempt: number
  tries: number
  doubted: boolean
}

/**
 * Sends what stands in the outbox: one process a channel, one call a conversation at a time, within the provider's
 * pace. An attempt is on record before its first byte leaves, so that a crash leaves a doubt and never a silence.
 */
export class Sender {
  private readonly leases = new Map<string, number>()
  private readonly pacers = new Map<string, Pacer>()
  /** Conversations this process has in hand: a call under way, or a wait for the pace or for a doubt to settle. */
  private readonly lines = new Map<string, NodeJS.Timeout | "busy">()
  private readonly grown = new Set<string>()
  private readonly starts: Gatherer<Head, boolean>
  private readonly settlements: Gatherer<Settlement, void>
  private readonly heads: Gatherer<string, void>
  private readonly timers: NodeJS.Timeout[] = []
  /** Told whenever ended calls have been written. */
  written: (() => void) | undefined
  private readonly underWay = new Map<string, number>()
  /** Calls that were made and whose outcome could not be put on record yet, by message. */
  private readonly unrecorded = new Map<string, { attempt: number; outcome: Outcome }>()
  private stopping = false
  private sweeping = false
  private wake: NodeJS.Timeout | undefined

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      directory: Directory
      uploads: Uploads
      bell: Bell
      alerts: Alerts
      log: Logger
      self: string
      inline: InlineAnswers
    },
  ) {
    this.starts = new Gatherer(
      async (heads) => {
        const guarded = heads.some((head) => this.isGuarded(head.channel))
        const begun = await startAttempts(parts.database, parts.self, heads, guarded)
        if (FAULTS_BUILT) await faultPoint("send: attempt begun")
        return heads.map((head) => begun.has(head.message))
      },
      200,
      2,
    )
    this.settlements = new Gatherer((ended) => this.settle(ended), 200, 2)
    this.heads = new Gatherer(
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
    const every = (ms: number, run: () => Promise<void>) => {
      const timer = setInterval(() => void run().catch((error: unknown) => this.complain(error)), ms)
      timer.unref()
      this.timers.push(timer)
    }
    await this.lease().catch((error: unknown) => this.complain(error))
    every(2000, () => this.lease())
    every(1000, () => this.sweep())
    this.parts.bell.on("sends", () => void this.sweep().catch((error: unknown) => this.complain(error)))
    this.parts.bell.on("channels", () => void this.lease().catch((error: unknown) => this.complain(error)))
  }

  /**
   * Whether a reply's first call may start with the commit of its turn. Counts it as sent
   * even if the line turns out not to be free: better a moment late than over the provider's limit.
   */
  mayStart(channel: string, place: Place, call: OutgoingCall): boolean {
    if (this.stopping) return false
    // An answer inside a call that is held open here costs the provider no call, and nobody else can give it.
    if (call.inline) return this.parts.inline.holds(call.inline.answers ?? [])
    if (this.callsOf(channel) >= mostCalls || !this.leased(channel, call)) return false
    const pacer = this.pacers.get(channel)
    const now = Date.now()
    if (!pacer || pacer.wait(place, call, now) > 0) return false
    pacer.take(place, call, now, Math.random)
    return true
  }

  /** A turn's commit has started the first attempt of this message. */
  started(begun: Pick<Begun, "message" | "conversation" | "position" | "channel" | "place" | "calls">): void {
    const { message, conversation, position, channel, place, calls } = begun
    this.hold(conversation, "busy")
    const first = {
      message,
      conversation,
      position,
      channel,
      place,
      calls,
      call: 0,
      attempt: 1,
      tries: 0,
      doubted: false,
    }
    void this.call(first)
  }

  /** Something joined the end of a conversation's line. */
  lineGrew(conversation: string, channel: string): void {
    if (!this.leases.has(channel) || this.stopping) return
    if (this.lines.has(conversation)) this.grown.add(conversation)
    else this.next(conversation)
  }

  async stop(limit: number): Promise<void> {
    this.stopping = true
    this.timers.forEach(clearInterval)
    clearTimeout(this.wake)
    for (const [conversation, timer] of this.lines) {
      if (timer === "busy") continue
      clearTimeout(timer)
      this.lines.delete(conversation)
    }
    const end = Date.now() + limit
    while (this.underWay.size > 0 && Date.now() < end) await new Promise((resolve) => setTimeout(resolve, 20))
    await Promise.race([this.settlements.drained(), new Promise((resolve) => setTimeout(resolve, 2000).unref())])
    await giveUpLeases(this.parts.database, this.parts.self).catch(() => undefined)
    this.parts.bell.ring("sends")
  }

  /** Takes and renews the right to send for every channel that is on and that nobody else sends for. */
  private async lease(): Promise<void> {
    if (this.stopping) return
    const on = this.parts.channels.on()
    const asked = Date.now()
    const taken = await takeLeases(
      this.parts.database,
      "send",
      on.map(({ row }) => row.key),
      this.parts.self,
      leaseSeconds,
    )
    const mine = new Set(taken.map((one) => one.channel))
    for (const channel of this.leases.keys()) if (!mine.has(channel)) this.leases.delete(channel)
    let newly = false
    for (const { channel, taken: isNew } of taken) {
      const known = this.parts.channels.get(channel)
      if (!known) continue
      const fresh = isNew || !this.pacers.has(channel)
      newly ||= fresh
      if (fresh) await this.begin(known)
      else this.pacers.get(channel)!.adjust(paceSettings(known))
      this.leases.set(channel, asked + leaseSeconds * 1000)
    }
    await this.recoverStrays()
    // What was said before the right to send it came waits for nothing else.
    if (newly) await this.sweep()
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
      void this.conclude(
        head,
        made?.attempt === head.attempt
          ? made.outcome
          : { outcome: "again", why: "the call was never made: the database went away first", after: 0 },
        undefined,
      )
    }
  }

  /** A channel that is newly ours: counts the day's sends, and settles what another process left under way. */
  private async begin(known: KnownChannel): Promise<void> {
    const { database, self } = this.parts
    const settings = paceSettings(known)
    const pacer = new Pacer(kindOf(known.row.kind).pace, settings)
    if (settings.perDay !== undefined) pacer.startDayAt(await sentToday(database, known.row.key), Date.now())
    this.pacers.set(known.row.key, pacer)
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
    const until = this.leases.get(channel)
    // The claim must outlive the call's time limit, or another process might make the same call meanwhile.
    const limit = Math.min(call.timeout ?? callTimeout, (leaseSeconds - 5) * 1000)
    return until !== undefined && until - Date.now() > limit && this.parts.channels.get(channel)?.row.state === "on"
  }

  /** The safety net: what is due and in nobody's hands. */
  private async sweep(): Promise<void> {
    if (this.sweeping || this.stopping) return
    this.sweeping = true
    try {
      const mine = [...this.leases.keys()].filter((key) => this.parts.channels.get(key)?.row.state === "on")
      if (mine.length === 0) return
      const heads = await dueHeads(this.parts.database, mine, 200 + this.lines.size)
      for (const head of heads) if (!this.lines.has(head.conversation)) this.consider(head)
      const due = await nextDue(this.parts.database, mine)
      clearTimeout(this.wake)
      if (due !== undefined && due < 1000)
        this.wake = setTimeout(
          () => void this.sweep().catch((error: unknown) => this.complain(error)),
          Math.max(due, 5),
        )
    } finally {
      this.sweeping = false
    }
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
    const now = Date.now()
    const wait = this.callsOf(head.channel) >= mostCalls ? 50 : pacer.wait(head.place, call, now)
    if (wait > 0) {
      // A long wait is left to the sweep, so that a crowd of waiting lines costs no memory.
      if (wait > 90_000 || this.lines.size > 5000) return
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
    const known = this.parts.channels.get(begun.channel)
    const call = begun.calls[begun.call]!
    const inside = call.inline && known && (await this.inside(call.inline, known, begun))
    if (inside) return this.conclude(begun, inside, undefined, "answer in the call")
    this.underWay.set(begun.channel, this.callsOf(begun.channel) + 1)
    let answer: ProviderAnswer
    try {
      answer =
        known && this.leased(begun.channel, call)
          ? await this.make(call, known, begun)
          : { failure: "the call was not made: the right to send was lost", sent: false }
    } finally {
      const left = this.callsOf(begun.channel) - 1
      if (left > 0) this.underWay.set(begun.channel, left)
      else this.underWay.delete(begun.channel)
    }
    const outcome: Outcome = known
      ? kindOf(known.row.kind).judge(call, answer, known.channel)
      : { outcome: "again", why: "the channel is gone" }
    await this.conclude(begun, outcome, answer)
  }

  /** Gives the reply back inside the call that brought the message; nothing where it must go by a call of our own. */
  private async inside(inline: InlineAnswer, known: KnownChannel, begun: Begun): Promise<Outcome | undefined> {
    const { channel } = known
    const answered = await this.parts.inline.answer(inline.answers ?? [], (call) => {
      const inside = (where: string) => kindOf(channel.kind).inside?.(channel)?.field(call, where)
      const given = { placeAddress: begun.place.address, mark: markOf(begun), inside }
      return { type: inline.type, body: inlineBody(inline, channel, given) }
    })
    if (answered === "written") return { outcome: "accepted" }
    if (answered === "broken") return { outcome: "unclear", why: "the gateway hung up while it was answered" }
    if (inline.late === "api") return undefined
    return {
      outcome: "refused",
      cause: "too late",
      why: `it was ready too late: the gateway waits ${inline.within} s for an answer inside its call, and takes none by other ways`,
      remedy:
        "Make the handler quicker, or give the profile an outbound and inline.late: api. Drop it, or answer when the person writes again.",
    }
  }

  private async make(call: OutgoingCall, known: KnownChannel, begun: Begun): Promise<ProviderAnswer> {
    const uploaded: string[] = []
    for (const upload of call.uploads ?? []) {
      const brought = await this.parts.uploads.ref(known, upload)
      if ("answer" in brought) return brought.answer
      uploaded.push(brought.ref)
    }
    return perform(call, known.channel, begun.place.address, { mark: markOf(begun), uploaded })
  }

  /** Decides what an outcome means for the message and its line. */
  private async conclude(
    begun: Begun,
    outcome: Outcome,
    answer: ProviderAnswer | undefined,
    name = begun.calls[begun.call]?.name ?? "",
  ): Promise<void> {
    const known = this.parts.channels.get(begun.channel)
    const given = answer && "status" in answer && known ? answer : undefined
    const base: Settlement = {
      conversation: begun.conversation,
      position: begun.position,
      message: begun.message,
      channel: begun.channel,
      attempt: begun.attempt,
      call: begun.call,
      name,
      outcome: outcome.outcome,
      why: "why" in outcome ? outcome.why : undefined,
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
    try {
      if (FAULTS_BUILT && answer) await faultPoint("send: call answered")
      const proven = outcome.outcome === "unclear" ? await this.settled(begun, known) : undefined
      if (proven) {
        base.outcome = proven.outcome
        base.why =
          proven.outcome === "accepted"
            ? `${base.why ?? "in doubt"}; the provider told that it has the message`
            : "why" in proven
              ? proven.why
              : base.why
      }
      const settlement = await this.follow(base, begun, proven ?? outcome, known)
      await patiently(() => this.settlements.add(settlement))
      this.unrecorded.delete(begun.message)
    } catch (error) {
      // Not on record: the attempt stays begun. This process tells its outcome again; to any other it is a doubt.
      this.unrecorded.set(begun.message, { attempt: begun.attempt, outcome })
      this.complain(error)
    } finally {
      this.release(begun.conversation)
    }
  }

  /** A doubt holds its line for a while: an echo or a status of the provider may settle it. */
  private async settled(begun: Begun, known: KnownChannel | undefined): Promise<Outcome | undefined> {
    const kind = known && kindOf(known.row.kind)
    const seconds = kind?.abilities.settlesDoubt
    if (!known || seconds === undefined) return undefined
    if (kind?.doubts && begun.calls[begun.call]?.name !== "response_url")
      return this.lookedUp(kind.doubts, begun, known, seconds)
    for (const end = Date.now() + seconds * 1000; ;) {
      const proof = await proofOf(this.parts.database, begun.channel, markOf(begun)).catch(() => undefined)
      if (proof) return { outcome: "accepted", ...proof }
      if (Date.now() >= end || this.stopping) return undefined
      await new Promise((resolve) => setTimeout(resolve, 250))
    }
  }

  /** Asks the provider whether it has the message. What surely never arrived is simply sent again. */
  private async lookedUp(
    doubts: Doubts,
    begun: Begun,
    known: KnownChannel,
    seconds: number,
  ): Promise<Outcome | undefined> {
    const since = new Date(Date.now() - 60_000)
    for (const end = Date.now() + seconds * 1000; ;) {
      await new Promise((resolve) => setTimeout(resolve, 1500))
      const answer = await perform(doubts.ask(begun.place, since), known.channel, begun.place.address)
      const { arrived, ...found } = doubts.read(answer, markOf(begun)) as { arrived: string; providerId?: string }
      if (arrived === "yes") return { outcome: "accepted", ...found }
      if (this.stopping) return undefined
      // Only in the end: what was under way when the connection broke may still be on its way in.
      if (Date.now() < end) continue
      return arrived === "no"
        ? { outcome: "again", why: "the answer was lost, and the provider does not have the message", after: 0 }
        : undefined
    }
  }

  private async follow(
    base: Settlement,
    begun: Begun,
    outcome: Outcome,
    known: KnownChannel | undefined,
  ): Promise<Settlement> {
    const tries = begun.tries + 1
    switch (outcome.outcome) {
      case "accepted": {
        base.providerId = outcome.providerId
        const kind = known && kindOf(known.row.kind)
        const tells =
          kind?.abilities.tellsDelivery || kind?.abilities.amendsWhole || (known && kind?.tells?.(known.channel))
        if (outcome.providerId && tells) base.trace = traceOf(begun.channel, outcome.providerId)
        const more = begun.call + 1 < begun.calls.length
        return more ? { ...base, again: 0, nextCall: begun.call + 1, tries: 0 } : base
      }
      case "again": {
        const pacer = this.pacers.get(begun.channel)
        if (outcome.after !== undefined) {
          pacer?.hold(begun.place, outcome.after, Date.now())
          if (tries < sendTries * 3) return { ...base, again: outcome.after * 1000, tries }
        }
        const again = retryAfter(tries, sendTries, Math.random)
        if (again !== undefined) return { ...base, again, tries }
        return {
          ...base,
          parked: {
            cause: "gave up",
            reason: `tried ${tries} times, last: ${outcome.why}`,
            remedy: "Retry it when the provider works again, or drop it.",
          },
        }
      }
      case "moved":
        if (tries > 5)
          return { ...base, parked: { cause: "refused", reason: `the place moved again and again: ${outcome.why}` } }
        await this.parts.directory.move(begun.channel, begun.place.address, outcome.to)
        return { ...base, again: 0, tries }
      case "refused":
        return {
          ...base,
          parked: {
            cause: outcome.cause ?? "refused",
            reason: outcome.why,
            ...(outcome.remedy ? { remedy: outcome.remedy } : {}),
          },
        }
      case "unclear":
        if (known?.row.settings.onDoubt === "resend" && tries < sendTries) {
          return { ...base, again: retryAfter(tries, sendTries, Math.random) ?? 0, tries, doubted: true }
        }
        return {
          ...base,
          parked: {
            cause: "doubt",
            reason: `it may or may not have arrived: ${outcome.why}`,
            remedy:
              "Look whether the person has it: drop it if so, retry it if not. The setting onDoubt=resend decides this by itself.",
          },
        }
      case "lockedOut":
        await this.lockOut(begun.channel, outcome.why, outcome.remedy)
        return { ...base, held: true }
    }
  }

  private async lockOut(channel: string, why: string, remedy: string): Promise<void> {
    const { database, channels, alerts, bell } = this.parts
    const first = await stopChannel(database, channel, { state: "locked out", reason: why, remedy })
    await channels.refresh()
    bell.ring("channels")
    bell.ring("live")
    const known = channels.get(channel)
    if (first && known)
      await alerts.raise(
        known,
        `The channel ${channel} is locked out: ${why}. ${remedy} Nothing is sent meanwhile; what waits is kept.`,
      )
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
    for (const one of parked) {
      const mark = markOf(one)
      const proof = await proofOf(this.parts.database, one.channel, mark)
      if (!proof) continue
      const settled = await settleParkedDoubts(this.parts.database, one.channel, [{ mark, ...proof }])
      for (const conversation of settled) this.lineGrew(conversation, one.channel)
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
    if (refusal(error) === "away") this.parts.log.warn("the database is away; sending waits")
    else this.parts.log.error({ err: error }, "sending met a fault of its own; it goes on")
  }
}

/** Our own name for a call: the message's, and which of its calls. */
function markOf({ message, call }: Pick<Begun, "message" | "call">): string {
  return `${message}.${call}`
}

/** Tries again for two minutes while the database is away: what a provider answered must not be forgotten. */
async function patiently(run: () => Promise<void>): Promise<void> {
  const end = Date.now() + 120_000
  for (;;) {
    try {
      return await run()
    } catch (error) {
      if (refusal(error) !== "away" || Date.now() > end) throw error
      await new Promise((resolve) => setTimeout(resolve, 500))
    }
  }
}

function paceSettings(known: KnownChannel): { perSecond?: number; perDay?: number; pauseBetween?: [number, number] } {
  const { perSecond, perDay, pauseBetween } = known.row.settings as {
    perSecond?: number
    perDay?: number
    pauseBetween?: [number, number]
  }
  return {
    ...(perSecond ? { perSecond } : {}),
    ...(perDay ? { perDay } : {}),
    ...(pauseBetween ? { pauseBetween } : {}),
  }
}
