import { RouteTable } from "../core/routing/table.ts"
import { together } from "../core/message/gather.ts"
import type { Message } from "../core/message/message.ts"
import type { Engine } from "../engine/engine.ts"
import type { IntakeRow, IntakeSummary } from "../store/intake.ts"
import { intakeById, messagesOfIntake } from "../store/intake.ts"
import type { AttemptRow, MessageRow, TurnRow } from "../store/messages.ts"
import { attemptsOf, callsOf, leadOfTurn, messagesById, messagesOfTurn, turnsOf } from "../store/messages.ts"
import type { ParkedRow } from "../store/parked.ts"
import { parkedOfMessages } from "../store/parked.ts"
import { releaseById } from "../store/releases.ts"
import type { MessageView, Passage, PassagePath, PassageSummary, Stop } from "../client/types.ts"

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
  return passageOfSend(engine, message)
}

/** The inbound message whose turn made a reply. */
async function leadOfReply(engine: Engine, reply: MessageRow): Promise<MessageRow | undefined> {
  const id = await leadOfTurn(engine.database, reply.conversation, reply.turn!, reply.position)
  return id === undefined ? undefined : (await messagesById(engine.database, [id]))[0]
}

async function passageOfIntake(engine: Engine, intake: IntakeRow): Promise<Passage> {
  const messages = await messagesById(engine.database, await messagesOfIntake(engine.database, intake))
  const { paths, light } = await pathsOf(engine, messages)
  const repeated = messages.some((message) => message.intake !== intake.id)
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
    ...new Set([...ownTurns, ...leads].flatMap((turn) => turn.replies ?? [])),
  ])
  const replies = await repliesWith(engine, replyRows)
  const light: Light[] = []
  const paths = await Promise.all(
    messages.map(async (message) => {
      const turns = ownTurns
        .filter((turn) => turn.message === message.id)
        .map((turn) => leads.find((lead) => lead.turn === turn.turn) ?? turn)
      const sent = new Set(turns.flatMap((turn) => turn.replies ?? []))
      light.push({ message, replies: replyRows.filter((reply) => sent.has(reply.id)) })
      return {
        message: messageView(message),
        turns: turns.map(turnView),
        decision: await decisionOf(engine, message, turns.at(-1)),
        replies: replies.filter((reply) => sent.has(reply.message.id)),
        courtesies: courtesies.filter((one) => one.message === message.id).map(attemptView),
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
  const release = await releaseById(engine.database, turn.release)
  const known = engine.channels.get(message.channel)
  if (!release || !known) return []
  const ofTurn = (await messagesInTurn(engine, message, turn)).map((one) => one.body as unknown as Message)
  const situation = {
    message: together(ofTurn),
    messages: ofTurn,
    channel: { key: message.channel, kind: known.row.kind },
    state: turn.stateBefore,
  }
  return new RouteTable(release.definition).explain(situation)
}

/** The messages a turn was about: several where they were gathered. */
async function messagesInTurn(engine: Engine, message: MessageRow, turn: TurnRow): Promise<MessageRow[]> {
  const ids = await messagesOfTurn(engine.database, message.conversation, turn.turn, message.position)
  return ids.length > 1 ? messagesById(engine.database, ids) : [message]
}

async function repliesWith(engine: Engine, replies: MessageRow[]): Promise<PassagePath["replies"]> {
  const ids = replies.map((reply) => reply.id)
  const [calls, attempts, parked] = await Promise.all([
    callsOf(engine.database, ids),
    attemptsOf(engine.database, ids),
    parkedOfMessages(engine.database, ids),
  ])
  return replies.map((message) => ({
    message: messageView(message),
    calls: calls.get(message.id) ?? [],
    attempts: attempts.filter((one) => one.message === message.id).map(attemptView),
    parked: parked.filter((one) => one.message === message.id).map(parkedView),
  }))
}

/** Passages as lists show them, with their small rails. */
export async function summaries(engine: Engine, intakes: IntakeSummary[]): Promise<PassageSummary[]> {
  const messages = await messagesById(engine.database, [...new Set(intakes.flatMap((one) => one.messages))])
  const replies = await messagesById(engine.database, [...new Set(messages.flatMap((one) => one.replies ?? []))])
  return intakes.map((intake) => {
    const own = messages.filter((message) => intake.messages.includes(message.id))
    const repeated = own.some((message) => message.intake !== intake.id)
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
            text: first.text,
            event: first.event,
            message: first.id,
          }
        : {}),
      repeated,
    }
  })
}

/** A small rail for one message of a list. */
export function messageStops(message: MessageRow, replies: MessageRow[]): Stop[] {
  if (message.direction === "out") {
    const before: Stop[] = (["received", "verified", "parsed", "routed", "handled"] as const).map((stop) => ({
      stop,
      state: message.turn ? "done" : "skipped",
    }))
    return [...before, ...sentStops([message])]
  }
  return pathStops(message, replies)
}

type Light = { message: MessageRow; replies: MessageRow[] }

function summaryStops(
  intake: Pick<IntakeRow, "received_at" | "verdict" | "unreadable" | "notes" | "genuine">,
  paths: Light[],
  repeated: boolean,
): Stop[] {
  const at = iso(intake.received_at)
  const received: Stop = { stop: "received", state: "done", at }
  const rest = (stops: Stop["stop"][], state: Stop["state"] = "ahead"): Stop[] => stops.map((stop) => ({ stop, state }))
  if (!intake.verdict.genuine) {
    return [
      received,
      { stop: "verified", state: "stopped", at, why: `not genuine: ${intake.verdict.why}` },
      ...rest(["parsed", "routed", "handled", "sent", "delivered"]),
    ]
  }
  const verified: Stop = { stop: "verified", state: "done", at, why: intake.verdict.by }
  if (intake.unreadable) {
    return [
      received,
      verified,
      { stop: "parsed", state: "stopped", at, why: intake.unreadable },
      ...rest(["routed", "handled", "sent", "delivered"]),
    ]
  }
  const parsed: Stop = {
    stop: "parsed",
    state: "done",
    at,
    why: paths[0]?.message.event ?? intake.notes?.join("; ") ?? "nothing in it",
  }
  if (paths.length === 0)
    return [received, verified, parsed, ...rest(["routed", "handled", "sent", "delivered"], "skipped")]
  if (repeated) {
    const first = paths[0]!.message
    return [
      received,
      verified,
      { ...parsed, why: `seen before, as ${first.id}: nothing is done twice` },
      ...rest(["routed", "handled", "sent", "delivered"], "skipped"),
    ]
  }
  const all = paths.map((path) => pathStops(path.message, path.replies))
  // Of several messages in one call, the one that needs somebody is the one to show.
  const worst =
    all.find((stops) => stops.some((stop) => stop.state === "stopped")) ??
    all.find((stops) => stops.some((stop) => stop.state === "under way")) ??
    all[0]!
  return [received, verified, parsed, ...worst.slice(3)]
}

function pathStops(message: MessageRow, replies: MessageRow[]): Stop[] {
  const at = iso(message.receivedAt)
  const before: Stop[] = [
    { stop: "received", state: "done", at },
    { stop: "verified", state: "done", at },
    { stop: "parsed", state: "done", at },
  ]
  const handledAt = message.handledAt ? iso(message.handledAt) : undefined
  const when = handledAt ? { at: handledAt } : {}
  const why = message.reason ? { why: message.reason } : {}
  const ahead: Stop[] = [
    { stop: "handled", state: "ahead" },
    { stop: "sent", state: "ahead" },
    { stop: "delivered", state: "ahead" },
  ]
  const routed: Stop = {
    stop: "routed",
    state: "done",
    ...when,
    why: message.route ? `route "${message.route}"` : (message.reason ?? "unrouted"),
  }
  switch (message.status) {
    case "waiting":
      return [...before, { stop: "routed", state: "under way", why: "waits for its turn" }, ...ahead]
    case "handled":
    case "unrouted": {
      if (message.status === "unrouted" && replies.length === 0)
        return [...before, { stop: "routed", state: "stopped", ...when, ...why }, ...ahead]
      const handled: Stop = {
        stop: "handled",
        state: "done",
        ...when,
        why: replies.length === 1 ? "1 reply" : `${replies.length} replies`,
      }
      if (replies.length === 0)
        return [
          ...before,
          routed,
          { ...handled, why: "answered nothing" },
          { stop: "sent", state: "skipped" },
          { stop: "delivered", state: "skipped" },
        ]
      return [...before, routed, handled, ...sentStops(replies)]
    }
    case "retrying":
      return [...before, routed, { stop: "handled", state: "under way", ...when, ...why }, ...ahead.slice(1)]
    case "parked":
    case "dropped": {
      const decided: Stop =
        message.route || message.reason?.startsWith("the handler")
          ? { stop: "handled", state: "stopped", ...when, ...why }
          : { stop: "routed", state: "stopped", ...when, ...why }
      const reason = message.status === "dropped" ? { ...decided, why: `dropped; ${message.reason ?? ""}` } : decided
      return decided.stop === "handled" ? [...before, routed, reason, ...ahead.slice(1)] : [...before, reason, ...ahead]
    }
    default:
      // Own words, other bots, edits nobody asked for: nothing was to be done, and that is as it should be.
      return [
        ...before,
        { stop: "routed", state: "skipped", ...when, ...why },
        ...ahead.map((stop): Stop => ({ ...stop, state: "skipped" })),
      ]
  }
}

function sentStops(replies: MessageRow[]): Stop[] {
  const bad = replies.find((reply) => ["parked", "failed", "dropped"].includes(reply.status))
  const last = replies
    .map((reply) => reply.settledAt)
    .filter((at) => at !== null)
    .at(-1)
  const when = last ? { at: iso(last) } : {}
  const delivered: Stop = { stop: "delivered", state: "ahead" }
  if (bad) return [{ stop: "sent", state: "stopped", ...when, why: `${bad.status}: ${bad.reason ?? ""}` }, delivered]
  const open = replies.find((reply) => ["waiting", "sending"].includes(reply.status))
  if (open)
    return [
      {
        stop: "sent",
        state: "under way",
        ...when,
        why: open.reason ?? (open.status === "sending" ? "a call is under way" : "waits in its line"),
      },
      delivered,
    ]
  const ids = replies.map((reply) => reply.providerId).filter(Boolean)
  const sent: Stop = {
    stop: "sent",
    state: "done",
    ...when,
    why: ids.length > 0 ? `the provider's id ${ids.join(", ")}` : "accepted",
  }
  const told = replies.find((reply) => ["delivered", "read"].includes(reply.status))
  return [
    sent,
    told
      ? { stop: "delivered", state: "done", why: told.status }
      : { stop: "delivered", state: "untold", why: "Telegram does not tell" },
  ]
}

/** A message as the API tells of it. */
export function messageView(row: MessageRow): MessageView {
  return {
    ...row,
    sentAt: row.sentAt && iso(row.sentAt),
    receivedAt: iso(row.receivedAt),
    handledAt: row.handledAt && iso(row.handledAt),
    settledAt: row.settledAt && iso(row.settledAt),
  }
}

function turnView(turn: TurnRow): PassagePath["turns"][number] {
  return { ...turn, startedAt: iso(turn.startedAt), endedAt: iso(turn.endedAt) }
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
