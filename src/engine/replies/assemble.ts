import { choicesOffered } from "../../core/channels/options.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Message, Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { Database } from "../../store/database.ts"
import type { Line, Offered } from "../../store/lines.ts"
import { saidAs } from "../../store/statuses.ts"
import type { OutboundMessage, TurnResult } from "../../store/turns.ts"
import type { KnownChannel } from "../channels.ts"
import { HandlerFault } from "../handlers/handler.ts"
import { withKept } from "./keptMedia.ts"
import { withMentions } from "./mentions.ts"
import type { Renderer } from "./renderer.ts"
import { NotRendered } from "./renderer.ts"
import { messageOf } from "./renderPart.ts"

/** A reply as it goes into its line. */
export interface Assembled {
  out: OutboundMessage[]
  tokens: TurnResult["tokens"]
  /** The options to remember; undefined where the state that holds them stays as it is. */
  offered: Offered[] | undefined
  /** What could not be shown natively, in words. */
  degraded: string[]
}

/** Kept media as its content; and where a message is changed only as a whole, taking its buttons away needs the words it had. */
export async function completed(database: Database, given: ReplyPart[], known: KnownChannel): Promise<ReplyPart[]> {
  const replies = await withMentions(database, await withKept(database, given), known)
  if (!kindOf(known.row.kind).abilities.amendsWhole) return replies
  return Promise.all(
    replies.map(async (part) => {
      if (part.part !== "amend" || part.text !== undefined) return part
      const said = (await saidAs(database, known.row.key, part.to)) as ReplyPart | undefined
      return said && "text" in said && said.text !== undefined ? { ...part, text: said.text } : part
    }),
  )
}

/**
 * Renders a reply, part by part.
 *
 * @param lead the message that is answered
 * @param answers the ids of all messages the turn is about
 * @throws HandlerFault for a part that cannot be said on this kind of channel
 */
export async function assemble(
  renderer: Renderer,
  parts: ReplyPart[],
  at: { line: Line; known: KnownChannel; lead: Message; answers: string[] },
): Promise<Assembled> {
  const { line, known, lead, answers } = at
  const kind = kindOf(known.row.kind)
  const guarded = kind.abilities.obeysStopWords === true
  const place = lead.respondAt === undefined ? line.place : { ...line.place, respondAt: lead.respondAt }
  const degraded: string[] = []
  const tokens: TurnResult["tokens"] = []
  const offered: Offered[] = []
  const to = line.place.kind === "group" && lead.from ? { to: lead.from.address } : {}
  const joined = (kind.joined?.(parts, known.channel) ?? parts).map((part) =>
    part.part === "typing" && lead.providerId ? { to: lead.providerId, ...part } : part,
  )
  const out = (await renderedBy(renderer, joined, place, known)).flatMap((done, n): OutboundMessage[] => {
    const { part, rendered } = done
    if (rendered.leftOut) {
      degraded.push(`the ${part.part} part is left out: ${rendered.leftOut}`)
      return []
    }
    if (rendered.impossible) {
      throw new HandlerFault({
        name: "ReplyFault",
        message: `part ${n + 1} of the reply (${part.part}) cannot be said on ${known.row.kind}: ${rendered.impossible}`,
      })
    }
    degraded.push(...rendered.degraded)
    tokens.push(...rendered.tokens)
    offered.push(...choicesOffered(part).map((option) => ({ ...option, ...to })))
    const { id, event, body, words, ...message } = messageOf(done)
    const calls = message.calls.map((call) => (call.inline ? { ...call, inline: { ...call.inline, answers } } : call))
    return [{ id, event, origin: "handler", author: undefined, body, words, calls, start: false, guarded }]
  })
  const speaks = out.some((message) => message.calls.some((call) => call.speaks))
  // Options count while nothing else has been said since they were offered.
  const changes = speaks && offered.length + line.offered.length > 0
  return { out, tokens, offered: changes ? offered : undefined, degraded }
}

async function renderedBy(renderer: Renderer, parts: ReplyPart[], place: Place, known: KnownChannel) {
  try {
    return await renderer.reply(parts, place, known)
  } catch (error) {
    if (!(error instanceof NotRendered)) throw error
    const name = error.again ? "RenderFault" : "ReplyFault"
    throw new HandlerFault({ name, message: `the reply could not be rendered: ${error.message}` })
  }
}
