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

/** What became of a passage, in one word and a reason. */
export function railWord(stops: Stop[]): {
  word: string
  tone: "good" | "open" | "needs you" | "stopped" | "calm"
  why?: string
} {
  const stopped = stops.find((stop) => stop.state === "stopped")
  if (stopped)
    return {
      word: stoppedWords[stopped.stop],
      tone: needsYou(stopped) ? "needs you" : "stopped",
      ...(stopped.why ? { why: stopped.why } : {}),
    }
  const open = stops.find((stop) => stop.state === "under way")
  if (open) return { word: openWords[open.stop], tone: "open", ...(open.why ? { why: open.why } : {}) }
  const delivered = stops.find((stop) => stop.stop === "delivered" && stop.state === "done")
  if (delivered) return { word: delivered.why ?? "delivered", tone: "good" }
  if (stops.some((stop) => stop.stop === "sent" && stop.state === "done")) return { word: "answered", tone: "good" }
  const last = stops.filter((stop) => stop.why).at(-1)
  return { word: "kept", tone: "calm", ...(last?.why ? { why: last.why } : {}) }
}

/** A handler that failed and a reply that was not sent wait for a person; a forged or unrouted call is only worth knowing. */
export function needsYou(stop: Stop): boolean {
  return stop.state === "stopped" && (stop.stop === "handled" || stop.stop === "sent")
}

const stoppedWords: Record<Stop["stop"], string> = {
  received: "not received",
  verified: "refused",
  parsed: "unreadable",
  routed: "unanswered",
  handled: "failed",
  sent: "not sent",
  delivered: "not delivered",
}

const openWords: Record<Stop["stop"], string> = {
  received: "arriving",
  verified: "being verified",
  parsed: "being parsed",
  routed: "waiting",
  handled: "being handled",
  sent: "being sent",
  delivered: "on its way",
}
