import type { FastifyRequest } from "fastify"
import ipaddr from "ipaddr.js"
import { LRUCache } from "lru-cache"
import { RateLimiterMemory } from "rate-limiter-flexible"
import type { Engine } from "../engine/engine.ts"
import { Trouble } from "../engine/trouble.ts"
import type { Doer, Visitor } from "../store/access.ts"
import { hashOf, record, visitorBySession, visitorByToken } from "../store/access.ts"

/** Tokens and sign-ins that one address may get wrong, and the seconds in which it may. */
const wrongTries = { points: 20, duration: 60 }
/** Requests a visitor may make at once, and, on average, in each second. */
const pace = { points: 3000, duration: 10 }
/** Milliseconds for which a token that was good is let in although others from its address keep failing. */
const rememberGood = 10 * 60_000
/** Failures of one address are logged and put on record once in so many milliseconds, and of all so many an hour. */
const recordEvery = 60_000
const recordsAnHour = { points: 500, duration: 3600 }

/** Who is at the door: by a bearer token, or by the cookie of the console's session. */
export class Visitors {
  private readonly wrong = new RateLimiterMemory(wrongTries)
  private readonly asked = new RateLimiterMemory(pace)
  private readonly good = new LRUCache<string, true>({ max: 1000, ttl: rememberGood })
  private readonly recorded = new LRUCache<string, true>({ max: 10_000, ttl: recordEvery })
  private readonly records = new RateLimiterMemory(recordsAnHour)
  private readonly known = new WeakMap<FastifyRequest, Promise<Visitor | undefined>>()

  constructor(private readonly engine: Engine) {}

  /** Who asks, found out once a request. */
  of(request: FastifyRequest): Promise<Visitor | undefined> {
    let visitor = this.known.get(request)
    if (!visitor) this.known.set(request, (visitor = this.look(request)))
    return visitor
  }

  /** Whether they are still who they were: a session may have ended, a token may have been revoked. */
  lookAgain(request: FastifyRequest): Promise<Visitor | undefined> {
    return this.find(request)
  }

  /** Throws when a visitor asks for more than one may. */
  async pace(visitor: Visitor): Promise<void> {
    try {
      await this.asked.consume(visitor.id)
    } catch (over) {
      const seconds = secondsLeft(over)
      throw new Trouble(
        "too-many",
        `More than ${pace.points / pace.duration} requests a second were made with this token.`,
        `Wait ${seconds} s, and ask for more at once: lists give up to 200 items a page, and /api/v1/live tells what happens.`,
        undefined,
        seconds,
      )
    }
  }

  /** Counts a failed sign-in; throws once there were too many from its address. */
  async failed(request: FastifyRequest, what: string): Promise<void> {
    const address = networkOf(request)
    if (!this.recorded.has(address)) {
      this.recorded.set(address, true)
      const room = await this.records.consume("all").then(
        () => true,
        () => false,
      )
      if (room) {
        const from = addressOf(request)
        this.engine.settings.log.warn({ address: from }, what)
        await record(this.engine.database, { name: "(unknown)", address: from }, what)
      }
    }
    await this.wrong.consume(address).catch((over: unknown) => {
      throw tooManyWrong(secondsLeft(over))
    })
  }

  /** Counts a call to an inlet that was not genuine; gives the seconds to wait once too many came from its address. */
  async refusedCall(request: FastifyRequest): Promise<number | undefined> {
    try {
      await this.failed(request, "calls that are not genuine were refused at an application's inlet")
      return undefined
    } catch (error) {
      if (error instanceof Trouble && error.code === "too-many") return error.retryAfter ?? 60
      throw error
    }
  }

  /** Throws while an address has failed too often. */
  async mayTry(request: FastifyRequest): Promise<void> {
    const before = await this.wrong.get(networkOf(request))
    if (before && before.consumedPoints > wrongTries.points) throw tooManyWrong(secondsLeft(before))
  }

  private async look(request: FastifyRequest): Promise<Visitor | undefined> {
    const visitor = await this.find(request)
    if (!visitor && (request.headers.authorization ?? "") !== "")
      await this.failed(request, "a token that is not known was refused")
    return visitor
  }

  private async find(request: FastifyRequest): Promise<Visitor | undefined> {
    const { authorization } = request.headers
    const { database } = this.engine
    if (authorization === undefined || authorization === "") {
      const session = request.cookies[sessionCookie(request, this.engine)]
      return session ? visitorBySession(database, session) : undefined
    }
    // Who sends this header means it: a cookie that comes along counts for nothing.
    const token = /^Bearer +([\w~+/.=-]{1,500})$/i.exec(authorization)?.[1]
    if (token === undefined) return undefined
    const hash = hashOf(token)
    if (!this.good.has(hash)) await this.mayTry(request)
    const visitor = await visitorByToken(database, token)
    if (visitor) this.good.set(hash, true)
    else this.good.delete(hash)
    return visitor
  }
}

/** Where a request comes from. What a proxy passes on may be anything a stranger wrote. */
export function addressOf({ ip }: FastifyRequest): string {
  return ipaddr.isValid(ip) ? ipaddr.process(ip).toString() : "(no address)"
}

/** Of IPv6, the network: whoever has an address there has all the others of it as well. */
function networkOf({ ip }: FastifyRequest): string {
  if (!ipaddr.isValid(ip)) return "(no address)"
  const read = ipaddr.process(ip)
  return read.kind() === "ipv4" ? read.toString() : (read as ipaddr.IPv6).parts.slice(0, 4).join(":")
}

/** Whether a request came by https: its own connection's, or that of the proxy at the public address. */
export function overHttps(request: FastifyRequest, engine: Engine): boolean {
  if (request.protocol === "https") return true
  const own = new URL(engine.publicUrl)
  return own.protocol === "https:" && request.headers.host === own.host
}

/** A cookie with this beginning is only ever taken from and given to this very host, by https. */
export function sessionCookie(request: FastifyRequest, engine: Engine): string {
  return overHttps(request, engine) ? "__Host-wobbet_session" : "wobbet_session"
}

export function doer(visitor: Visitor, request: FastifyRequest): Doer {
  return { name: visitor.name, id: visitor.id, address: addressOf(request) }
}

/**
 * Throws unless a change that comes by cookie comes from our own pages. A cookie comes along by itself, even from
 * another site's page; the header does not, and a browser says truly where a page came from.
 */
export function fromOurPages(request: FastifyRequest, engine: Engine, csrf?: string): void {
  const { origin } = request.headers
  const site = request.headers["sec-fetch-site"]
  const foreign = origin !== undefined && !isOurs(origin, request, engine)
  if (foreign || site === "cross-site")
    throw new Trouble(
      "not-allowed",
      `The request comes from a page of another origin (${String(origin ?? "unknown").slice(0, 200)}).`,
      "Use the console at its own address. Behind a proxy that changes the host, set WOBBET_PUBLIC_URL.",
    )
  if (csrf !== undefined && request.headers["x-csrf"] !== csrf)
    throw new Trouble(
      "not-allowed",
      "The request has no proof that it comes from our own pages.",
      "Reload the page and try again.",
    )
}

function isOurs(origin: string, request: FastifyRequest, engine: Engine): boolean {
  if (!URL.canParse(origin)) return false
  const from = new URL(origin)
  return from.host === request.headers.host || from.origin === new URL(engine.publicUrl).origin
}

function secondsLeft(over: unknown): number {
  return Math.max(1, Math.ceil(((over as { msBeforeNext?: number }).msBeforeNext ?? 1000) / 1000))
}

function tooManyWrong(seconds: number): Trouble {
  return new Trouble(
    "too-many",
    "Too many wrong tokens came from this address.",
    `Wait ${seconds} s, then sign in with the right one.`,
    undefined,
    seconds,
  )
}
