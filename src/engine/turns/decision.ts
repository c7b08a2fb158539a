import { together } from "../../core/message/gather.ts"
import type { Message } from "../../core/message/message.ts"
import { escapeMarkup } from "../../core/message/markup.ts"
import type { HandlerName } from "../../core/routing/bot.ts"
import type { Slots } from "../../core/routing/table.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import type { KnownChannel } from "../channels.ts"
import type { ReadyRelease } from "../handlers/handler.ts"
import type { Pace, Stop } from "./limits.ts"
import { reasonNotToAnswer } from "./limits.ts"

/** What a turn is to do: nothing, say a text of ours, or run a handler. */
export type Plan =
  | { does: "stop"; stop: Stop }
  | { does: "nothing"; outcome: "unrouted" | "passed over"; reason: string }
  | { does: "help"; text: string; message: Message }
  | { does: "run"; handler: HandlerName; route?: string; slots: Slots; message: Message }

/** Decides what becomes of a group of messages. Nothing is done and nothing is asked here. */
export function planOf(given: {
  line: Line
  known: KnownChannel
  release: ReadyRelease | undefined
  messages: PendingMessage[]
  pace: Pace
  now: Date
}): Plan {
  const { line, known, release, messages, pace, now } = given
  const turnsPerMinute = release?.table.bot.turnsPerMinute
  const stop = reasonNotToAnswer(line, known, messages.at(-1)!, pace, turnsPerMinute, now)
  if (stop) return { does: "stop", stop }
  if (!release)
    return {
      does: "nothing",
      outcome: "unrouted",
      reason: `no bot is published on this channel's lane "${known.row.lane}"`,
    }
  const said = messages.map((message) => message.message)
  const message = together(said)
  const decision = release.table.decide({
    message,
    messages: said,
    channel: { key: line.channel, kind: known.row.kind },
    state: line.state,
    now: now.toISOString(),
  })
  if (decision.took === "passed over")
    return { does: "nothing", outcome: "passed over", reason: `no route names the event "${message.event}"` }
  if (decision.took === "route") {
    const { handler, route, slots } = decision
    return { does: "run", handler, route, slots, message }
  }
  if (message.wish === "help") return { does: "help", text: helpText(known), message }
  if (decision.handler !== undefined) return { does: "run", handler: decision.handler, slots: {}, message }
  return {
    does: "nothing",
    outcome: "unrouted",
    reason: "no route is met, and the bot has no handler for the unrouted",
  }
}

/** HELP and INFO are always answered: who writes here, and how to end it. */
function helpText(known: KnownChannel): string {
  const { helpText: own } = known.row.settings as { helpText?: string }
  const name = known.row.identity?.name
  return own ?? `${name ? `This is ${escapeMarkup(name)}. ` : ""}Reply STOP to get no more messages.`
}
