import { together } from "../../core/message/gather.ts"
import type { Message } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { escapeMarkup } from "../../core/message/markup.ts"
import type { HandlerName } from "../../core/routing/handlerName.ts"
import type { Route } from "../../core/routing/bot.ts"
import type { Heard, StandingInterview } from "../../core/interview/standing.ts"
import { hear } from "../../core/interview/standing.ts"
import type { Condition } from "../../core/routing/condition.ts"
import type { Facts, Situation } from "../../core/routing/situation.ts"
import type { Slots } from "../../core/routing/finding.ts"
import type { Copy } from "../../store/relays.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import type { KnownChannel } from "../channels.ts"
import type { ReadyRelease } from "../handlers/handler.ts"
import type { stepOf, Talks } from "./interviewTurn.ts"
import type { Pace, Stop } from "./limits.ts"
import { isPace, reasonNotToAnswer } from "./limits.ts"

/** What a turn is to do: nothing, say a text of ours, or run a handler. */
export type Plan =
  | { does: "stop"; stop: Stop }
  | { does: "nothing"; outcome: "unrouted" | "passed over"; reason: string }
  | { does: "help"; text: string; message: Message }
  | { does: "desk"; replies: ReplyPart[]; message: Message }
  | { does: "relay"; copy: Copy; message: Message }
  | { does: "joined"; text: string; message: Message }
  | {
      does: "run"
      handler: HandlerName
      route?: Route
      slots: Slots
      message: Message
      /** The question that stands, where this is an aside. */
      open?: StandingInterview
    }
  | { does: "interview"; heard: Parameters<typeof stepOf>[1]; message: Message }

/** Decides what becomes of a group of messages. Nothing is done and nothing is asked here. */
export function planOf(given: {
  line: Line
  known: KnownChannel
  release: ReadyRelease | undefined
  messages: PendingMessage[]
  pace: Pace
  facts: Facts | undefined
  talks: Talks | undefined
  now: Date
}): Plan {
  const { line, known, release, messages, pace, facts, talks, now } = given
  const turnsPerMinute = release?.table.bot.turnsPerMinute
  const stop = reasonNotToAnswer(line, known, messages.at(-1)!, pace, turnsPerMinute, now)
  const said = messages.map((message) => message.message)
  const message = together(said)
  if (stop && !isPace(stop) && message.moment?.what !== "end") return { does: "stop", stop }
  if (!release) {
    const reason = `no bot is published on this channel's lane "${known.row.lane}"`
    return stop ? { does: "stop", stop } : { does: "nothing", outcome: "unrouted", reason }
  }
  const situation: Situation = {
    message,
    messages: said,
    channel: { key: line.channel, kind: known.row.kind },
    state: line.state,
    now: now.toISOString(),
    ...(facts === undefined ? {} : { facts }),
  }
  // Whoever answers instead of the bot may end what it was at.
  const byHand = message.moment?.what === "end"
  // HELP is always answered, whatever is being asked; the question stands.
  const heard = talks && (!stop || byHand) && message.wish !== "help" ? heardOf(talks, situation) : undefined
  if (heard?.does === "nothing") return { does: "nothing", outcome: "passed over", reason: heard.reason }
  if (heard && heard.does !== "decide") return { does: "interview", heard, message }
  const open = heard?.open
  const decision = release.table.decide(situation, open && { but: open.handler })
  // Talk in a group that is not the bot's own business is no flood, however much of it there is.
  if (stop && decision.took !== "passed over") return { does: "stop", stop }
  if (decision.took === "passed over") return { does: "nothing", outcome: "passed over", reason: decision.why }
  if (decision.took === "route") {
    const { route, slots } = decision
    return { does: "run", handler: route.handler, route, slots, message, ...(open ? { open } : {}) }
  }
  if (message.wish === "help") return { does: "help", text: helpText(known), message }
  if (open) return { does: "interview", heard: { does: "ask again", interview: open, no: heard!.no! }, message }
  if (decision.handler !== undefined) return { does: "run", handler: decision.handler, slots: {}, message }
  return {
    does: "nothing",
    outcome: "unrouted",
    reason: "no route is met, and the bot has no handler for the unrouted",
  }
}

/** Who a message is for, where interviews run. */
function heardOf(talks: Talks, situation: Situation): Heard {
  const { running, who, words, reading, table } = talks
  const { message } = situation
  const meets = (when: object) => table.meets(when as Condition, situation)
  return hear({ running, who, message, words, reading, meets })
}

/** HELP and INFO are always answered: who writes here, and how to end it. */
function helpText(known: KnownChannel): string {
  const { helpText: own } = known.row.settings as { helpText?: string }
  const name = known.row.identity?.name
  return own ?? `${name ? `This is ${escapeMarkup(name)}. ` : ""}Reply STOP to get no more messages.`
}
