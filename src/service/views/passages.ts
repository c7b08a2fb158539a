import { tableOf } from "../../engine/handlers/tables.ts"
import { together } from "../../core/message/gather.ts"
import type { Message } from "../../core/message/message.ts"
import type { Engine } from "../../engine/engine.ts"
import type { IntakeRow, IntakeSummary } from "../../store/intakeReads.ts"
import { intakeById, messagesOfIntakes } from "../../store/intakeReads.ts"
import type { AttemptRow, MessageRow, TurnRow } from "../../store/messages.ts"
import { attemptsOf, callsOf, leadOfTurn, messagesById, messagesOfTurn, turnsOf } from "../../store/messages.ts"
import type { ParkedRow } from "../../store/parked.ts"
import { parkedOfMessages } from "../../store/parked.ts"
import { releaseById } from "../../store/releases.ts"
import type {
  InterviewNote,
  MessageView,
  OnceView,
  Passage,
  PassagePath,
  PassageSummary,
  Stop,
} from "../../client/types.ts"
import type { OnceRow } from "../../store/onces.ts"
import { oncesOfMessages } from "../../store/onces.ts"
import type { RelayRow } from "../../store/relays.ts"
import { relaysOfMessages } from "../../store/relays.ts"
import type { WaitRow } from "../../store/waits.ts"
import { waitsOfMessages } from "../../store/waits.ts"
import type { Light } from "./stops.ts"
import { statusesOf } from "../../store/statuses.ts"
import { messageStops, sentStops, summaryStops } from "./stops.ts"

/** One passage whole: by the id of its intake, or of any message in it. */
export async function passageOf(engine: Engine, id: string): Promise<Passage | undefined> {
  const { database } = engine
  if (id.startsWith("itk_")) {
    const intake = await intakeById(database, id)
    return intake && passageOfIntake(engine, intake)
  }
  const [message] = await messagesById(database, [id])
  if (!message) return undefined
  if (message.intake) return passageOf(engine, message.intake)
  const lead = message.turn ? await leadOfReply(engine, message) : undefined
  if (lead?.intake) return passageOf(engine, lead.intake)
  if (lead ?? message.direction === "in") return passageOfMoment(engine, lead ?? message)
  return passageOfSend(engine, message)
}

/** The inbound message whose turn made a reply. */
async function leadOfReply(engine: Engine, reply: MessageRow): Promise<MessageRow | undefined> {
  const id = await leadOfTurn(engine.reading, reply.conversation, reply.turn!, reply.position)
  return id === undefined ? undefined : (await messagesById(engine.reading, [id]))[0]
}

async function passageOfIntake(engine: Engine, intake: IntakeRow): Promise<Passage> {
  const told = await messagesOfIntakes(engine.reading, [intake])
  const messages = await messagesById(engine.reading, told.get(intake.id)!)
  const { paths, light } = await pathsOf(engine, messages)
  const repeated = isRepeated(intake, messages)
  return {
    id: intake.id,
    channel: intake.channel,
    receivedAt: iso(intake.received_at),
    stops: summaryStops(intake, light, repeated),
    intake: {
      id: intake.id,
      via: intake.via,
      method: intake.method,
      address: intake.address,
      headers: intake.headers,
      body: intake.body.toString("utf8"),
      size: intake.body.length,
      answered: intake.answered,
      verdict: intake.verdict,
      ...(intake.unreadable ? { unreadable: intake.unreadable } : {}),
      notes: intake.notes ?? [],
      repeated,
    },
    paths,
  }
}

/** Something that happened to an interview without a call: a time is over, or somebody stepped in. */
async function passageOfMoment(engine: Engine, message: MessageRow): Promise<Passage> {
  const { paths, light } = await pathsOf(engine, [message])
  return {
    id: message.id,
    channel: message.channel,
    receivedAt: iso(message.receivedAt),
    stops: messageStops(message, light[0]!.replies),
    paths,
  }
}

/** Something sent without anybody having spoken: by a person, the API, an alert. */
async function passageOfSend(engine: Engine, message: MessageRow): Promise<Passage> {
  const [reply] = await repliesWith(engine, [message])
  const path: PassagePath = {
    message: messageView(message),
    turns: [],
    decision: [],
    replies: [reply!],
    parked: reply!.parked,
  }
  const none = (stop: Stop["stop"]): Stop => ({ stop, state: "skipped" })
  return {
    id: message.id,
    channel: message.channel,
    receivedAt: iso(message.receivedAt),
    stops: [
      none("received"),
      none("verified"),
      none("parsed"),
      none("routed"),
      none("handled"),
      ...sentStops([message]),
    ],
    paths: [path],
  }
}

async function pathsOf(engine: Engine, messages: MessageRow[]): Promise<{ paths: PassagePath[]; light: Light[] }> {
  const ids = messages.map((message) => message.id)
  const { database } = engine
  const [ownTurns, parked, courtesies] = await Promise.all([
    turnsOf(database, ids),
    parkedOfMessages(database, ids),
    attemptsOf(database, ids),
  ])
  // What several messages of one turn share stands with the last of them.
  const leads = await turnsOf(database, [
    ...new Set(ownTurns.map((turn) => turn.lead).filter((lead) => !ids.includes(lead))),
  ])
  const replyRows = await messagesById(database, [
    ...new Set([...ownTurns, ...leads, ...messages].flatMap((one) => one.replies ?? [])),
  ])
  const replies = await repliesWith(engine, replyRows)
  const onces = await oncesOfMessages(database, ids)
  const relays = await relaysOfMessages(database, ids)
  const waits = await waitsOfMessages(engine.reading, messages)
  const light: Light[] = []
  const paths = await Promise.all(
    messages.map(async (message) => {
      const turns = ownTurns
        .filter((turn) => turn.message === message.id)
        .map((turn) => leads.find((lead) => lead.turn === turn.turn) ?? turn)
      // Of a turn that waits, what was said early.
      const sent = new Set([...turns.flatMap((turn) => turn.replies ?? []), ...(message.replies ?? [])])
      light.push({ message, replies: replyRows.filter((reply) => sent.has(reply.id)) })
      return {
        message: messageView(message),
        turns: turns.map((turn, at) => turnView(turn, onces, at === turns.length - 1 ? relays : [])),
        ...waitingOf(waits.get(message.id)),
        decision: await decisionOf(engine, message, turns.at(-1)),
        replies: replies.filter((reply) => sent.has(reply.message.id)),
        courtesies: courtesies.filter((courtesy) => courtesy.message === message.id).map(attemptView),
        parked: parked.filter((one) => one.message === message.id).map(parkedView),
      }
    }),
  )
  return { paths, light }
}

/** Why each route did or did not take the message: worked out again with the release and the state of that time. */
async function decisionOf(
  engine: Engine,
  message: MessageRow,
  turn: TurnRow | undefined,
): Promise<PassagePath["decision"]> {
  if (!turn?.release || turn.stateBefore === null) return []
  // An interview was asked before any route; only an aside and a beginning are a route's.
  const { did } = turn.interview ?? {}
  if (did !== undefined && did !== "stood aside" && !String(did).startsWith("began")) return []
  const release = await releaseById(engine.reading, turn.release)
  const known = engine.channels.get(message.channel)
  if (!release || !known) return []
  const ofTurn = (await messagesInTurn(engine, message, turn)).map((one) => one.body as unknown as Message)
  const said = together(ofTurn)
  const situation = {
    message: turn.takenAs ? takenAs(said, turn.takenAs) : said,
    messages: ofTurn,
    channel: { key: message.channel, kind: known.row.kind },
    state: turn.facts?.migrated ?? turn.stateBefore,
    now: (message.sentAt ?? message.receivedAt).toISOString(),
    ...(turn.facts ? { facts: turn.facts } : {}),
  }
  return tableOf(release).explain(situation)
}

/** A text as the option it was taken for. */
function takenAs(message: Message, choice: NonNullable<Message["choice"]>): Message {
  return { ...message, event: "choice", choice }
}

/** The messages a turn was about: several where they were gathered. */
async function messagesInTurn(engine: Engine, message: MessageRow, turn: TurnRow): Promise<MessageRow[]> {
  const ids = await messagesOfTurn(engine.reading, message.conversation, turn.turn, message.position)
  return ids.length > 1 ? messagesById(engine.reading, ids) : [message]
}

async function repliesWith(engine: Engine, replies: MessageRow[]): Promise<PassagePath["replies"]> {
  const ids = replies.map((reply) => reply.id)
  const [calls, statuses, attempts, parked] = await Promise.all([
    callsOf(engine.reading, ids),
    statusesOf(engine.reading, ids),
    attemptsOf(engine.reading, ids),
    parkedOfMessages(engine.reading, ids),
  ])
  return replies.map((message) => ({
    message: messageView(message),
    calls: calls.get(message.id) ?? [],
    attempts: attempts.filter((attempt) => attempt.message === message.id).map(attemptView),
    statuses: statuses
      .filter((one) => one.message === message.id)
      .map(({ status, why, at }) => ({ status, why, at: iso(at) })),
    parked: parked.filter((one) => one.message === message.id).map(parkedView),
  }))
}

/** Whether a call told only of what was there already: its events are known, and none of their messages came with it. */
function isRepeated({ id, event_keys }: Pick<IntakeRow, "id" | "event_keys">, messages: MessageRow[]): boolean {
  if (messages.length === 0) return event_keys.length > 0
  return messages.some((message) => message.intake !== id)
}

/** Passages as lists show them, with their small rails. */
export async function summaries(engine: Engine, intakes: IntakeSummary[]): Promise<PassageSummary[]> {
  const messages = await messagesById(engine.reading, [...new Set(intakes.flatMap((intake) => intake.messages))])
  const replies = await messagesById(engine.reading, [...new Set(messages.flatMap((message) => message.replies ?? []))])
  return intakes.map((intake) => {
    const own = messages.filter((message) => intake.messages.includes(message.id))
    const repeated = isRepeated(intake, own)
    const paths = own.map((message) => ({
      message,
      replies: replies.filter((reply) => message.replies?.includes(reply.id)),
    }))
    const [first] = own
    return {
      id: intake.id,
      channel: intake.channel,
      receivedAt: iso(intake.received_at),
      stops: summaryStops(intake, paths, repeated),
      ...(first
        ? {
            conversation: first.conversation,
            title: first.title,
            address: first.address,
            text: first.text,
            event: first.event,
            message: first.id,
          }
        : {}),
      repeated,
    }
  })
}

/** A message as the API tells of it. */
export function messageView(row: MessageRow): MessageView {
  return {
    ...row,
    sentAt: row.sentAt && iso(row.sentAt),
    receivedAt: iso(row.receivedAt),
    handledAt: row.handledAt && iso(row.handledAt),
    settledAt: row.settledAt && iso(row.settledAt),
    toldAt: row.toldAt && iso(row.toldAt),
    since: row.since && iso(row.since),
    until: row.until && iso(row.until),
  }
}

function turnView(turn: TurnRow, onces: OnceRow[], relays: RelayRow[]): PassagePath["turns"][number] {
  const { startedAt, endedAt, interview } = turn
  return {
    ...turn,
    interview: interview as InterviewNote | null,
    onces: onces.filter((once) => isOf(once, turn)).map(onceView),
    ...relaysOf(turn, relays),
    startedAt: iso(startedAt),
    endedAt: iso(endedAt),
  }
}

function relaysOf(turn: TurnRow, relays: RelayRow[]): Pick<PassagePath["turns"][number], "relays"> {
  const own = relays.filter(({ message }) => message === turn.message).map(({ message: _message, ...rest }) => rest)
  return own.length > 0 ? { relays: own } : {}
}

function waitingOf(wait: WaitRow | undefined): Pick<PassagePath, "waiting"> {
  if (!wait?.kind) return {}
  const { kind, place, since, until, leases, leasedBy, leasedUntil, calls } = wait
  return {
    waiting: {
      ...{ kind, place: place!, leases, leasedBy, calls },
      since: iso(since),
      until: iso(until!),
      leasedUntil: leasedUntil && iso(leasedUntil),
    },
  }
}

function isOf(once: OnceRow, turn: TurnRow): boolean {
  return once.startedAt >= turn.startedAt && once.startedAt <= turn.endedAt
}

function onceView({ name, runs, startedAt, endedAt, value, threw }: OnceRow): OnceView {
  return { name, runs, startedAt: iso(startedAt), endedAt: endedAt ? iso(endedAt) : null, value: value ?? null, threw }
}

function attemptView(attempt: AttemptRow): PassagePath["replies"][number]["attempts"][number] {
  return { ...attempt, startedAt: iso(attempt.startedAt), endedAt: attempt.endedAt ? iso(attempt.endedAt) : null }
}

function parkedView(parked: ParkedRow): PassagePath["parked"][number] {
  return {
    id: parked.id,
    cause: parked.cause,
    reason: parked.reason,
    remedy: parked.remedy,
    since: iso(parked.since),
    decision: parked.decision,
    decidedBy: parked.decidedBy,
  }
}

function iso(date: Date): string {
  return date.toISOString()
}
