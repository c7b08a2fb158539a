import type { InboundCall } from "../src/core/channels/call.ts"
import type { Channel, ChannelKind } from "../src/core/channels/kind.ts"
import { kinds } from "../src/core/channels/registry.ts"
import { lookOn } from "../src/core/channels/renderReply.ts"
import { readSettings } from "../src/core/channels/settings.ts"
import { readMarkup } from "../src/core/message/markup.ts"
import { bodyWith, worstBodies, worstTexts } from "./worstInput.ts"

/** What the worst input of one sort costs, beside JSON.parse of the same bytes. */
export interface WorstCost {
  /** What reads it. */
  reader: string
  /** The input that took longest. */
  worst: string
  bytes: number
  /** Milliseconds. */
  took: number
  /** Of JSON.parse of the same bytes, as one text. */
  baseline: number
  /** How many times as long four times as much takes; 4 where the time grows with the length. */
  growth: number
}

const size = 1024 * 1024

/** Every kind's reading of a call, light markup, and rendering, each with the input that takes it longest. */
export function measureWorst(): WorstCost[] {
  const found = Object.values(kinds).map((kind) => {
    const channel = channelOf(kind)
    const inputs = [
      ...Object.entries(worstBodies).map(([name, make]) => [`body: ${name}`, make] as const),
      ...Object.entries(worstTexts).map(
        ([name, make]) => [`text: ${name}`, (length: number) => bodyWith(kind.kind, make(length))] as const,
      ),
    ]
    return worstOf(`${kind.kind}: reading a call`, inputs, (body) => {
      const call = callWith(kind, body)
      kind.verify(call, channel, new Date())
      kind.acknowledge(call, kind.parse(call, channel), channel)
    })
  })
  const texts = Object.entries(worstTexts)
  found.push(worstOf("light markup", texts, (text) => void readMarkup(text), size / 8))
  for (const kind of Object.values(kinds))
    found.push(
      worstOf(`${kind.kind}: rendering`, texts, (text) => void lookOn(kind, [{ part: "text", text }]), size / 32),
    )
  return found
}

/** A channel of a kind, with secrets that are made up. */
export function channelOf(kind: ChannelKind): Channel {
  const given = kind.kind === "custom" ? { profile: "plain-json" } : {}
  const secrets = { token: "1:a", appSecret: "s", signingSecret: "s", apiKey: "k", authToken: "a" }
  const identity = { id: "U1", handle: "bot", name: "Bot" }
  const settings = readSettings(kind, { ...kind.example, ...given }).value
  return { key: "quay", kind: kind.kind, settings, secrets, publicBase: "https://bots.example", identity }
}

export function callWith(kind: ChannelKind, body: string): InboundCall {
  const form = kind.kind === "sms" || (kind.kind === "slack" && !/^[[{"]/.test(body))
  const type = form ? "application/x-www-form-urlencoded" : "application/json"
  return { method: "POST", address: "/in/quay", headers: { "content-type": type }, body: Buffer.from(body) }
}

type Input = readonly [name: string, make: (length: number) => string]

function worstOf(reader: string, inputs: readonly Input[], read: (text: string) => void, length = size): WorstCost {
  let worst: WorstCost | undefined
  for (const [name, make] of inputs) {
    const whole = make(length)
    const took = timeOf(() => read(whole))
    if (worst && took <= worst.took) continue
    const quarter = make(length / 4)
    const quoted = JSON.stringify(whole)
    worst = {
      reader,
      worst: name,
      bytes: Buffer.byteLength(whole),
      took,
      baseline: timeOf(() => JSON.parse(quoted)),
      growth: took / timeOf(() => read(quarter)),
    }
  }
  return worst!
}

/** The better of two, as the less disturbed. */
function timeOf(run: () => unknown): number {
  const times = [0, 0].map(() => {
    const begun = performance.now()
    run()
    return performance.now() - begun
  })
  return Math.min(...times)
}
