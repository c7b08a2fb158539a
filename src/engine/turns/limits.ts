import { kindOf } from "../../core/channels/registry.ts"
import type { Message } from "../../core/message/message.ts"
import { lengthInWords, readDuration } from "../../core/routing/duration.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import type { TurnOutcome, TurnResult } from "../../store/turns.ts"
import type { KnownChannel } from "../channels.ts"

/** Turns a minute between bots, with no person among them, before the conversation is stopped. */
const botTurnsPerMinute = 20

/** Turns a minute by one person where the bot says nothing of that. */
const usualTurnsPerMinute = 30

/** How many turns a conversation has had in the running minute, the coming one included. */
export type Pace = Pick<TurnResult, "minuteAt" | "minuteTurns" | "botTurns">

/** Why a message gets no turn, and what becomes of it. */
export type Stop =
  | { outcome: TurnOutcome; reason: string }
  | { outcome: "parked"; reason: string; cause: "too late" | "flood"; remedy: string }
  /** Its line waits for so many milliseconds, and is looked at again. */
  | { outcome: "set aside"; again: number }

/** Whether a message is held up only because somebody says so much. */
export function isPace(stop: Stop): boolean {
  return "again" in stop || ("cause" in stop && stop.cause === "flood")
}

/** Turns of the running minute, this one included; turns with bots are counted until a person speaks. */
export function paceOf(line: Line, message: Message, now: Date): Pace {
  const same = line.minuteAt !== null && now.getTime() - line.minuteAt.getTime() < 60_000
  const bot = message.from?.bot === true
  return {
    minuteAt: same ? line.minuteAt : now,
    minuteTurns: (same ? line.minuteTurns : 0) + 1,
    botTurns: bot ? (same ? line.botTurns : 0) + 1 : 0,
  }
}

/** Own words, other bots, loops, floods, people who answer themselves, and messages that are too late. */
export function reasonNotToAnswer(
  line: Line,
  known: KnownChannel,
  last: PendingMessage,
  pace: Pace,
  turnsPerMinute: number | undefined,
  now: Date,
): Stop | undefined {
  return (
    forgotten(last.message) ??
    ownWords(known, last.message) ??
    otherBot(known, last.message, pace) ??
    dropped(last.message) ??
    wish(line, last.message) ??
    tooLate(known, last, now) ??
    tooMany(line, last, pace, turnsPerMinute ?? usualTurnsPerMinute, now)
  )
}

/** Why a turn that has waited is not answered any more. */
export function turnedAway(line: Line, message: Message): Stop | undefined {
  return forgotten(message) ?? wish(line, message)
}

function forgotten({ event }: Message): Stop | undefined {
  return event === "forgotten" ? { outcome: "passed over", reason: "the person was forgotten on request" } : undefined
}

function ownWords({ row }: KnownChannel, { own, from }: PendingMessage["message"]): Stop | undefined {
  const { identity } = row
  // Whoever read the message may not have known yet who the channel is.
  const isUs = from !== undefined && [identity?.id, ...(identity?.also ?? [])].includes(from.address)
  if (!own && !(isUs && from.bot)) return undefined
  const whose = typeof own === "string" ? own : "the bot's own words"
  return { outcome: "own", reason: `${whose}: never answered` }
}

function otherBot({ row }: KnownChannel, { from }: Message, pace: Pace): Stop | undefined {
  if (!from?.bot) return undefined
  if (row.settings.answerBots !== true)
    return { outcome: "from a bot", reason: "it comes from another bot, and this channel does not answer bots" }
  if (!row.identity && kindOf(row.kind).readsByIdentity)
    return {
      outcome: "from a bot",
      reason: `it comes from a bot, and this channel does not know who it is itself: "wobbet channel check ${row.key}" asks`,
    }
  if (pace.botTurns <= botTurnsPerMinute) return undefined
  return {
    outcome: "loop stopped",
    reason: `more than ${botTurnsPerMinute} turns a minute with another bot and no person: this looks like two bots answering each other`,
  }
}

/** A time that is over for somebody who wants nothing that starts here. */
function dropped({ moment }: Message): Stop | undefined {
  if (!moment?.dropped) return undefined
  return { outcome: "opted out", reason: "the person has asked to be sent nothing that starts here" }
}

function wish(line: Line, { wish, text }: Message): Stop | undefined {
  if (wish === "stop") return { outcome: "opted out", reason: `"${text}" ends all sending to this number, until START` }
  if (line.optedOut && wish !== "start" && wish !== "maybe start")
    return {
      outcome: "opted out",
      reason: "this person asked to be sent nothing more; START would change that",
    }
  if (line.answeredBy === "person")
    return { outcome: "left to a person", reason: "a person answers in this conversation" }
  return undefined
}

function tooLate({ row }: KnownChannel, last: PendingMessage, now: Date): Stop | undefined {
  const { answerWithin } = row.settings as { answerWithin?: string | number }
  const within = answerWithin === undefined ? undefined : readDuration(answerWithin)
  const saidAt = last.message.sentAt ? new Date(last.message.sentAt) : last.receivedAt
  const age = now.getTime() - saidAt.getTime()
  if (within === undefined || age <= within || last.rejoined) return undefined
  return {
    outcome: "parked",
    cause: "too late",
    reason: `too late: it was said ${lengthInWords(age)} ago, and this channel answers within ${lengthInWords(within)}`,
    remedy: "Retry it to answer all the same, or drop it.",
  }
}

function tooMany(line: Line, last: PendingMessage, pace: Pace, most: number, now: Date): Stop | undefined {
  // Bots are held by their own limit.
  if (pace.minuteTurns <= most || last.rejoined || last.message.from?.bot) return undefined
  const othersWait = line.pending.some((one) => one.message.from?.address !== last.message.from?.address)
  if (!othersWait)
    // The person's own line waits until the minute is over.
    return { outcome: "set aside", again: Math.max(pace.minuteAt!.getTime() + 60_000 - now.getTime(), 100) }
  return {
    outcome: "parked",
    cause: "flood",
    reason: `set aside: more than ${most} turns a minute by one person while others wait`,
    remedy: "Retry it, or drop it.",
  }
}
