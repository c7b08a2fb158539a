import { setMaxListeners } from "node:events"
import { LRUCache } from "lru-cache"
import type { Logger } from "pino"
import { setTimeout as pause } from "node:timers/promises"
import type { AskedTurn, HowAsked } from "../../core/elsewhere/asked.ts"
import type { ModelOrder } from "../../core/model/order.ts"
import type { EndpointAnswer } from "../../core/elsewhere/answer.ts"
import { Breaker } from "../../core/elsewhere/breaker.ts"
import { retryAfter } from "../../core/delivery/retry.ts"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import type { ElsewhereCall } from "../../core/elsewhere/note.ts"
import type { LeasedWait, WaitAnswer } from "../../store/waits.ts"
import {
  answerLease,
  dueToAsk,
  forgetEndpoints,
  giveUpLeased,
  leaseWaits,
  mostLeases,
  noteEndpoint,
  releaseLease,
} from "../../store/waits.ts"
import { HandlerFault } from "../handlers/handler.ts"
import type { NamedSecrets } from "../handlers/namedSecrets.ts"
import { masked } from "../handlers/namedSecrets.ts"
import type { Errands } from "../process/errands.ts"
import type { Repeated } from "../process/every.ts"
import type { Figures } from "../process/figures.ts"
import type { Seal } from "../seal.ts"
import type { EndpointCame } from "./endpointCall.ts"
import { callEndpoint } from "./endpointCall.ts"
import type { Growing } from "./growing.ts"
import { newLease } from "./newLease.ts"
import { tokenOf } from "./turnToken.ts"
import type { Claim } from "../../store/onces.ts"
import type { Values } from "../handlers/namedSecrets.ts"
import type { Talking } from "../models/talking.ts"
import { wallClock } from "../process/wallClock.ts"

/** Milliseconds a turn is held for the answer of an endpoint. What takes longer waits without a claim. */
const held = 800
/** Milliseconds that a call may be late before its turn is asked again, by whoever has room. */
const margin = 15_000

/** A turn an endpoint is to be asked about. */
export interface ToAsk {
  how: HowAsked
  turn: AskedTurn
  message: string
  position: number
  leg: number
  /** Milliseconds the turn may wait. */
  within: number
  /** Who holds the turn: its process, or whoever has its lease. */
  claim: Claim
  /** Where the last of its messages stands. */
  to: number
}

/** What came of asking: an answer, or how the turn waits for one. */
export type Asked =
  | { answer: WaitAnswer; calls: ElsewhereCall[] }
  | { waits: { due: number | undefined; lease?: string; leases: number }; calls: ElsewhereCall[] }

/**
 * Asks endpoints and model servers: at once where they answer at once, and otherwise off the record, where turns wait
 * without a claim.
 */
export class Caller {
  private readonly breakers = new LRUCache<string, Breaker>({ max: 1000 })
  private readonly underWay = new Map<string, number>()
  /** How each was asked last. */
  private readonly asked = new LRUCache<string, HowAsked>({ max: 1000 })
  private readonly running = new Set<Promise<unknown>>()
  private readonly breakingOff = new AbortController()
  private repeated: Repeated | undefined
  private stopping = false

  constructor(
    private readonly parts: {
      database: Database
      secrets: NamedSecrets
      seal: Seal
      bell: Bell
      figures: Figures
      errands: Errands
      log: Logger
      self: string
      publicUrl: () => string
      talking: Talking
      growing: Growing
      /** Private networks that endpoints may lie in. */
      networks: string[]
    },
  ) {
    // Every call listens to it.
    setMaxListeners(0, this.breakingOff.signal)
    parts.figures.endpoints = () => [...this.breakers].map(([address, { state }]) => ({ address, state }))
  }

  start(): void {
    this.repeated = this.parts.errands.whenDue("waits", () => this.look(), "waiting turns could not be looked at")
  }

  /** Ends: calls that are under way may end within the limit, and are made again elsewhere if they do not. */
  async stop(limit: number): Promise<void> {
    this.stopping = true
    await this.repeated?.stop()
    const ended = Promise.allSettled([...this.running])
    await Promise.race([ended, pause(limit, undefined, { ref: false })])
    this.breakingOff.abort()
    await Promise.race([ended, pause(2000, undefined, { ref: false })])
    await forgetEndpoints(this.parts.database, this.parts.self).catch(() => undefined)
  }

  /** Asks an endpoint about a turn that a process holds, and waits for its answer a moment. */
  async ask(asked: ToAsk): Promise<Asked> {
    const { how, within } = asked
    const now = performance.now()
    const breaker = this.breakerOf(how.address)
    if (this.stopping || this.busy(how.address) >= how.atOnce) return { waits: { due: 0, leases: 0 }, calls: [] }
    const wait = Math.ceil(breaker.wait(now, asked.claim.conversation))
    if (wait >= within) return { answer: { fails: leftAlone(breaker, wait) }, calls: [] }
    if (wait > 0) return { waits: { due: wait, leases: 0 }, calls: [] }
    const values = await this.parts.secrets
      .listed(asked.turn.bot, asked.turn.lane, [...how.signedBy, ...how.secrets])
      .catch((error: unknown) => {
        breaker.undecided()
        throw error
      })
    const lease = newLease()
    const claim = { ...asked.claim, lease }
    const calling = this.call({ ...asked, claim }, values)
    const first = await Promise.race([calling, pause(held, undefined, { ref: false })])
    if (first) return this.cameAt(first, 1, Math.round(now + within - performance.now()))
    this.follow(
      calling.then((came) => this.deliver(lease, came, 1, Math.round(now + within - performance.now()), values)),
    )
    return { waits: { due: Math.min(how.limit, within) + margin, lease, leases: 1 }, calls: [] }
  }

  /** Asks about turns that wait to be asked, as far as there is room. */
  private async look(): Promise<void> {
    const { database, bell } = this.parts
    const givenUp = await giveUpLeased(database)
    if (givenUp > 0) bell.ring("work")
    for (const { kind, place: address } of await dueToAsk(database)) {
      if (this.stopping) return
      const breaker = this.breakerOf(address)
      const how = this.asked.get(address)
      const room = (how?.atOnce ?? 1) - this.busy(address)
      if (room <= 0 || breaker.wait(performance.now()) > 0) continue
      const count = breaker.state === "closed" ? Math.min(room, 100) : 1
      const seconds = ((how?.limit ?? 30_000) + margin) / 1000
      const leases = Array.from({ length: count }, newLease)
      const lease = (except: string[]) =>
        leaseWaits(database, { ...{ kind, place: address, by: this.parts.self, seconds, count, leases, except } })
      // Of what waits for an endpoint that failed, a turn that has not failed there says most of how it is now.
      const { failed } = breaker
      let taken = await lease(failed)
      if (taken.length === 0 && failed.length > 0) taken = await lease([])
      if (taken.length === 0) breaker.undecided()
      for (const wait of taken) this.follow(this.askLeased(wait))
    }
  }

  private async askLeased(wait: LeasedWait): Promise<void> {
    const { how } = wait.turn as { how: HowAsked }
    const { lease, asked, message, position, leg, leases, left } = wait
    try {
      const { bot, lane } = wait
      const values = await this.parts.secrets.listed(bot, lane, [...how.signedBy, ...how.secrets])
      const until = performance.now() + left
      const claim = { conversation: wait.conversation, fence: -1, holder: "", lease }
      const told = { how, turn: asked, message, position, leg, within: left, claim, to: position }
      const came = await this.call(told, values)
      await this.deliver(lease, came, leases, Math.round(until - performance.now()), values)
    } catch (error) {
      this.breakerOf(how.address).undecided()
      if (!(error instanceof HandlerFault)) throw error
      const call = { to: how.address, at: wallClock("record").toISOString(), came: error.error.message }
      await answerLease(this.parts.database, lease, { fails: error.error.message }, [call])
    }
    // There is room for the next.
    if (!this.stopping) void this.repeated?.now().catch(() => undefined)
  }

  private async call(asked: ToAsk, values: Values): Promise<EndpointCame> {
    const { address, model } = asked.how
    this.asked.set(address, asked.how)
    this.underWay.set(address, this.busy(address) + 1)
    try {
      const came = withoutSecrets(
        model ? await this.talk(asked, model, values) : await this.post(asked, values),
        values,
      )
      this.judge(address, asked.claim.conversation, came)
      return came
    } finally {
      const left = this.busy(address) - 1
      if (left > 0) this.underWay.set(address, left)
      else this.underWay.delete(address)
    }
  }

  /** Asks a model, and shows meanwhile that somebody is about to answer. */
  private async talk(asked: ToAsk, order: ModelOrder, values: Values): Promise<EndpointCame> {
    const { turn, claim, how, within } = asked
    const { talking, growing } = this.parts
    const typed = growing.typing(turn)
    const draft = order.stream ? growing.draft(turn, order, claim.lease!, values) : undefined
    try {
      return await talking.ask({
        ...asked,
        order,
        within: Math.min(how.limit, within),
        key: how.signedBy[0],
        values,
        signal: this.breakingOff.signal,
        grows: draft && ((text) => draft.grows(text)),
      })
    } finally {
      typed()
      await draft?.end()
    }
  }

  private async post({ how, turn, message, position, leg, within }: ToAsk, values: Values): Promise<EndpointCame> {
    const { address } = how
    const { seal, publicUrl, networks } = this.parts
    const now = wallClock("record").getTime()
    if (FAULTS_BUILT) await faultPoint("endpoint: about to ask")
    const came = await callEndpoint({
      address,
      turn,
      answer: {
        to: `${publicUrl()}/api/v1/answers`,
        token: tokenOf(seal, { message, position, leg }),
        until: new Date(now + within).toISOString(),
      },
      keys: how.signedBy.map((name) => values[name]!),
      secrets: Object.values(values),
      limit: Math.min(how.limit, within),
      networks,
      signal: this.breakingOff.signal,
    })
    if (FAULTS_BUILT) await faultPoint("endpoint: answered")
    return came
  }

  /** What a call says about its endpoint. */
  private judge(address: string, conversation: string, { came, calls, down }: EndpointCame): void {
    const { figures, database, self, log, bell } = this.parts
    const breaker = this.breakerOf(address)
    const now = performance.now()
    const last = calls.at(-1)
    if (!last) return breaker.undecided()
    figures.asked(came.is, last.took ?? 0)
    if (came.is === "again" && came.after !== undefined) breaker.leaveAlone(now, came.after)
    const changed = down ? breaker.fails(now, last.came, conversation) : breaker.succeeded(conversation)
    if (!changed) return
    const { state, failures, why, until } = breaker
    const { origin, pathname } = new URL(address)
    log.warn(
      `the endpoint ${origin}${pathname} is ${state === "open" ? `left alone for a while: ${why}` : "asked again"}`,
    )
    const open = state === "open" ? Math.round(until - now) : 0
    noteEndpoint(database, { address, holder: self, state, failures, why, open }).then(
      () => bell.ring("live"),
      () => undefined,
    )
  }

  /** What an answer means for a turn that is at hand. @param left milliseconds it may still wait */
  private cameAt({ came, calls }: EndpointCame, asked: number, left: number): Asked {
    if (came.is === "answer") return { answer: { outcome: came.outcome }, calls }
    if (came.is === "unfit") return { answer: failsOf(came), calls }
    if (came.is === "later") return { waits: { due: undefined, leases: asked }, calls }
    const due = againAfter(came, asked)
    if (due === undefined || due >= left) return { answer: { fails: came.why }, calls }
    return { waits: { due, leases: asked }, calls }
  }

  /** The same for a turn that waits. It is on record within a moment, unless its process has lost it. */
  private async deliver(
    lease: string,
    { came, calls }: EndpointCame,
    asked: number,
    left: number,
    values: { readonly [name: string]: string },
  ): Promise<void> {
    const { database, bell } = this.parts
    const due = came.is === "later" ? undefined : came.is === "again" ? againAfter(came, asked) : 0
    const over = came.is === "again" && (due === undefined || due >= left)
    const found = new Set<string>()
    const outcome = came.is === "answer" ? masked(came.outcome, values, found) : undefined
    const answer: WaitAnswer | undefined =
      outcome !== undefined
        ? { outcome, ...(found.size > 0 ? { masked: [...found] } : {}) }
        : came.is === "unfit"
          ? failsOf(came)
          : over
            ? { fails: (came as { why: string }).why }
            : undefined
    for (let tries = 0; tries < 8; tries++) {
      try {
        const done = answer
          ? (await answerLease(database, lease, answer, calls)) !== undefined
          : await releaseLease(database, lease, calls, due)
        if (done) {
          bell.ring("work")
          bell.ring("live")
          return
        }
      } catch (error) {
        if (databaseFault(error) !== "away") throw error
      }
      await pause(50 * 2 ** tries, undefined, { ref: false })
    }
  }

  private follow(doing: Promise<unknown>): void {
    const done = doing
      .catch((error: unknown) => {
        if (databaseFault(error) !== "away")
          this.parts.log.error({ err: error }, "an endpoint's answer could not be kept; its turn is asked again")
      })
      .finally(() => this.running.delete(done))
    this.running.add(done)
  }

  private busy(address: string): number {
    return this.underWay.get(address) ?? 0
  }

  private breakerOf(address: string): Breaker {
    let breaker = this.breakers.get(address)
    if (!breaker) this.breakers.set(address, (breaker = new Breaker()))
    return breaker
  }
}

function failsOf({ why, over }: Extract<EndpointAnswer, { is: "unfit" }>): WaitAnswer {
  return { fails: why, ...(over ? { over } : {}) }
}

function againAfter({ after }: Extract<EndpointAnswer, { is: "again" }>, asked: number): number | undefined {
  const due = retryAfter(asked, mostLeases, Math.random)
  return due === undefined ? undefined : Math.max(due, after ?? 0)
}

function leftAlone({ failures, why }: Breaker, wait: number): string {
  return `it has failed ${failures} times in a row (${why ?? "it asked to be left alone"}) and is left alone for ${Math.ceil(wait / 1000)} s`
}

/**
 * What came back, before any of it is logged, kept or shown: whoever was asked may say the secrets back that it was
 * given. An answer itself is masked where its turn can be told that it was.
 */
function withoutSecrets({ came, calls, down }: EndpointCame, values: Values): EndpointCame {
  return {
    came: came.is === "answer" ? came : masked(came, values, new Set()),
    calls: masked(calls, values, new Set()),
    down,
  }
}
