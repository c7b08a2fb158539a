import type { Channel, Polling } from "../channels/kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../channels/call.ts"
import { readJson } from "../message/json.ts"
import { at, textAt } from "./fields.ts"
import { judgeStatus } from "./judge.ts"
import { addressOf, headersOf } from "./send.ts"
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
    ask: (): OutgoingCall => ({
      name: "fetch",
      method: queue.ask.method,
      address: addressOf(queue.ask.address, channel),
      ...headersOf(queue.ask, channel),
      speaks: false,
      timeout: (queue.ask.holds + 10) * 1000,
    }),
    read(answer) {
      if ("failure" in answer)
        return { fault: { outcome: "again", why: `the gateway could not be asked: ${answer.failure}` } }
      if (answer.status === 204 || (answer.status === 404 && answer.body.trim() === ""))
        return { updates: [], empty: true }
      if (answer.status < 200 || answer.status > 299) return { fault: asFault(answer, channel) }
      const content = read(answer.body, profileOf(channel).inbound.body)
      if (content === undefined || content === null) return { updates: [], empty: true }
      const found = queue.each === undefined ? content : at({ json: content }, queue.each, channel.settings)
      const items = found === undefined || found === null ? [] : Array.isArray(found) ? (found as unknown[]) : [found]
      const updates: string[] = []
      const handles: string[] = []
      for (const json of items) {
        const handle = textAt({ json }, queue.handle, channel.settings)
        const inside = queue.content === undefined ? json : (at({ json }, queue.content, channel.settings) ?? json)
        updates.push(JSON.stringify(inside))
        if (handle !== undefined) handles.push(handle)
      }
      return { updates, empty: items.length === 0, confirm: handles.map((handle) => removal(handle, channel)) }
    },
  }
}

function removal(handle: string, channel: Channel): OutgoingCall {
  const { remove } = profileOf(channel).queue!
  return {
    name: "remove",
    method: remove.method,
    address: addressOf(remove.address, channel, handle),
    ...headersOf(remove, channel),
    speaks: false,
  }
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
