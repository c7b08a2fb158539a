import type { Stop } from "../../client/types.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { IntakeRow } from "../../store/intakeReads.ts"
import type { MessageRow } from "../../store/messages.ts"

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
      { ...parsed, why: "seen before, so long ago that it is no longer known as which message: nothing is done twice" },
      ...rest(["routed", "handled", "sent", "delivered"], "skipped"),
    ]
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

/** Why a call is not genuine, and what would have matched. */
function refusalInWords({ why, near }: Extract<IntakeRow["verdict"], { genuine: false }>): string {
  return `not genuine: ${why}${near ? `. ${near.replace(/\.$/, "")}` : ""}`
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

/** How far our own messages got. */
export function sentStops(replies: MessageRow[]): Stop[] {
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
  const toldAt = told?.toldAt ? { at: iso(told.toldAt) } : {}
  return [sent, told ? { stop: "delivered", state: "done", ...toldAt, why: told.status } : untold(replies[0]!)]
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
