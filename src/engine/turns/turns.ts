import { setTimeout as pause } from "node:timers/promises"
import type { Logger } from "pino"
import type { OutgoingCall } from "../../core/channels/call.ts"
import { storable } from "../../core/message/graphemes.ts"
import type { Place } from "../../core/message/message.ts"
import type { Bell } from "../../store/bell.ts"
import {
  claimDue,
  claimSeconds,
  claimsOf,
  endsProcesses,
  releaseClaims,
  renewClaims,
  restLines,
  triedAlone,
  tryAlone,
} from "../../store/claims.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import type { Claimed, Line, PendingMessage } from "../../store/lines.ts"
import { loadLines, nowOf } from "../../store/lines.ts"
import type { CommitResult, TurnResult } from "../../store/turns.ts"
import { commitTurns } from "../../store/turns.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Caller } from "../elsewhere/caller.ts"
import { GroupCommit, keepHalving } from "../groupCommit.ts"
import type { ReadyRelease } from "../handlers/handler.ts"
import type { Releases } from "../handlers/releases.ts"
import type { Blocked } from "../people/blocked.ts"
import type { NamedSecrets } from "../handlers/namedSecrets.ts"
import type { DeskTurns } from "../people/deskTurn.ts"
import type { Joining } from "../people/joining.ts"
import type { People } from "../people/people.ts"
import type { Errands } from "../process/errands.ts"
import type { Repeated } from "../process/every.ts"
import { every } from "../process/every.ts"
import type { Figures } from "../process/figures.ts"
import type { Renderer } from "../replies/renderer.ts"
import type { Courtesies } from "../sender/courtesies.ts"
import type { Alerts } from "../sender/alerts.ts"
import type { HeldCalls } from "../sender/heldCalls.ts"
import type { Sender } from "../sender/sender.ts"
import { gatherOf, nextGroup, waitFor } from "./grouping.ts"
import { Failures } from "./failures.ts"
import { HandlerAlerts } from "./handlerAlerts.ts"
import { NotYet } from "./relays.ts"
import { endedProcesses, faulted, takeTurn } from "./turn.ts"
import { wallClock } from "../process/wallClock.ts"

/** Conversations one process works on at a time; the rest waits where any process can take it. */
const mostHeld = 2000
/**
 * Finished turns and ended calls that wait to be written before another turn begins: what is begun is brought to its end
 * first. Otherwise a crowd of 400 callers fills every later step, nine of ten replies no longer start with the commit
 * of their turn, and each costs two statements more.
 */
const mostUnwritten = 100
/** Loaded lines of one channel that wait for that; more begin all the same, so that their messages leave memory. */
const mostEntering = 5000
/** Milliseconds until what cannot be decided yet is looked at again. */
const notYet = 300
/** What the log says of a step that threw. */
const failed = "a turn could not be taken; it is tried again"

interface Held extends Claimed {
  timer?: NodeJS.Timeout
}

/** Takes turns: claims conversations, decides, runs handlers, commits whatever has finished, many at a time. */
export class Turns {
  private readonly held = new Map<string, Held>()
  private readonly loads: GroupCommit<Claimed, void>
  private readonly failures: Failures
  private readonly handlerAlerts: HandlerAlerts
  private readonly commits: GroupCommit<TurnResult, void>
  /** Lines that are loaded and wait until those before them are written. */
  private readonly entering = new Map<string, Line[]>()
  /** Lines whose holders ended, more than once: each is tried with nothing else under way. */
  private readonly suspects: Line[] = []
  /** Turns under way. */
  private underWay = 0
  private repeated: Repeated[] = []
  private stopping = false

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      releases: Releases
      sender: Sender | undefined
      renderer: Renderer
      people: People
      courtesies: Courtesies
      heldCalls: HeldCalls
      figures: Figures
      bell: Bell
      log: Logger
      self: string
      errands: Errands
      blocked: Blocked
      joining: Joining
      desk: DeskTurns
      alerts: Alerts
      secrets: NamedSecrets
      caller: Caller
      follows: boolean
    },
  ) {
    this.failures = new Failures(parts.log)
    this.handlerAlerts = new HandlerAlerts(parts)
    this.loads = new GroupCommit((claims) => this.load(claims), 200, 2)
    this.commits = new GroupCommit((results) => this.commit(results), 200, 2)
    if (parts.sender) parts.sender.written = () => this.letIn()
  }

  start(): void {
    const complain = (error: unknown) => this.complain(error)
    const { errands } = this.parts
    this.repeated = [
      errands.whenDue("turns", () => this.sweep(), failed, "work"),
      errands.whenDue("claims", () => this.recoverStrays(), failed),
      every((claimSeconds * 1000) / 3, () => this.renew(), complain),
      every(1000, async () => this.letIn(true), complain),
    ]
  }

  /** Conversations that are this process's: newly, or still, with something new in their line. */
  take(claims: Claimed[]): void {
    for (const claim of claims) {
      const held = this.held.get(claim.conversation)
      // Its turn is being taken: the commit will see that more has come. Only one turn at a time.
      if (held?.fence === claim.fence && held.timer === undefined) continue
      clearTimeout(held?.timer)
      const { line, ...bare } = claim
      this.held.set(claim.conversation, bare)
      if (line && !this.stopping) this.enter(line)
      else this.reload(bare)
    }
    this.letIn()
  }

  /** Whether so much waits for the database that it is better not to accept more just now. */
  get behind(): boolean {
    let waiting = 0
    for (const [channel, lines] of this.entering) if (!this.parts.sender?.isFull(channel)) waiting += lines.length
    return waiting > mostEntering / 2
  }

  private enter(line: Line): void {
    if (line.deaths >= triedAlone) {
      this.suspects.push(line)
      return
    }
    const before = this.entering.get(line.channel)
    if (before) before.push(line)
    else this.entering.set(line.channel, [line])
  }

  /**
   * Begins the turns there is room for, by channel: one whose provider is slow holds up no other.
   *
   * @param full also where the sender has enough to do, so that a provider that answers nothing delays turns by little.
   */
  private letIn(full = false): void {
    const { sender } = this.parts
    if (this.suspects.length > 0) {
      if (this.underWay === 0) void this.tryAlone(this.suspects.shift()!)
      return
    }
    for (const [channel, lines] of this.entering) {
      const room = () =>
        this.commits.backlog + (sender?.unwritten ?? 0) < mostUnwritten && (full || sender?.isFull(channel) !== true)
      let begun = 0
      while (begun < lines.length && (lines.length - begun > mostEntering || (begun < mostUnwritten && room())))
        void this.begin(lines[begun++]!)
      if (begun === lines.length) this.entering.delete(channel)
      else if (begun > 0) lines.splice(0, begun)
    }
  }

  /** Ends: running turns finish, what has not begun is given back at once. */
  async stop(limit: number): Promise<void> {
    this.stopping = true
    this.handlerAlerts.stop()
    const waiting = [...this.entering.values(), this.suspects].flat()
    const entering = new Set(waiting.map((line) => line.conversation))
    this.suspects.length = 0
    this.entering.clear()
    const resting = [...this.held.values()].filter((one) => one.timer !== undefined || entering.has(one.conversation))
    for (const one of resting) {
      clearTimeout(one.timer)
      this.held.delete(one.conversation)
    }
    await Promise.all(this.repeated.map((one) => one.stop()))
    if (resting.length > 0) await releaseClaims(this.parts.database, this.parts.self, resting)
    for (const end = performance.now() + limit; this.held.size > 0 && performance.now() < end;) await pause(20)
    if (this.held.size > 0) await releaseClaims(this.parts.database, this.parts.self, [...this.held.values()])
    // What a commit on its way has started is sent before this process ends.
    await Promise.race([this.commits.drained(), pause(2000, undefined, { ref: false })])
    if (resting.length + this.held.size > 0) this.parts.bell.ring("work")
  }

  /** The safety net: conversations that are due and that nobody holds. */
  private async sweep(): Promise<void> {
    while (!this.stopping) {
      const room = Math.min(200, mostHeld - this.held.size)
      if (room <= 0) return
      const claims = await claimDue(this.parts.database, this.parts.self, claimSeconds, room)
      this.take(claims)
      if (claims.length < room) return
    }
  }

  /** Conversations claimed for this process in a statement whose answer never came: nobody else would take them. */
  private async recoverStrays(): Promise<void> {
    if (this.stopping) return
    const claims = await claimsOf(this.parts.database, this.parts.self)
    this.take(claims.filter((claim) => this.held.get(claim.conversation)?.fence !== claim.fence))
  }

  private async renew(): Promise<void> {
    const claims = [...this.held.values()]
    if (claims.length === 0) return
    const still = await renewClaims(this.parts.database, this.parts.self, claims, claimSeconds)
    for (const claim of claims) if (!still.has(claim.conversation)) this.drop(claim)
  }

  private reload(claim: Claimed): void {
    this.loads.add(claim).catch((error: unknown) => {
      this.complain(error)
      // The database may be away; the claim runs out by itself, and whoever sweeps first takes it.
      this.drop(claim)
    })
  }

  private drop(claim: Claimed): void {
    const held = this.held.get(claim.conversation)
    if (held?.fence !== claim.fence) return
    clearTimeout(held.timer)
    this.held.delete(claim.conversation)
  }

  private async load(claims: Claimed[]): Promise<void[]> {
    const { database, self } = this.parts
    const lines = await loadLines(database, self, claims, 50)
    const found = new Set(lines.map((line) => line.conversation))
    for (const claim of claims) if (!found.has(claim.conversation)) this.drop(claim)
    const off = lines.filter((line) => !line.channelOn || this.stopping)
    const idle = lines.filter((line) => line.channelOn && !this.stopping && line.pending.length === 0)
    if (off.length > 0) {
      await releaseClaims(database, self, off)
      off.forEach((line) => this.drop(line))
    }
    if (idle.length > 0) {
      const rested = await restLines(database, self, idle)
      for (const line of idle) {
        if (rested.has(line.conversation)) this.drop(line)
        else this.reload(line)
      }
    }
    for (const line of lines) {
      if (line.channelOn && !this.stopping && line.pending.length > 0) this.enter(line)
    }
    this.letIn()
    return claims.map(() => undefined)
  }

  /** Takes the turn of a line that ended processes, and only that: whether it is the one to blame shows. */
  private async tryAlone(line: Line): Promise<void> {
    const { database, self, log } = this.parts
    this.underWay++
    try {
      if (line.deaths >= endsProcesses) {
        log.error(
          { channel: line.channel, conversation: line.conversation },
          "a turn that ended the service twice is parked",
        )
        await this.commits.add(endedProcesses(line, line.pending.slice(0, 1)))
      } else {
        await tryAlone(database, self, line)
        await this.begin(line)
      }
    } catch (error) {
      this.complain(error)
      this.drop(line)
    } finally {
      this.underWay--
      this.letIn()
    }
  }

  private async begin(line: Line): Promise<void> {
    this.underWay++
    try {
      await this.takeGroup(line)
    } finally {
      this.underWay--
      if (this.suspects.length > 0) this.letIn()
    }
  }

  /** Waits while what a person sends may still belong together, then takes the turn. */
  private async takeGroup(line: Line): Promise<void> {
    const held = this.held.get(line.conversation)
    if (held?.fence !== line.fence) return
    const startedAt = wallClock("record")
    const away = (error: unknown) => {
      this.complain(error)
      this.drop(line)
    }
    const known = this.parts.channels.get(line.channel)
    if (!known) return away(new Error(`The channel "${line.channel}" is not known to this process yet.`))
    try {
      if (FAULTS_BUILT) await faultPoint("turn: line loaded")
      const result = await this.parts.releases.with(line.release, async (release) => {
        const gather = gatherOf(known, release)
        const group = nextGroup(line.pending, gather, line.frozen)
        const settled = group.at(-1)!.position <= line.frozen
        const wait = settled ? 0 : waitFor(group, line.pending, gather, nowOf(line).getTime())
        if (wait <= 0) return this.taken(line, known, release, group)
        this.lookAgain(held, line, wait)
        return undefined
      })
      await result?.()
    } catch (error) {
      if (error instanceof NotYet) return this.lookAgain(held, line, notYet)
      if (this.stopping || databaseFault(error) === "away") return away(error)
      // Before it was known which of them belong together: the first is the one that is not taken.
      this.complain(error)
      await this.commits.add(faulted(line, undefined, line.pending.slice(0, 1), startedAt, error)).catch(away)
    }
  }

  private lookAgain(held: Held, line: Line, wait: number): void {
    held.timer = setTimeout(() => {
      delete held.timer
      this.reload(line)
    }, wait)
  }

  /**
   * Takes a turn and gives what commits it. Whatever throws besides a database that is away is a fault of ours that may
   * come again each time: it counts as a try, so that the line does not stand still for ever.
   */
  private async taken(
    line: Line,
    known: KnownChannel,
    release: ReadyRelease | undefined,
    group: PendingMessage[],
  ): Promise<() => Promise<void>> {
    const startedAt = wallClock("record")
    const failing = (error: unknown) => {
      if (this.stopping || error instanceof NotYet || databaseFault(error) === "away") throw error
      this.complain(error)
      return faulted(line, release, group, startedAt, error)
    }
    const result = await takeTurn(this.parts, line, known, release, group).catch(failing)
    return () => this.commits.add(result).catch((error: unknown) => this.commits.add(failing(error)))
  }

  private async commit(results: TurnResult[]): Promise<void[]> {
    const committed = async (some: TurnResult[]) => {
      const done = await commitTurns(this.parts.database, this.parts.self, claimSeconds, some)
      if (FAULTS_BUILT) await faultPoint("turn: committed")
      await this.follow(some, done)
    }
    await keepHalving(results, committed, (result, error) => committed([unstorable(result, error)]))
    this.letIn()
    return results.map(() => undefined)
  }

  /** What is to be done once turns are on record. */
  private async follow(results: TurnResult[], done: CommitResult): Promise<void> {
    const { sender, bell, heldCalls, figures } = this.parts
    const sent = new Map<string, { calls: OutgoingCall[]; channel: string; place: Place }>()
    for (const { out, channel, place } of results)
      for (const { id, calls } of out) sent.set(id, { calls, channel, place })
    for (const { message, conversation, position } of done.started) {
      const { calls, channel, place } = sent.get(message)!
      sender?.started({ message, conversation, position, channel, place, calls })
    }
    if (results.some(({ relays }) => relays)) bell.ring("relays")
    // Whoever holds a call open for a reply need not wait when none goes back inside it.
    for (const { out, again, turn, resting } of results)
      if ((again === undefined || resting) && !out.some((message) => message.calls.some((call) => call.inline)))
        heldCalls.over(resting ?? turn.messages)
    for (const { conversation, channel } of done.waiting) sender?.lineGrew(conversation, channel)
    for (const result of results) {
      const { turn } = result
      this.failures.take(result)
      this.handlerAlerts.take(result)
      figures.turned(turn.outcome)
      figures.routed(turn.messages[0] ?? "", turn.startedAt)
      figures.reached("handled", wallClock("figure").getTime() - turn.startedAt.getTime())
    }
    if (done.waiting.length > 0) bell.ring("sends")
    if (results.some(({ waits }) => waits !== undefined)) bell.ring("queues")
    bell.ring("live")
    const moving: Claimed[] = []
    for (const { conversation, channel, fence } of results) {
      const claim = { conversation, channel, fence }
      if (!done.more.has(conversation)) this.drop(claim)
      else if (this.stopping) moving.push(claim)
      else this.reload(claim)
    }
    if (moving.length === 0) return
    await releaseClaims(this.parts.database, this.parts.self, moving)
    moving.forEach((claim) => this.drop(claim))
  }

  private complain(error: unknown): void {
    if (databaseFault(error) === "away") this.parts.log.warn({ away: true }, "the database is away; turns wait")
    else this.parts.log.error({ err: error }, failed)
  }
}

/** A turn whose result PostgreSQL will not keep: that is its handler's fault, and it is parked without it. */
function unstorable(result: TurnResult, error: Error): TurnResult {
  const reason = `the turn's result could not be stored: ${storable(error.message).slice(-300)}`
  const { route, handler, release, id, messages, run, startedAt } = result.turn
  const { state: _state, ...rest } = result
  return {
    ...rest,
    out: [],
    tokens: [],
    turn: {
      id,
      messages,
      run,
      startedAt,
      outcome: "parked",
      reason,
      ...(route ? { route } : {}),
      ...(handler ? { handler } : {}),
      ...(release ? { release } : {}),
    },
    parked: { cause: "handler failed", reason },
  }
}
