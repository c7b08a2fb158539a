import type { InboundCall } from "../src/core/channels/call.ts"
import type { Channel, ChannelKind } from "../src/core/channels/kind.ts"
import { kinds } from "../src/core/channels/registry.ts"
import { lookOn } from "../src/core/channels/renderReply.ts"
import { readSettings } from "../src/core/channels/settings.ts"
import { wishIn } from "../src/core/channels/sms/stopWords.ts"
import type { AnswerKind, Question } from "../src/core/interview/question.ts"
import { readAnswer } from "../src/core/interview/readAnswer.ts"
import { namesAddress } from "../src/core/message/addressInText.ts"
import { readCommand } from "../src/core/message/command.ts"
import { escapeMarkup } from "../src/core/message/escapeMarkup.ts"
import { joinCodeIn } from "../src/core/message/joinCode.ts"
import { plainText, readMarkup } from "../src/core/message/markup.ts"
import { mentionedIn, withMentionsAs } from "../src/core/message/mention.ts"
import { noticesWish } from "../src/core/message/noticesWish.ts"
import { splitMarked } from "../src/core/message/split.ts"
import { allowed } from "../src/core/model/said.ts"
import { readWords } from "../src/core/phrase/words.ts"
import type { Model } from "../src/core/model/model.ts"
import type { ModelQuestion } from "../src/core/model/request.ts"
import { questionMessages } from "../src/core/model/request.ts"
import { relayedParts, repeats } from "../src/core/relay/relay.ts"
import { optionMeant } from "../src/core/routing/optionMeant.ts"
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

const reading = { languages: ["en", "pt"], zone: "UTC", now: "2026-08-15T09:00:00Z", country: "GB" }
const place = { address: "1", kind: "direct" } as const

function answered(kind: AnswerKind, text: string): void {
  const options = [{ id: "a", label: "The 14:20" }]
  readAnswer({ kind, text: "?", options } as Question, { event: "text", place, text }, reading)
}

const smallModel: Model = {
  address: "https://m.example",
  model: "small",
  context: 8000,
  answer: 500,
  atOnce: 1,
  stall: 1000,
}
const groupQuestion: ModelQuestion = {
  ...{ instructions: "You are the pilot.", facts: [], person: {}, now: "2026-11-28T09:00:00Z", zone: "Europe/Lisbon" },
  ...{ length: 400, links: false, leave: false, memory: [], group: true, words: "", tools: [] },
}

/** Whatever else looks through what somebody wrote: each pattern and each scan that meets it is in one of these. */
const readers: { [reader: string]: (text: string) => void } = {
  "light markup": (text) => void readMarkup(text),
  "what was said, in a reply": (text) => void readMarkup(escapeMarkup(text)),
  "mentions in a reply that says it": (text) => {
    const parts = [{ part: "text" as const, text: `You said: ${escapeMarkup(text)}](mention:x` }]
    mentionedIn(parts)
    withMentionsAs(parts, () => undefined)
  },
  "a long reply, cut": (text) => void splitMarked(plainText(text), 4096),
  "a model's answer": (text) => void allowed(text, { length: 4000, linksIn: [], heard: [] }),
  "words, for phrases": (text) => void readWords(text),
  "an option that is meant": (text) => void optionMeant(text, [{ label: "The 14:20" }]),
  "commands and wishes": (text) => {
    readCommand(text)
    wishIn(text)
    noticesWish({ event: "text", place, text })
  },
  "a code to join with": (text) => void joinCodeIn(text),
  "a name in it": (text) => void namesAddress(text, "+447700900123"),
  "what is relayed": (text) => void relayedParts({ event: "text", place, text }, { by: text, kept: [] }),
  "what came back through a relay": (text) =>
    void repeats(
      text,
      Array.from({ length: 100 }, (_, n) => ({ words: `${text.slice(n)}x`, copied: text.slice(n), names: true })),
    ),
  "what somebody in a group says to a model": (text) => {
    const person = { name: text, address: "1" }
    void questionMessages({ ...groupQuestion, person, words: text }, smallModel)
  },
  "an answer that is a number": (text) => answered("number", text),
  "an answer that is a date": (text) => answered("date", text),
  "an answer that is a time": (text) => answered("time", text),
  "an answer that is a choice": (text) => answered("choice", text),
  "an answer that is yes or no": (text) => answered("yesNo", text),
  "an answer that is a telephone number": (text) => answered("phone", text),
  "an answer that is an address": (text) => answered("email", text),
  "an answer that is a list": (text) => answered("list", text),
}

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
  for (const [reader, read] of Object.entries(readers)) found.push(worstOf(reader, texts, read, size / 8))
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
