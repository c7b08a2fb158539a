import { tokenMark } from "../../core/channels/choiceTokens.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { retryAfter, turnTries } from "../../core/delivery/retry.ts"
import { storable, storableJson } from "../../core/message/graphemes.ts"
import type { Message } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { replyFault } from "../../core/message/reply.ts"
import { optionMeant } from "../../core/routing/optionMeant.ts"
import type { Database } from "../../store/database.ts"
import type { Bell } from "../../store/bell.ts"
import { optIn } from "../../store/directory.ts"
import { faultPoint } from "../../store/faults.ts"
import { newId } from "../../store/ids.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import { parkOptedOut } from "../../store/outbox.ts"
import type { TurnRecord, TurnResult } from "../../store/turns.ts"
import { choicesBehind } from "../../store/turns.ts"
import { forgetUnderWay, noteUnderWay } from "../../store/underWay.ts"
import { withoutEchoes } from "./echoes.ts"
import type { KnownChannel } from "../channels.ts"
import type { HandlerAnswer, TurnInput } from "../handlers/handler.ts"
import { HandlerFault } from "../handlers/handler.ts"
import { handlerOf } from "../handlers/registry.ts"
import type { ReadyRelease } from "../handlers/handler.ts"
import type { People } from "../people/people.ts"
import type { Assembled } from "../replies/assemble.ts"
import { assemble, completed } from "../replies/assemble.ts"
import type { Renderer } from "../replies/renderer.ts"
import type { Courtesies } from "../sender/courtesies.ts"
import type { Sender } from "../sender/sender.ts"
import type { Plan } from "./decision.ts"
import { planOf } from "./decision.ts"
import type { Stop } from "./limits.ts"
import { paceOf } from "./limits.ts"

/** What a turn is taken with. */
export interface TurnParts {
  database: Database
  people: People
  courtesies: Courtesies
  sender: Sender | undefined
  renderer: Renderer
  bell: Bell
}

/** A turn that is about to be taken. */
interface Turn {
  line: Line
  known: KnownChannel
  release: ReadyRelease | undefined
  messages: PendingMessage[]
  /** The result as it stands before anything has been decided. */
  blank: TurnResult
}

/** What the turn came to: what of its result, and of its record, is no longer blank. */
type Ending = Partial<Omit<TurnResult, "turn">> & { turn: Partial<TurnRecord> }

/** Takes the turn of a group of messages: decides, runs the handler, renders what it says. Commits nothing. */
export async function takeTurn(
  parts: TurnParts,
  line: Line,
  known: KnownChannel,
  release: ReadyRelease | undefined,
  group: PendingMessage[],
): Promise<TurnResult> {
  const startedAt = new Date()
  const heard = await withoutEchoes(parts.database, known, line.conversation, group)
  const messages = await named(parts, known, await withChoices(parts.database, line, heard))
  const pace = paceOf(line, messages.at(-1)!.message, startedAt)
  const turn: Turn = { line, known, release, messages, blank: blankOf(line, release, group, startedAt) }
  Object.assign(turn.blank, pace)
  await obeyFirst(parts, turn, group)
  const plan = planOf({ line, known, release, messages, pace, now: startedAt })
  const { turn: record, ...rest } = await carryOut(parts, turn, plan)
  // Filled in where it stands: merging two objects of twenty fields each for every turn showed under load.
  Object.assign(turn.blank.turn, record)
  return Object.assign(turn.blank, rest)
}

function blankOf(line: Line, release: ReadyRelease | undefined, group: PendingMessage[], startedAt: Date): TurnResult {
  return {
    conversation: line.conversation,
    channel: line.channel,
    place: line.place,
    fence: line.fence,
    heard: group.at(-1)!.position,
    heardBefore: line.heard,
    seenNext: line.next,
    seenSaid: line.said,
    tries: 0,
    minuteAt: null,
    minuteTurns: 0,
    botTurns: 0,
    turn: {
      id: newId("trn"),
      messages: group.map((one) => one.id),
      outcome: "handled",
      reason: undefined,
      route: undefined,
      handler: undefined,
      release: release?.id,
      slots: undefined,
      takenAs: undefined,
      stateBefore: undefined,
      stateAfter: undefined,
      log: undefined,
      error: undefined,
      degraded: undefined,
      run: line.tries + 1,
      startedAt,
    },
    state: undefined,
    offered: undefined,
    again: undefined,
    parked: undefined,
    out: [],
    tokens: [],
  }
}

/** What is done before anything is decided: presses are confirmed, and wishes to get nothing more are obeyed. */
async function obeyFirst({ database, courtesies }: TurnParts, turn: Turn, group: PendingMessage[]): Promise<void> {
  const { line, known, messages, blank } = turn
  if (line.tries === 0) {
    for (const { id, courtesies: calls } of messages)
      if (calls.length > 0) courtesies.make(id, known, line.place.address, calls)
  }
  const [only] = messages
  if (messages.length === 1 && only!.message.choice !== group[0]!.message.choice)
    blank.turn.takenAs = only!.message.choice
  if (line.optedOut && only!.message.wish === "maybe start") await optIn(database, line.conversation)
  if (only!.message.wish === "stop") await parkOptedOut(database, line.conversation)
}

async function carryOut(parts: TurnParts, turn: Turn, plan: Plan): Promise<Ending> {
  const { line } = turn
  switch (plan.does) {
    case "stop":
      return stopped(turn, plan.stop)
    case "nothing":
      return { turn: { outcome: plan.outcome, reason: plan.reason, stateBefore: turn.release && line.state } }
    case "help": {
      const record = {
        outcome: "unrouted" as const,
        reason: "no route is met",
        handler: "help",
        stateBefore: line.state,
      }
      return ended(parts, turn, record, await said(parts, turn, [{ part: "text", text: plan.text }], plan.message))
    }
    case "run":
      return run(parts, turn, plan)
  }
}

/** Nothing is answered, and why. */
function stopped({ line, blank }: Turn, stop: Stop): Ending {
  if ("again" in stop)
    return {
      turn: { messages: [], outcome: "set aside" },
      heard: line.heard,
      again: stop.again,
      tries: line.tries,
      minuteTurns: blank.minuteTurns - 1,
    }
  const record = { outcome: stop.outcome, reason: stop.reason }
  if (!("cause" in stop)) return { turn: record }
  const { cause, reason, remedy } = stop
  return {
    turn: record,
    parked: { cause, reason, remedy },
    ...(cause === "flood" ? { minuteTurns: blank.minuteTurns - 1 } : {}),
  }
}

/** Runs the handler, and renders what it answers. */
async function run(parts: TurnParts, turn: Turn, plan: Plan & { does: "run" }): Promise<Ending> {
  const { line } = turn
  const { kind, written, name } = handlerOf(plan.handler)
  const record: Partial<TurnRecord> =
    plan.route === undefined
      ? { handler: name, stateBefore: line.state, outcome: "unrouted", reason: "no route is met" }
      : { handler: name, stateBefore: line.state, outcome: "handled", route: plan.route, slots: plan.slots }
  const told = tellIfSlow(parts, turn, name)
  try {
    if (FAULTS_BUILT) await faultPoint("turn: handler chosen")
    const answer = await kind.run(written, inputOf(turn, plan), turn.release!)
    if (FAULTS_BUILT) await faultPoint("turn: handler answered")
    if (answer.log.length > 0) record.log = answer.log.map(storable)
    const replies = await completed(parts.database, repliesIn(answer), turn.known)
    return ended(parts, turn, record, await said(parts, turn, replies, plan.message), answer.outcome.state)
  } catch (error) {
    if (!(error instanceof HandlerFault)) throw error
    return failed(turn, record, error)
  } finally {
    await told.over()
  }
}

/** Milliseconds after which a handler that runs is on record, so that nobody takes its message for waiting. */
const slowAfter = 1000

/** Puts a handler on record while it runs, if that takes long. What the record will not take changes nothing. */
function tellIfSlow({ database, bell }: TurnParts, { line, blank }: Turn, handler: string): { over(): Promise<void> } {
  const { id: _id, messages, startedAt } = blank.turn
  const turn = { conversation: line.conversation, fence: line.fence, messages, handler, since: startedAt }
  let noted: Promise<void> | undefined
  const timer = setTimeout(() => {
    noted = noteUnderWay(database, turn).then(
      () => bell.ring("live"),
      () => undefined,
    )
  }, slowAfter)
  return {
    async over() {
      clearTimeout(timer)
      if (!noted) return
      await noted
      await forgetUnderWay(database, turn).catch(() => undefined)
    },
  }
}

function inputOf({ line, known, messages, blank }: Turn, plan: Plan & { does: "run" }): TurnInput {
  const { message, slots } = plan
  return {
    message,
    messages: messages.map((message) => message.message),
    slots,
    state: line.state,
    contact: contactOf(message, messages.at(-1)!.contact),
    conversation: { id: line.conversation, place: line.place },
    channel: { key: line.channel, kind: known.row.kind },
    again: line.tries > 0,
    now: blank.turn.startedAt.toISOString(),
  }
}

function repliesIn({ outcome, log }: HandlerAnswer): ReplyPart[] {
  const replies = outcome.replies ?? []
  const fault = replyFault(replies)
  if (fault)
    throw new HandlerFault({ name: "ReplyFault", message: `the handler's reply cannot be said: ${fault}` }, log)
  return replies as ReplyPart[]
}

async function said(
  { renderer }: TurnParts,
  { line, known, blank, messages }: Turn,
  replies: ReplyPart[],
  lead: Message,
): Promise<Assembled> {
  const done = await assemble(renderer, replies, { line, known, lead, answers: blank.turn.messages })
  if (!messages.some(({ message }) => message.simulated === "captured")) return done
  // A real message among them does not make it safe to send: what was made up is answered nowhere.
  const out = done.out.map((message) => ({
    ...message,
    calls: message.calls.map((call) => ({ ...call, captured: true as const })),
  }))
  return { ...done, out }
}

/** The turn as it ends well: what is said, and the state it leaves. */
function ended(
  { sender }: TurnParts,
  { line }: Turn,
  record: Partial<TurnRecord>,
  { out, tokens, offered, degraded }: Assembled,
  given?: { [field: string]: unknown } | null,
): Ending {
  const [first] = out
  if (first && sender?.mayStart(line.channel, line.place, first.calls[0]!)) first.start = true
  const state = given === undefined ? undefined : storableJson(given ?? {})
  if (state !== undefined) record.stateAfter = state
  if (degraded.length > 0) record.degraded = degraded
  if (state === undefined && offered === undefined) return { turn: record, out, tokens }
  // One row holds both.
  return { turn: record, out, tokens, state: state ?? line.state, offered: offered ?? line.offered }
}

/** A failure is retried, then parked. */
function failed({ line }: Turn, record: Partial<TurnRecord>, fault: HandlerFault): Ending {
  const tries = line.tries + 1
  const error = storableJson(fault.error)
  const log = fault.log.length > 0 ? { log: fault.log.map(storable) } : {}
  const again = fault.error.name === "ReplyFault" ? undefined : retryAfter(tries, turnTries, Math.random)
  const turn = { ...record, ...log, reason: `the handler failed: ${error.message}`, error }
  if (again !== undefined) return { turn: { ...turn, outcome: "failed" }, heard: line.heard, again, tries }
  const times = tries > 1 ? ` (${tries} times)` : ""
  return {
    turn: { ...turn, outcome: "parked" },
    parked: {
      cause: "handler failed",
      reason: `the handler "${record.handler}" failed${times}: ${error.message}`,
      remedy: "Fix the handler, then retry.",
    },
  }
}

/** A token that came back is the choice it stands for; so is an option typed by hand, by its number or its words. */
async function withChoices(database: Database, line: Line, group: PendingMessage[]): Promise<PendingMessage[]> {
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
  const behind = await choicesBehind(database, tokens)
  return group.map((one) => {
    const meant = one.message.choice && behind.get(`${channel} ${one.message.choice.id}`)
    return meant ? { ...one, message: { ...one.message, choice: meant, text: meant.label } } : one
  })
}

/** The messages with the names of who said them, on kinds that tell none. */
async function named({ people }: TurnParts, known: KnownChannel, group: PendingMessage[]): Promise<PendingMessage[]> {
  if (!kindOf(known.row.kind).people) return group
  return Promise.all(
    group.map(async (one) =>
      // Nobody is asked about a person who was made up.
      one.message.simulated ? one : { ...one, message: await people.named(known, one.message) },
    ),
  )
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
