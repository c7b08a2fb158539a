import type { Channel, History, Polling } from "../channels/kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../channels/call.ts"
import { readJson } from "../message/json.ts"
import { at, textAt } from "./fields.ts"
import { judgeStatus } from "./judge.ts"
import { callOf } from "./calls.ts"
import type { Where } from "./profile.ts"
import { hasProfile, profileOf } from "./shipped.ts"
import { readXml } from "./xml.ts"

/**
 * Fetching from a gateway's queue: what came is made durable first and removed by its handle then, so that a break in
 * between brings it once more and loses nothing. Kinds of notification nobody knows are kept, and removed too.
 */
export function queuePolling(channel: Channel): Polling | undefined {
  const queue = hasProfile(channel) ? profileOf(channel).queue : undefined
  if (!queue) return undefined
  return {
    ...(queue.keeps === undefined ? {} : { keeps: queue.keeps }),
    ask: (): OutgoingCall => ({
      ...callOf(queue.ask, channel, { name: "fetch" }),
      timeout: (queue.ask.holds + 10) * 1000,
    }),
    read(answer) {
      if ("failure" in answer)
        return { fault: { outcome: "again", why: `the gateway could not be asked: ${answer.failure}` } }
      if (answer.status === 204 || (answer.status === 404 && answer.body.trim() === ""))
        return { updates: [], empty: true }
      if (answer.status < 200 || answer.status > 299) return { fault: asFault(answer, channel) }
      const items = itemsIn(answer.body, queue.each, channel)
      if (items.length === 0) return { updates: [], empty: true }
      const updates: string[] = []
      const handles: string[] = []
      for (const json of items) {
        const handle = textAt({ json }, queue.handle, channel.settings)
        const inside = queue.content === undefined ? json : (at({ json }, queue.content, channel.settings) ?? json)
        updates.push(JSON.stringify(inside))
        if (handle !== undefined) handles.push(handle)
      }
      return { updates, empty: false, confirm: handles.map((handle) => removal(handle, channel)) }
    },
  }
}

/** The things an answer holds: a list, a single one, or none. */
function itemsIn(body: string, each: Where | undefined, channel: Channel): unknown[] {
  const content = read(body, profileOf(channel).inbound?.body ?? "json")
  if (content === undefined || content === null) return []
  const found = each === undefined ? content : at({ json: content }, each, channel.settings)
  return found === undefined || found === null ? [] : Array.isArray(found) ? (found as unknown[]) : [found]
}

/** What was said before the channel was connected: read as messages are, oldest first, and answered by nobody. */
export function historyOf(channel: Channel): History | undefined {
  const history = hasProfile(channel) ? profileOf(channel).history : undefined
  if (!history) return undefined
  return {
    ask: { ...callOf(history, channel, { name: "history" }), timeout: 30_000 },
    read(answer) {
      if ("failure" in answer) return { fault: answer.failure }
      if (answer.status < 200 || answer.status > 299) return { fault: asFault(answer, channel).why }
      const items = itemsIn(answer.body, history.each, channel).slice(-mostHistory)
      const inside = (json: unknown) =>
        history.content === undefined ? json : (at({ json }, history.content, channel.settings) ?? json)
      return { updates: items.map((json) => JSON.stringify(inside(json))) }
    },
  }
}

/** Messages of the past that are taken. */
const mostHistory = 1000

function removal(handle: string, channel: Channel): OutgoingCall {
  return callOf(profileOf(channel).queue!.remove, channel, { name: "remove", values: { handle } })
}

function read(body: string, form: "json" | "form" | "xml"): unknown {
  if (body.trim() === "") return undefined
  try {
    return form === "xml" ? readXml(body) : readJson(Buffer.from(body))
  } catch {
    return { unreadable: body.slice(0, 2000) }
  }
}

function asFault(answer: Extract<ProviderAnswer, { status: number }>, channel: Channel) {
  const outcome = judgeStatus(answer, channel)
  if (outcome.outcome === "lockedOut") return outcome
  const why = "why" in outcome ? outcome.why : `answer ${answer.status}`
  const after = outcome.outcome === "again" ? outcome.after : undefined
  return { outcome: "again" as const, why, ...(after === undefined ? {} : { after }) }
}
