import { Worker } from "node:worker_threads"
import type { Channel, ChannelKind } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { RenderedPart, ReplyLook } from "../../core/channels/renderReply.ts"
import { lookOn, renderReply, weightOf } from "../../core/channels/renderReply.ts"
import type { Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { KnownChannel } from "../channels.ts"

/**
 * Up to so much a reply is rendered where it is: 15 ms at the worst, and hardly ever one. A mark costs some 5 µs, a
 * character without any 0.1.
 */
const light = { length: 50_000, marks: 2000 }
/** Characters of a reply at most. */
const heaviest = 1_000_000
/** Milliseconds a reply may take once the thread has begun: on a busy machine it gets a small part of them. */
const patience = 5000
/** Milliseconds the thread may take to start. */
const startWithin = 30_000
/** Looks that may wait for the thread; replies wait for none of them but the one under way. */
const mostLooks = 24
/** Megabytes the thread may use. */
const memory = 256

export type RenderOrder = { id: number; kind: string; parts: ReplyPart[] } & (
  { do: "looks" } | { do: "reply"; place: Place; channel: Channel }
)
type Ordered = { kind: string; parts: ReplyPart[] } & (
  { do: "looks" } | { do: "reply"; place: Place; channel: Channel }
)

export type RenderAnswer = { id: number } & ({ parts: RenderedPart[] } | { looks: ReplyLook } | { fault: string })

/** A reply that cannot be rendered, and why. */
export class NotRendered extends Error {
  /** @param again whether another try may do better */
  constructor(
    message: string,
    readonly again: boolean,
  ) {
    super(message)
  }
}

interface Waiting {
  order: RenderOrder
  done: (answer: RenderAnswer) => void
  fail: (error: Error) => void
}

/**
 * Renders replies. Short ones where they are; long ones in a thread of its own, one after the other, within a deadline:
 * whatever a handler says, everybody else's messages go on meanwhile.
 */
export class Renderer {
  private worker: Worker | undefined
  private online = false
  private readonly line: Waiting[] = []
  private timer: NodeJS.Timeout | undefined
  private next = 1

  /** @param script of the thread, as it was built */
  constructor(private readonly script: string) {}

  /** Throws a NotRendered. */
  async reply(parts: ReplyPart[], place: Place, { row, channel }: KnownChannel): Promise<RenderedPart[]> {
    const kind = kindOf(row.kind)
    if (isLight(parts)) return renderReply(kind, parts, place, channel)
    const { key, settings, publicBase, identity, profile } = channel
    // No secret is needed to render: calls only name them.
    const plain: Channel = {
      key,
      kind: row.kind,
      settings,
      secrets: {},
      ...(publicBase === undefined ? {} : { publicBase }),
      ...(identity ? { identity } : {}),
      ...(profile ? { profile } : {}),
    }
    const answer = await this.ask({ do: "reply", kind: row.kind, parts, place, channel: plain })
    return (answer as { parts: RenderedPart[] }).parts
  }

  /** Throws a NotRendered. */
  async looks(kind: ChannelKind, parts: ReplyPart[]): Promise<ReplyLook> {
    if (isLight(parts)) return lookOn(kind, parts)
    return ((await this.ask({ do: "looks", kind: kind.kind, parts })) as { looks: ReplyLook }).looks
  }

  close(): void {
    clearTimeout(this.timer)
    void this.worker?.terminate()
    this.worker = undefined
    for (const { fail } of this.line.splice(0)) fail(new NotRendered("the service stopped", true))
  }

  private async ask(given: Ordered): Promise<RenderAnswer> {
    const looks = this.line.filter(({ order }) => order.do === "looks").length
    if (given.do === "looks" && looks >= mostLooks)
      throw new NotRendered("too many long replies wait to be looked at", true)
    return new Promise<RenderAnswer>((done, fail) => {
      const waiting = { order: { ...given, id: this.next++ }, done, fail }
      // What is said goes before what is only looked at, and behind the one under way.
      const at = given.do === "looks" ? -1 : this.line.findIndex(({ order }, n) => n > 0 && order.do === "looks")
      this.line.splice(at === -1 ? this.line.length : at, 0, waiting)
      if (this.line.length === 1) this.begin()
    }).then((answer) => {
      if ("fault" in answer) throw new NotRendered(answer.fault, false)
      return answer
    })
  }

  private begin(): void {
    const [first] = this.line
    if (!first) return
    this.worker ??= this.start()
    this.worker.postMessage(first.order)
    const limit = this.online ? patience : startWithin
    this.timer = setTimeout(() => this.giveUp(`it took longer than ${limit / 1000} s`), limit)
  }

  private start(): Worker {
    const worker = new Worker(this.script, { env: {}, resourceLimits: { maxOldGenerationSizeMb: memory } })
    worker.unref()
    this.online = false
    worker.on("online", () => {
      if (this.worker !== worker || this.online) return
      this.online = true
      clearTimeout(this.timer)
      this.timer = setTimeout(() => this.giveUp(`it took longer than ${patience / 1000} s`), patience)
    })
    worker.on("message", (answer: RenderAnswer) => {
      if (this.worker !== worker || this.line[0]?.order.id !== answer.id) return
      clearTimeout(this.timer)
      this.line.shift()!.done(answer)
      this.begin()
    })
    worker.on("error", (error) => this.worker === worker && this.giveUp(error.message))
    worker.on("exit", () => this.worker === worker && this.giveUp("its thread ended"))
    return worker
  }

  private giveUp(why: string): void {
    clearTimeout(this.timer)
    void this.worker?.terminate()
    this.worker = undefined
    this.line.shift()?.fail(new NotRendered(why, true))
    this.begin()
  }
}

/** Throws a NotRendered for a reply that is too long for any channel. */
function isLight(parts: ReplyPart[]): boolean {
  const { length, marks } = weightOf(parts)
  if (length > heaviest) throw new NotRendered(`it is longer than ${heaviest} characters`, false)
  return length <= light.length && marks <= light.marks
}
