import type { Stop } from "./types.ts"

/** How each state of a stop is drawn in text; the console draws the same shapes. */
export const stopSigns: Record<Stop["state"], string> = {
  done: "●",
  "under way": "◐",
  stopped: "✕",
  ahead: "○",
  skipped: "·",
  untold: "○",
}

/** The rail in one line of text: `●─●─●─◐─○─○─○`. Where a passage stopped, the rail breaks. */
export function railText(stops: Stop[]): string {
  return stops
    .map((stop, at) => {
      const next = stops[at + 1]
      if (!next) return stopSigns[stop.state]
      return stopSigns[stop.state] + (stop.state === "stopped" ? " " : "─")
    })
    .join("")
}

/**
 * What became of a message or a call, in one word and a reason. The word is told by the service, at the stop that decides
 * it; every surface shows this one and no other.
 */
export function railWord(stops: Stop[]): {
  word: string
  tone: "good" | "open" | "needs you" | "stopped" | "calm"
  why?: string
} {
  const stopped = stops.find((stop) => stop.state === "stopped")
  if (stopped)
    return {
      word: stopped.word ?? stoppedWords[stopped.stop],
      tone: needsYou(stopped) ? "needs you" : "stopped",
      ...(stopped.why ? { why: stopped.why } : {}),
    }
  const open = stops.find((stop) => stop.state === "under way")
  // A reply the provider took is answered, whether or not it has told yet that it was delivered.
  if (open && open.stop !== "delivered")
    return { word: open.word ?? openWords[open.stop], tone: "open", ...(open.why ? { why: open.why } : {}) }
  const told = stops.findLast((stop) => stop.word !== undefined)
  const good = stops.some((stop) => stop.stop === "sent" && stop.state === "done")
  const last = told ?? stops.findLast((stop) => stop.why)
  return {
    word: told?.word ?? (good ? "answered" : "no message"),
    tone: good ? "good" : "calm",
    ...(!good && last?.why ? { why: last.why } : {}),
  }
}

/** A handler that failed and a reply that was not sent wait for a person; a forged or unrouted call is only worth knowing. */
export function needsYou(stop: Stop): boolean {
  return (
    stop.state === "stopped" && (stop.stop === "handled" || stop.stop === "sent") && !stop.word?.endsWith("dropped")
  )
}

const stoppedWords: Record<Stop["stop"], string> = {
  received: "not received",
  verified: "refused",
  parsed: "unreadable",
  routed: "unrouted",
  handled: "parked",
  sent: "reply failed",
  delivered: "not delivered",
}

const openWords: Record<Stop["stop"], string> = {
  received: "arriving",
  verified: "being verified",
  parsed: "being parsed",
  routed: "waiting",
  handled: "being handled",
  sent: "being answered",
  delivered: "answered",
}
