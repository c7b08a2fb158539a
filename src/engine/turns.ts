import type { Logger } from "pino"
import { tokenMark } from "../core/channels/choiceTokens.ts"
import { choicesOffered } from "../core/channels/options.ts"
import { kindOf } from "../core/channels/registry.ts"
import { retryAfter, turnTries } from "../core/delivery/retry.ts"
import { standsAlone, together } from "../core/message/gather.ts"
import type { Message } from "../core/message/message.ts"
import type { ReplyPart } from "../core/message/reply.ts"
import { replyFault } from "../core/message/reply.ts"
import { storable, storableJson } from "../core/message/graphemes.ts"
import { escapeMarkup } from "../core/message/markup.ts"
import { readDuration } from "../core/routing/bot.ts"
import { fillText } from "../core/routing/fillText.ts"
import { optionMeant } from "../core/routing/optionMeant.ts"
import type { Decision } from "../core/routing/table.ts"
import type { Database } from "../store/database.ts"
import { optIn } from "../store/directory.ts"
import { refusal } from "../store/database.ts"
import type { Claimed } from "../store/intake.ts"
import { faultPoint } from "../store/faults.ts"
import { saidAs } from "../store/statuses.ts"
import { newId } from "../store/ids.ts"
import type {
  Line,
  Offered,
  OutboundMessage,
  PendingMessage,
  TurnOutcome,
  TurnRecord,
  TurnResult,
} from "../store/turns.ts"
import {
  choicesBehind,
  claimDue,
  claimsOf,
  commitTurns,
  loadLines,
  releaseClaims,
  renewClaims,
  restLines,
} from "../store/turns.ts"
import { parkOptedOut } from "../store/outbox.ts"
import type { Bell } from "./bell.ts"
import type { Bots, ReadyRelease } from "./bots.ts"
import type { Channels, KnownChannel } from "./channels.ts"
import { Gatherer } from "./gatherer.ts"
import type { TurnInput } from "./hostProtocol.ts"
import { HandlerFault } from "./hosts.ts"
import type { InlineAnswers } from "./inlineAnswers.ts"
import { claimSeconds } from "./inlet.ts"
import { renderPart } from "./renderPart.ts"
import { withKept } from "./keptMedia.ts"
import type { People } from "./people.ts"
import type { Sender } from "./sender.ts"

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
/** Messages of an album come one by one; the last is waited for this long, in milliseconds. */
const albumWait = 800
/** Turns a minute between bots, with no person among them, before the conversation is stopped. */
const botTurnsPerMinute = 20

interface Held extends Claimed {
  timer?: NodeJS.Timeout
}

/** Takes turns: claims conversations, decides, runs handlers, commits whatever has finished, many at a time. */
export class Turns {
  private readonly held = new Map<string, Held>()
  private readonly loads: Gatherer<Claimed, void>
  private readonly commits: Gatherer<TurnResult, void>
  private readonly timers: NodeJS.Timeout[] = []
  /** Lines that are loaded and wait until those before them are written. */
  private readonly entering = new Map<string, Line[]>()
  private stopping = false
  private sweeping = false

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      bots: Bots
      sender: Sender | undefined
      people: People
      inline: InlineAnswers
      bell: Bell
      log: Logger
      self: string
      courtesy: (
        message: string,
        known: KnownChannel,
        placeAddress: string,
        calls: PendingMessage["courtesies"],
      ) => void
    },
  ) {
    this.loads = new Gatherer((claims) => this.load(claims), 200, 2)
    this.commits = new Gatherer((results) => this.commit(results), 200, 2)
    if (parts.sender) parts.sender.written = () => this.letIn()
  }

  start(): void {
    const every = (ms: number, run: () => Promise<void>) => {
      const timer = setInterval(() => void run().catch((error: unknown) => this.complain(error)), ms)
      timer.unref()
      this.timers.push(timer)
    }
    every(1000, () => (this.letIn(true), this.sweep()))
    every((claimSeconds * 1000) / 3, () => this.renew())
    every(2000, () => this.recoverStrays())
    this.parts.bell.on("work", () => void this.sweep().catch((error: unknown) => this.complain(error)))
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
    this.timers.forEach(clearInterval)
    const entering = new Set([...this.entering.values()].flat().map((line) => line.conversation))
    this.entering.clear()
    const resting = [...this.held.values()].filter((one) => one.timer !== undefined || entering.has(one.conversation))
    for (const one of resting) {
      clearTimeout(one.timer)
      this.held.delete(one.conversation)
    }
    if (resting.length > 0) await releaseClaims(this.parts.database, this.parts.self, resting)
    const end = Date.now() + limit
    while (this.held.size > 0 && Date.now() < end) await new Promise((resolve) => setTimeout(resolve, 20))
    if (this.held.size > 0) await releaseClaims(this.parts.database, this.parts.self, [...this.held.values()])
    if (resting.length + this.held.size > 0) this.parts.bell.ring("work")
  }

  /** The safety net: conversations that are due and that nobody holds. */
  private async sweep(): Promise<void> {
    if (this.sweeping || this.stopping) return
    this.sweeping = true
    try {
      for (;;) {
        const room = Math.min(200, mostHeld - this.held.size)
        if (room <= 0) return
        const claims = await claimDue(this.parts.database, this.parts.self, claimSeconds, room)
        this.take(claims)
        if (claims.length < room) return
      }
    } finally {
      this.sweeping = false
    }
  }

  /** Conversations claimed for this process in a statement whose answer never came: nobody else would take them. */
  private async recoverStrays(): Promise<void> {
    if (this.stopping) return
    const claims = await claimsOf(this.parts.database, this.parts.self, claimSeconds, 3)
    this.take(claims.filter((claim) => this.held.get(claim.conversation)?.fence !== claim.fence))
  }

  private async renew(): Promise<void> {
    const claims = [...this.held.values()]
    if (claims.length === 0) return
    const still = await renewClaims(this.parts.database, this.parts.self, claims, claimSeconds)
    for (const one of claims) if (!still.has(one.conversation)) this.drop(one)
  }

  private reload(claim: Claimed): void {
    this.loads.add(claim).catch((error: unknown) => {
      this.complain(error)
      // The database may be away; the claim runs out by itself, and whoever sweeps first goes on.
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
    const lines = await loadLines(this.parts.database, this.parts.self, claims, 50)
    const found = new Set(lines.map((line) => line.conversation))
    for (const claim of claims) if (!found.has(claim.conversation)) this.drop(claim)
    const off = lines.filter((line) => !line.channelOn || this.stopping)
    const idle = lines.filter((line) => line.channelOn && !this.stopping && line.pending.length === 0)
    if (off.length > 0) {
      await releaseClaims(this.parts.database, this.parts.self, off)
      off.forEach((line) => this.drop(line))
    }
    if (idle.length > 0) {
      const rested = await restLines(this.parts.database, this.parts.self, idle)
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

  /** Waits while what a person sends may still belong together, then takes the turn. */
  private async begin(line: Line): Promise<void> {
    const held = this.held.get(line.conversation)
    if (held?.fence !== line.fence) return
    try {
      if (FAULTS_BUILT) await faultPoint("turn: line loaded")
      const known = this.parts.channels.get(line.channel)
      if (!known) throw new Error(`The channel "${line.channel}" is not known to this process yet.`)
      const release = line.release ? await this.parts.bots.release(line.release) : undefined
      const gather = gatherOf(known, release)
      const group = nextGroup(line.pending, gather)
      const wait = this.waitFor(group, line, gather)
      if (wait > 0) {
        held.timer = setTimeout(() => {
          delete held.timer
          this.reload(line)
        }, wait)
        return
      }
      const result = await this.turn(line, known, release, group)
      await this.commits.add(result)
    } catch (error) {
      this.complain(error)
      this.drop(line)
    }
  }

  /** Milliseconds until the group is complete. */
  private waitFor(group: PendingMessage[], line: Line, gather: number): number {
    const last = group.at(-1)!
    if (standsAlone(last.message) || last.message.own || line.pending.length > group.length || last.rejoined) return 0
    const window = last.message.album ? Math.max(gather, albumWait) : gather
    if (window <= 0) return 0
    // Somebody who never stops is answered all the same.
    const atMost = group[0]!.receivedAt.getTime() + 5 * window
    return Math.min(last.receivedAt.getTime() + window, atMost) - Date.now()
  }

  private async turn(
    line: Line,
    known: KnownChannel,
    release: ReadyRelease | undefined,
    group: PendingMessage[],
  ): Promise<TurnResult> {
    const startedAt = new Date()
    const resolved = await this.resolveChoices(line, group)
    const messages = kindOf(known.row.kind).people
      ? await Promise.all(
          resolved.map(async (one) => ({ ...one, message: await this.parts.people.named(known, one.message) })),
        )
      : resolved
    const pace = minuteOf(line, messages.at(-1)!.message, startedAt)
    const base: TurnResult = {
      conversation: line.conversation,
      channel: line.channel,
      place: line.place,
      fence: line.fence,
      heard: group.at(-1)!.position,
      heardBefore: line.heard,
      seenNext: line.next,
      seenSaid: line.said,
      tries: 0,
      minuteAt: pace.minuteAt,
      minuteTurns: pace.minuteTurns,
      botTurns: pace.botTurns,
      turn: {
        id: newId("trn"),
        messages: group.map((one) => one.id),
        outcome: "handled",
        reason: undefined,
        route: undefined,
        handler: undefined,
        release: release?.id,
        slots: undefined,
        stateBefore: undefined,
        stateAfter: undefined,
        log: undefined,
        error: undefined,
        degraded: undefined,
        run: line.tries + 1,
        startedAt,
      },
      state: undefined,
      again: undefined,
      parked: undefined,
      out: [],
      tokens: [],
    }
    for (const one of messages) {
      if (one.courtesies.length > 0 && line.tries === 0)
        this.parts.courtesy(one.id, known, line.place.address, one.courtesies)
    }
    const [only] = messages
    if (messages.length === 1 && only!.message.choice !== group[0]!.message.choice)
      base.turn.takenAs = only!.message.choice
    if (line.optedOut && only!.message.wish === "maybe start") await optIn(this.parts.database, line.conversation)
    if (only!.message.wish === "stop") await parkOptedOut(this.parts.database, line.conversation)
    const stop = this.reasonNotToAnswer(line, known, messages, base, release, startedAt)
    if (stop) return stop
    if (!release) {
      return ended(base, "unrouted", `no bot is published on this channel's lane "${known.row.lane}"`)
    }
    const message = together(messages.map((one) => one.message))
    const decision = release.table.decide({
      message,
      messages: messages.map((one) => one.message),
      channel: { key: line.channel, kind: known.row.kind },
      state: line.state,
    })
    return this.handle({ line, known, release, messages, message, base, decision })
  }

  /** Own words, other bots, loops, floods, people who answer themselves, and messages that are too late. */
  private reasonNotToAnswer(
    line: Line,
    known: KnownChannel,
    messages: PendingMessage[],
    base: TurnResult,
    release: ReadyRelease | undefined,
    now: Date,
  ): TurnResult | undefined {
    const last = messages.at(-1)!
    const { settings } = known.row
    if (last.message.own) {
      const why = last.message.own === true ? "the bot's own words" : last.message.own
      return ended(base, "own", `${why}: never answered`)
    }
    if (last.message.from?.bot) {
      if (settings.answerBots !== true)
        return ended(base, "from a bot", "it comes from another bot, and this channel does not answer bots")
      if (base.botTurns > botTurnsPerMinute) {
        return ended(
          base,
          "loop stopped",
          `more than ${botTurnsPerMinute} turns a minute with another bot and no person: this looks like two bots answering each other`,
        )
      }
    }
    const { wish } = last.message
    if (wish === "stop")
      return ended(base, "opted out", `"${last.message.text}" ends all sending to this number, until START`)
    if (line.optedOut && wish !== "start" && wish !== "maybe start")
      return ended(base, "opted out", "this person asked to be sent nothing more; START would change that")
    if (line.answeredBy === "person") return ended(base, "left to a person", "a person answers in this conversation")
    const within =
      settings.answerWithin === undefined ? undefined : readDuration(settings.answerWithin as string | number)
    const saidAt = last.message.sentAt ? new Date(last.message.sentAt) : last.receivedAt
    const age = now.getTime() - saidAt.getTime()
    if (within !== undefined && age > within && !last.rejoined) {
      const reason = `too late: it was said ${inWords(age)} ago, and this channel answers within ${inWords(within)}`
      return {
        ...ended(base, "parked", reason),
        parked: { cause: "too late", reason, remedy: "Retry it to answer all the same, or drop it." },
      }
    }
    const most = release?.table.bot.turnsPerMinute ?? 30
    // Bots are held by their own limit above.
    if (base.minuteTurns <= most || last.rejoined || last.message.from?.bot) return undefined
    const othersWait = line.pending.some((one) => one.message.from?.address !== last.message.from?.address)
    if (othersWait) {
      const reason = `set aside: more than ${most} turns a minute by one person while others wait`
      return {
        ...ended(base, "parked", reason),
        minuteTurns: most,
        parked: { cause: "flood", reason, remedy: "Retry it, or drop it." },
      }
    }
    // The person's own line waits until the minute is over.
    const again = base.minuteAt!.getTime() + 60_000 - now.getTime()
    const turn: TurnRecord = { ...base.turn, messages: [], outcome: "set aside" }
    return { ...base, turn, heard: line.heard, again: Math.max(again, 100), tries: line.tries, minuteTurns: most }
  }

  private async handle(given: {
    line: Line
    known: KnownChannel
    release: ReadyRelease
    messages: PendingMessage[]
    message: Message
    base: TurnResult
    decision: Decision
  }): Promise<TurnResult> {
    const { line, known, release, messages, message, base, decision } = given
    const { turn } = base
    turn.stateBefore = line.state
    if (decision.took === "passed over") {
      return {
        ...base,
        turn: { ...turn, outcome: "passed over", reason: `no route names the event "${message.event}"` },
      }
    }
    turn.outcome = decision.took === "unrouted" ? "unrouted" : "handled"
    if (decision.took === "unrouted") turn.reason = "no route is met"
    else {
      turn.route = decision.route
      turn.slots = decision.slots
    }
    const { handler } = decision
    const help = message.wish === "help" && decision.took !== "route" ? helpText(known) : undefined
    if (help !== undefined) {
      turn.handler = "help"
      return this.withReplies(base, [{ part: "text", text: help }], line, known, message)
    }
    if (handler === undefined)
      return { ...base, turn: { ...turn, reason: "no route is met, and the bot has no handler for the unrouted" } }
    const slots = decision.took === "route" ? decision.slots : {}
    try {
      if (typeof handler !== "string") {
        turn.handler = "text"
        const from = message.from ?? {}
        const said = fillText(handler.text, {
          message,
          slots,
          state: line.state,
          contact: from,
          channel: { key: line.channel, kind: known.row.kind },
        })
        const part: ReplyPart = handler.choices
          ? { part: "choices", text: said, choices: handler.choices }
          : { part: "text", text: said }
        return this.withReplies(base, [part], line, known, message)
      }
      turn.handler = handler
      if (FAULTS_BUILT) await faultPoint("turn: handler chosen")
      const answer = await this.parts.bots.run(
        release,
        handler,
        {
          message,
          messages: messages.map((one) => one.message),
          slots,
          state: line.state,
          contact: contactOf(message, messages.at(-1)!.contact),
          conversation: { id: line.conversation, place: line.place },
          channel: { key: line.channel, kind: known.row.kind },
          again: line.tries > 0,
          now: base.turn.startedAt.toISOString(),
        },
        release.table.bot.deadline,
      )
      if (FAULTS_BUILT) await faultPoint("turn: handler answered")
      if (answer.log.length > 0) turn.log = answer.log.map(storable)
      const replies = answer.outcome.replies ?? []
      const fault = replyFault(replies)
      if (fault)
        throw new HandlerFault(
          { name: "ReplyFault", message: `the handler's reply cannot be said: ${fault}` },
          answer.log,
        )
      this.withReplies(base, await this.whole(replies as ReplyPart[], known), line, known, message)
      if (answer.outcome.state !== undefined) {
        base.state = storableJson(answer.outcome.state ?? {})
        base.offered ??= line.offered
        turn.stateAfter = base.state
      }
      return base
    } catch (error) {
      if (!(error instanceof HandlerFault)) throw error
      return failed(base, line, error)
    }
  }

  /** Kept media as its content; and where a message is changed only as a whole, taking its buttons away needs the words it had. */
  private async whole(given: ReplyPart[], known: KnownChannel): Promise<ReplyPart[]> {
    const replies = await withKept(this.parts.database, given)
    if (!kindOf(known.row.kind).abilities.amendsWhole) return replies
    return Promise.all(
      replies.map(async (part) => {
        if (part.part !== "amend" || part.text !== undefined) return part
        const said = (await saidAs(this.parts.database, known.row.key, part.to)) as ReplyPart | undefined
        return said && "text" in said && said.text !== undefined ? { ...part, text: said.text } : part
      }),
    )
  }

  private withReplies(
    base: TurnResult,
    parts: ReplyPart[],
    line: Line,
    known: KnownChannel,
    lead: Message,
  ): TurnResult {
    const degraded: string[] = []
    const tokens: TurnResult["tokens"] = []
    const offered: Offered[] = []
    const { respondAt } = lead
    const kind = kindOf(known.row.kind)
    const guarded = kind.abilities.obeysStopWords === true
    const replies = kind.joined?.(parts, known.channel) ?? parts
    const place = respondAt === undefined ? line.place : { ...line.place, respondAt }
    const out = replies.flatMap((given, at): OutboundMessage[] => {
      const reply = given.part === "typing" && lead.providerId ? { to: lead.providerId, ...given } : given
      const rendered = renderPart(reply, place, known, offered.length)
      if (rendered.leftOut) {
        degraded.push(`the ${reply.part} part is left out: ${rendered.leftOut}`)
        return []
      }
      if (rendered.impossible) {
        throw new HandlerFault({
          name: "ReplyFault",
          message: `part ${at + 1} of the reply (${reply.part}) cannot be said on ${known.row.kind}: ${rendered.impossible}`,
        })
      }
      degraded.push(...rendered.degraded)
      tokens.push(...rendered.tokens)
      offered.push(...choicesOffered(reply))
      const { id, event, body, words } = rendered.message
      const calls = rendered.message.calls.map((call) =>
        call.inline ? { ...call, inline: { ...call.inline, answers: base.turn.messages } } : call,
      )
      return [{ id, event, origin: "handler", author: undefined, body, words, calls, start: false, guarded }]
    })
    const [first] = out
    if (first && this.parts.sender?.mayStart(line.channel, line.place, first.calls[0]!)) first.start = true
    base.out = out
    base.tokens = tokens
    const speaks = out.some((one) => one.calls.some((call) => call.speaks))
    base.offered = speaks ? offered : line.offered
    if (speaks && offered.length + line.offered.length > 0) base.state ??= line.state
    if (degraded.length > 0) base.turn.degraded = degraded
    return base
  }

  private async commit(results: TurnResult[]): Promise<void[]> {
    const { database, self, sender, bell } = this.parts
    let done
    try {
      done = await commitTurns(database, self, claimSeconds, results)
      if (FAULTS_BUILT) await faultPoint("turn: committed")
    } catch (error) {
      if (refusal(error) !== "data") throw error
      if (results.length > 1) {
        const middle = results.length >> 1
        await this.commit(results.slice(0, middle))
        await this.commit(results.slice(middle))
        return results.map(() => undefined)
      }
      // What PostgreSQL will not keep is the handler's fault: the turn is parked without it.
      const [one] = results
      const reason = `the turn's result could not be stored: ${storable((error as Error).message).slice(-300)}`
      const { route, handler, release, id, messages, run, startedAt } = one!.turn
      const turn: TurnRecord = {
        id,
        messages,
        run,
        startedAt,
        outcome: "parked",
        reason,
        ...(route ? { route } : {}),
        ...(handler ? { handler } : {}),
        ...(release ? { release } : {}),
      }
      const { state: _state, ...rest } = one!
      done = await commitTurns(database, self, claimSeconds, [
        { ...rest, out: [], tokens: [], turn, parked: { cause: "handler failed", reason } },
      ])
    }
    const byMessage = new Map(
      results.flatMap((one) =>
        one.out.map((out) => [out.id, { out, channel: one.channel, place: one.place }] as const),
      ),
    )
    for (const one of done.started) {
      const { out, channel, place } = byMessage.get(one.message)!
      const { message, conversation, position } = one
      sender?.started({ message, conversation, position, channel, place, calls: out.calls })
    }
    // Whoever holds a call open for a reply need not wait when none goes back inside it.
    for (const { out, again, turn } of results)
      if (again === undefined && !out.some((one) => one.calls.some((call) => call.inline)))
        this.parts.inline.over(turn.messages)
    for (const { conversation, channel } of done.waiting) sender?.lineGrew(conversation, channel)
    if (done.waiting.length > 0) bell.ring("sends")
    bell.ring("live")
    for (const one of results) {
      const claim: Claimed = one
      if (!done.more.has(one.conversation)) this.drop(claim)
      else if (this.stopping) {
        await releaseClaims(database, self, [claim])
        this.drop(claim)
      } else this.reload(claim)
    }
    this.letIn()
    return results.map(() => undefined)
  }

  /** A token that came back is the choice it stands for; so is an option typed by hand, by its number or its words. */
  private async resolveChoices(line: Line, group: PendingMessage[]): Promise<PendingMessage[]> {
    const { channel } = line
    const [only] = group
    if (group.length === 1 && only!.message.event === "text" && only!.message.text !== undefined) {
      const meant = optionMeant(only!.message.text, line.offered)
      if (meant) return [{ ...only!, message: { ...only!.message, event: "choice", choice: { ...meant } } }]
    }
    const tokens = group
      .filter((one) => one.message.choice?.id.startsWith(tokenMark))
      .map((one) => ({ channel, token: one.message.choice!.id }))
    if (tokens.length === 0) return group
    const behind = await choicesBehind(this.parts.database, tokens)
    return group.map((one) => {
      const meant = one.message.choice && behind.get(`${channel} ${one.message.choice.id}`)
      return meant ? { ...one, message: { ...one.message, choice: meant, text: meant.label } } : one
    })
  }

  private complain(error: unknown): void {
    if (refusal(error) === "away") this.parts.log.warn("the database is away; turns wait")
    else this.parts.log.error({ err: error }, "a turn could not be taken; it is tried again")
  }
}

/** HELP and INFO are always answered: who writes here, and how to end it. */
function helpText(known: KnownChannel): string {
  const { helpText: own } = known.row.settings as { helpText?: string }
  const name = known.row.identity?.name
  return own ?? `${name ? `This is ${escapeMarkup(name)}. ` : ""}Reply STOP to get no more messages.`
}

/** Who writes, as a handler is told. */
function contactOf({ from }: Message, id: string | null): TurnInput["contact"] {
  const contact: TurnInput["contact"] = {}
  if (id) contact.id = id
  if (from?.name) contact.name = from.name
  if (from?.handle) contact.handle = from.handle
  if (from?.language) contact.language = from.language
  if (from?.address) contact.address = from.address
  return contact
}

/** Milliseconds within which what one person sends belongs together: the channel's setting, else the bot's. */
function gatherOf(known: KnownChannel, release: ReadyRelease | undefined): number {
  const setting = known.row.settings.gather as string | number | undefined
  return (setting === undefined ? undefined : readDuration(setting)) ?? release?.table.bot.gather ?? 0
}

/** The messages that make up the next turn: one, an album, or what one person sent in one go, as far as it has come. */
function nextGroup(pending: PendingMessage[], gather: number): PendingMessage[] {
  const first = pending[0]!
  const alone = (one: PendingMessage) => standsAlone(one.message) || Boolean(one.message.own) || one.rejoined
  if (alone(first)) return [first]
  const end = pending.findIndex((one, at) => {
    if (at === 0) return false
    const before = pending[at - 1]!
    const sameAlbum = one.message.album !== undefined && one.message.album === before.message.album
    const soon = one.receivedAt.getTime() - before.receivedAt.getTime() <= gather && gather > 0
    return alone(one) || one.message.from?.address !== first.message.from?.address || !(sameAlbum || soon)
  })
  return end === -1 ? pending : pending.slice(0, end)
}

/** Turns of the running minute, this one included; turns with bots are counted until a person speaks. */
function minuteOf(line: Line, message: Message, now: Date): Pick<TurnResult, "minuteAt" | "minuteTurns" | "botTurns"> {
  const same = line.minuteAt !== null && now.getTime() - line.minuteAt.getTime() < 60_000
  const bot = message.from?.bot === true
  return {
    minuteAt: same ? line.minuteAt : now,
    minuteTurns: (same ? line.minuteTurns : 0) + 1,
    botTurns: bot ? (same ? line.botTurns : 0) + 1 : 0,
  }
}

function ended(base: TurnResult, outcome: TurnOutcome, reason: string): TurnResult {
  return { ...base, turn: { ...base.turn, outcome, reason } }
}

/** A failure is retried, then parked. */
function failed(base: TurnResult, line: Line, fault: HandlerFault): TurnResult {
  const tries = line.tries + 1
  const error = storableJson(fault.error)
  const log = fault.log.length > 0 ? { log: fault.log.map(storable) } : {}
  const again = fault.error.name === "ReplyFault" ? undefined : retryAfter(tries, turnTries, Math.random)
  const reason = `the handler failed: ${error.message}`
  if (again !== undefined) {
    return {
      ...base,
      heard: line.heard,
      again,
      tries,
      out: [],
      turn: { ...base.turn, ...log, outcome: "failed", reason, error },
    }
  }
  const times = tries > 1 ? ` (${tries} times)` : ""
  return {
    ...base,
    out: [],
    turn: { ...base.turn, ...log, outcome: "parked", reason, error },
    parked: {
      cause: "handler failed",
      reason: `the handler "${base.turn.handler}" failed${times}: ${error.message}`,
      remedy: "Mend the handler, then retry.",
    },
  }
}

function inWords(ms: number): string {
  const units: [number, string][] = [
    [86_400_000, "d"],
    [3_600_000, "h"],
    [60_000, "min"],
    [1000, "s"],
  ]
  const [size, unit] = units.find(([one]) => ms >= one) ?? [1, "ms"]
  return `${Math.round(ms / size)} ${unit}`
}
