import { createHmac } from "node:crypto"
import type { Channel, ChannelKind } from "../src/core/channels/kind.ts"
import type { InboundCall } from "../src/core/channels/call.ts"
import { kinds } from "../src/core/channels/registry.ts"
import { readSettings } from "../src/core/channels/settings.ts"
import type { ReplyPart } from "../src/core/message/reply.ts"
import { callsOf, channelsFor } from "./calls.ts"

/** What one kind costs in pure computation, beside what reading and signing the same bytes costs at the least. */
export interface KindRates {
  kind: string
  /** Verified and parsed a second, and `JSON.parse` with one HMAC of the same bytes a second. */
  read: number
  readBase: number
  /** Parts rendered a second: a text, a question with three options, a card. */
  rendered: number
}

const reply: ReplyPart[] = [
  { part: "text", text: "Next boat to Holm Island: **14:20**, 32 seats free.\nThen 15:20 and 16:20." },
  {
    part: "choices",
    text: "Which crossing would you like?",
    choices: ["14:20", "15:20", "16:20"].map((label) => ({ id: `crossing:${label}`, label })),
  },
  {
    part: "cards",
    cards: [
      {
        title: "Holm Island tours",
        subtitle: "Two hours, every morning at ten.",
        picture: "https://ferry.example/holm.png",
        choices: [
          { id: "tour:lighthouse", label: "Lighthouse walk" },
          { id: "tour:seals", label: "Seal bay" },
        ],
      },
    ],
  },
]

/**
 * Each kind in turn with its baseline, many times and briefly: the machine's speed may halve within a second. The best
 * of each counts, as the least disturbed.
 */
export function measureKinds(rounds: number, seconds = 0.03): KindRates[] {
  const made = channelsFor("https://provider.example", "https://bots.example").map(({ kind, settings, secrets }) => {
    const known = kinds[kind]!
    const channel: Channel = {
      key: "quay",
      kind,
      settings: readSettings(known, settings).value,
      secrets: secrets as unknown as Channel["secrets"],
      publicBase: "https://bots.example",
    }
    return { known, channel, rates: { kind, read: 0, readBase: 0, rendered: 0 } satisfies KindRates }
  })
  for (let slice = 0; slice < rounds * 8; slice++) {
    for (const { known, channel, rates } of made) {
      const { call, text } = sampleOf(known)
      const now = new Date()
      rates.readBase = Math.max(rates.readBase, rateOf(seconds, baseline(call.body, text)))
      rates.read = Math.max(
        rates.read,
        rateOf(seconds, () => {
          // A call of its own each time: what a kind remembers of one is no help with the next.
          const fresh = { ...call, body: Buffer.from(call.body.buffer, call.body.byteOffset, call.body.length) }
          if (!known.verify(fresh, channel, now).genuine) throw new Error(`${known.kind}: the sample is not genuine`)
          if (known.parse(fresh, channel).messages.length !== 1)
            throw new Error(`${known.kind}: the sample is not read`)
        }),
      )
      rates.rendered = Math.max(
        rates.rendered,
        rateOf(seconds, () => {
          for (const part of reply) known.render(part, { address: "447700900123", kind: "direct" }, channel)
        }) * reply.length,
      )
    }
  }
  return made.map(({ rates }) => rates)
}

function sampleOf(known: ChannelKind): { call: InboundCall; text: string } {
  const text = "When is the next crossing to Holm Island, please? We are two adults, a child and a dog."
  const given = { n: 1, person: 447700900, text, address: "https://bots.example/in/quay" }
  const { headers, body } = callsOf[known.kind]!(given)
  return { call: { method: "POST", address: "/in/quay", headers, body: Buffer.from(body) }, text: body }
}

/** A form cannot be read as JSON: what reads it is the platform's own reader of forms. */
function baseline(bytes: Uint8Array, text: string): () => void {
  const isJson = text.startsWith("{")
  return () => {
    const decoded = Buffer.from(bytes).toString("utf8")
    if (isJson) JSON.parse(decoded)
    else Object.fromEntries(new URLSearchParams(decoded))
    createHmac("sha256", "bench-secret").update(bytes).digest()
  }
}

/** How often something can be done in a second. */
function rateOf(seconds: number, run: () => void): number {
  const begun = performance.now()
  let times = 0
  let passed = 0
  while (passed < seconds * 1000) {
    for (let n = 0; n < 50; n++) run()
    times += 50
    passed = performance.now() - begun
  }
  return (times / passed) * 1000
}
