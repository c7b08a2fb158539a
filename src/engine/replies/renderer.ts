import type { Channel, ChannelKind } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { RenderedPart, ReplyLook } from "../../core/channels/renderReply.ts"
import { lookOn, renderReply, weightOf } from "../../core/channels/renderReply.ts"
import type { Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { KnownChannel } from "../channels.ts"
import { NotDone, SideThread } from "../process/sideThread.ts"

/**
 * Up to so much a reply is rendered where it is: 15 ms at the worst, and hardly ever one. A mark costs some 5 µs, a
 * character without any 0.1.
 */
const light = { length: 50_000, marks: 2000 }
/** Characters of a reply at most. */
const heaviest = 1_000_000
/** Milliseconds a reply may take once the thread has begun: on a busy machine it gets a small part of them. */
const patience = 5000
/** Looks that may wait for the thread; replies wait for none of them but the one under way. */
const mostLooks = 24

export type RenderOrder = { kind: string; parts: ReplyPart[] } & (
  { do: "looks" } | { do: "reply"; place: Place; channel: Channel }
)

export type RenderAnswer = { parts: RenderedPart[] } | { looks: ReplyLook } | { fault: string }

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

/**
 * Renders replies. Short ones where they are; long ones in a thread of its own, one after the other, within a deadline:
 * whatever a handler says, everybody else's messages go on meanwhile.
 */
export class Renderer {
  private readonly thread: SideThread<RenderOrder, RenderAnswer>

  /** @param script of the thread, as it was built */
  constructor(script: string) {
    this.thread = new SideThread(script, patience)
  }

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
    this.thread.close()
  }

  private async ask(order: RenderOrder): Promise<RenderAnswer> {
    const isLook = (other: RenderOrder) => other.do === "looks"
    if (isLook(order) && this.thread.waiting.filter(isLook).length >= mostLooks)
      throw new NotRendered("too many long replies wait to be looked at", true)
    // What is said goes before what is only looked at.
    const answer = await this.thread
      .ask(order, (other) => isLook(order) || !isLook(other))
      .catch((error: unknown) => {
        throw error instanceof NotDone ? new NotRendered(error.message, true) : error
      })
    if ("fault" in answer) throw new NotRendered(answer.fault, false)
    return answer
  }
}

/** Throws a NotRendered for a reply that is too long for any channel. */
function isLight(parts: ReplyPart[]): boolean {
  const { length, marks } = weightOf(parts)
  if (length > heaviest) throw new NotRendered(`it is longer than ${heaviest} characters`, false)
  return length <= light.length && marks <= light.marks
}
