import type { Stop } from "../../client/types.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { IntakeRow } from "../../store/intakeReads.ts"
import type { MessageRow } from "../../store/messages.ts"

/** A small rail for one message of a list. */
export function messageStops(message: MessageRow, replies: MessageRow[]): Stop[] {
  return message.direction === "out" ? ownStops(message) : pathStops(message, replies)
}

/** The stops of something we said: by the bot, by a person here, or by somebody else in our name. */
export function ownStops(message: MessageRow): Stop[] {
  if (message.origin === "elsewhere") {
    const why = `said by ${message.author ?? "somebody else"}, not by the bot: never answered`
    return [
      ...came(message),
      { stop: "routed", state: "skipped", why },
      { stop: "handled", state: "skipped" },
      ...sentStops([message], own),
    ]
  }
  const state = message.turn ? "done" : "skipped"
  const before: Stop["stop"][] = ["received", "verified", "parsed", "routed", "handled"]
  return [...before.map((stop): Stop => ({ stop, state })), ...sentStops([message], own)]
}

function came({ receivedAt, event }: MessageRow): Stop[] {
  const at = iso(receivedAt)
  // Nobody called: a time is over, or somebody stepped in here.
  if (event === "interview")
    return (["received", "verified", "parsed"] as const).map((stop) => ({ stop, state: "skipped" }))
  return (["received", "verified", "parsed"] as const).map((stop) => ({ stop, state: "done", at }))
}

/** A message and what was replied to it. */
export type Light = { message: MessageRow; replies: MessageRow[] }

/** The stops of a call: how far it, and what was in it, got. */
export function summaryStops(
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
      { stop: "verified", state: "stopped", at, why: refusalInWords(intake.verdict) },
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
  if (repeated && paths.length === 0)
    return [
      received,
      verified,
      {
        ...parsed,
        word: "seen before",
        why: "seen before, so long ago that it is no longer known as which message: nothing is done twice",
      },
      ...rest(["routed", "handled", "sent", "delivered"], "skipped"),
    ]
  if (paths.length === 0)
    return [
      received,
      verified,
      { ...parsed, word: "no message" },
      ...rest(["routed", "handled", "sent", "delivered"], "skipped"),
    ]
  if (repeated) {
    const first = paths[0]!.message
    return [
      received,
      verified,
      { ...parsed, word: "seen before", why: `seen before, as ${first.id}: nothing is done twice` },
      ...rest(["routed", "handled", "sent", "delivered"], "skipped"),
    ]
  }
  const all = paths.map((path) => messageStops(path.message, path.replies))
  // Of several messages in one call, the one that needs somebody is the one to show.
  const worst =
    all.find((stops) => stops.some((stop) => stop.state === "stopped")) ??
    all.find((stops) => stops.some((stop) => stop.state === "under way")) ??
    all[0]!
  return [received, verified, parsed, ...worst.slice(3)]
}

/** Why a call is not genuine, and what would have matched. */
function refusalInWords({ why, near }: Extract<IntakeRow["verdict"], { genuine: false }>): string {
  return `not genuine: ${why}${near ? `. ${near.replace(/\.$/, "")}` : ""}`
}

/** What a message's own status is called in its rail: by the same word as everywhere. */
function pathStops(message: MessageRow, replies: MessageRow[]): Stop[] {
  const before = came(message)
  const word = message.status
  const handledAt = message.handledAt ? iso(message.handledAt) : undefined
  const when = handledAt ? { at: handledAt } : {}
  const why = message.reason ? { why: message.reason } : {}
  const ahead = (["handled", "sent", "delivered"] as const).map((stop): Stop => ({ stop, state: "ahead" }))
  const routed: Stop = {
    stop: "routed",
    state: "done",
    ...when,
    why: message.route ? `route "${message.route}"` : (message.reason ?? "unrouted"),
  }
  switch (message.status) {
    case "waiting":
      return [
        ...before,
        { stop: "routed", state: "under way", word, why: message.reason ?? "waits for its turn" },
        ...ahead,
      ]
    case "being handled": {
      const since = message.since ? { at: iso(message.since) } : {}
      return [
        ...before,
        { stop: "routed", state: "done", ...since, ...(message.route ? { why: `route "${message.route}"` } : {}) },
        { stop: "handled", state: "under way", word, ...since, ...why },
        ...ahead.slice(1),
      ]
    }
    case "handled":
    case "unrouted": {
      if (message.status === "unrouted" && replies.length === 0)
        return [...before, { stop: "routed", state: "stopped", word, ...when, ...why }, ...ahead]
      if (replies.length === 0)
        return [
          ...before,
          routed,
          { stop: "handled", state: "done", word, ...when, why: "answered nothing" },
          { stop: "sent", state: "skipped" },
          { stop: "delivered", state: "skipped" },
        ]
      const many = replies.length === 1 ? "1 reply" : `${replies.length} replies`
      return [
        ...before,
        routed,
        { stop: "handled", state: "done", ...when, why: many },
        ...sentStops(replies, answering),
      ]
    }
    case "retrying":
      return [...before, routed, { stop: "handled", state: "under way", word, ...when, ...why }, ...ahead.slice(1)]
    case "parked":
    case "dropped": {
      const handled = message.route !== null || message.reason?.startsWith("the handler") === true
      const reason = message.status === "dropped" ? { why: `dropped; ${message.reason ?? ""}` } : why
      const decided: Stop = { stop: handled ? "handled" : "routed", state: "stopped", word, ...when, ...reason }
      return handled ? [...before, routed, decided, ...ahead.slice(1)] : [...before, decided, ...ahead]
    }
    default:
      // Own words, other bots, edits nobody asked for: nothing was to be done, and that is as it should be.
      return [
        ...before,
        { stop: "routed", state: "skipped", word, ...when, ...why },
        ...ahead.map((stop): Stop => ({ ...stop, state: "skipped" })),
      ]
  }
}

/** What an outbound message's status is called: its own, or what it means for the message it answers. */
type Words = (status: string) => string
const own: Words = (status) => status
const answering: Words = (status) =>
  ({
    waiting: "being answered",
    sending: "being answered",
    sent: "answered",
    failed: "reply failed",
    parked: "reply parked",
    dropped: "reply dropped",
  })[status] ?? status

/** How far our own messages got. */
export function sentStops(replies: MessageRow[], words: Words = own): Stop[] {
  const bad = replies.find((reply) => ["parked", "failed", "dropped"].includes(reply.status))
  const last = replies
    .map((reply) => reply.settledAt)
    .filter((at) => at !== null)
    .at(-1)
  const when = last ? { at: iso(last) } : {}
  const delivered: Stop = { stop: "delivered", state: "ahead" }
  if (bad) {
    const why = `${bad.status}: ${bad.reason ?? ""}`
    return [{ stop: "sent", state: "stopped", word: words(bad.status), ...when, why }, delivered]
  }
  const open = replies.find((reply) => ["waiting", "sending"].includes(reply.status))
  if (open)
    return [
      {
        stop: "sent",
        state: "under way",
        word: words(open.status),
        ...when,
        why: open.reason ?? (open.status === "sending" ? "a call is under way" : "waits in its line"),
      },
      delivered,
    ]
  if (replies.every((reply) => reply.status === "captured"))
    return [
      { stop: "sent", state: "done", word: "captured", ...when, why: "it answers a simulated message: nothing left" },
      { stop: "delivered", state: "skipped" },
    ]
  const ids = replies.map((reply) => reply.providerId).filter(Boolean)
  const sent: Stop = {
    stop: "sent",
    state: "done",
    word: words("sent"),
    ...when,
    why: ids.length > 0 ? `the provider's id ${ids.join(", ")}` : "accepted",
  }
  const told = replies.find((reply) => ["delivered", "read"].includes(reply.status))
  const toldAt = told?.toldAt ? { at: iso(told.toldAt) } : {}
  return [
    sent,
    told ? { stop: "delivered", state: "done", word: told.status, ...toldAt, why: told.status } : untold(replies[0]!),
  ]
}

/** Whether it came to be delivered: not known yet, or never to be known on this kind of channel. */
function untold(message: MessageRow): Stop {
  const { abilities, provider } = kindOf(message.kind)
  if (abilities.tellsDelivery) return { stop: "delivered", state: "under way", why: `${provider} has not told yet` }
  return { stop: "delivered", state: "untold", why: `${provider} does not tell` }
}

function iso(date: Date): string {
  return date.toISOString()
}
