import { isDeepStrictEqual } from "node:util"
import Joi from "joi"
import type { Channel } from "../../core/channels/kind.ts"
import { custom } from "../../core/channels/custom/index.ts"
import { sampleIn } from "../../core/gateway/learn/sample.ts"
import type { Profile } from "../../core/gateway/profile.ts"
import { readExample } from "../../core/gateway/examples/request.ts"
import { withDefaults } from "../../core/gateway/settings.ts"
import { readYaml } from "../../core/message/yaml.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { replySchema } from "../../core/message/reply.ts"
import { renderReply } from "../../core/channels/renderReply.ts"
import { fillCall } from "../calls/fill.ts"
import { wallClock } from "../process/wallClock.ts"

/** A sample beside a profile: a call, and what must come out of it. */
export interface ProfileSample {
  name: string
  /** The call as HTTP: one that comes, or the one that must go out. */
  call: string
  /** YAML; without it, nothing says what must come out. */
  expect?: string
}

export interface SampleResult {
  name: string
  passed: boolean
  /** In words, what came out otherwise. */
  faults: string[]
  /** What came out, as it would be written down; where nothing says what must. */
  came?: object
}

interface Expectation {
  settings: { [name: string]: unknown }
  secrets: { [name: string]: string }
  at?: string
  genuine?: boolean
  messages?: object[]
  statuses?: object[]
  state?: string
  answer?: { status?: number; body?: string }
  reply?: string | ReplyPart[]
  to?: string
}

const texts = Joi.object().pattern(Joi.string(), Joi.string())
const list = Joi.array().items(Joi.object().unknown(true))
const expectation = Joi.object({
  settings: Joi.object().unknown(true).default({}),
  secrets: texts.default({}),
  at: Joi.string().isoDate(),
  genuine: Joi.boolean(),
  messages: list,
  statuses: list,
  state: Joi.string(),
  answer: Joi.object({ status: Joi.number(), body: Joi.string() }),
  reply: Joi.alternatives(Joi.string(), replySchema.min(1)),
  to: Joi.string().when("reply", { is: Joi.exist(), then: Joi.required(), otherwise: Joi.forbidden() }),
})

/** Runs the samples of a profile: nothing is kept, and nothing leaves. */
export function testProfile(profile: Profile, samples: ProfileSample[]): SampleResult[] {
  return samples.map((sample) => {
    try {
      return tested(profile, sample)
    } catch (error) {
      return { name: sample.name, passed: false, faults: [(error as Error).message] }
    }
  })
}

function tested(profile: Profile, { name, call, expect }: ProfileSample): SampleResult {
  const read = expect === undefined ? { value: {} } : expectationIn(expect)
  if ("fault" in read) return { name, passed: false, faults: [read.fault] }
  const { error, value } = expectation.validate(read.value, { abortEarly: false })
  if (error) return { name, passed: false, faults: error.details.map(({ message }) => message.replaceAll('"', "")) }
  const wanted = value as Expectation
  const channel: Channel = {
    key: "sample",
    kind: "custom",
    settings: withDefaults(wanted.settings, profile),
    secrets: wanted.secrets,
    profile,
    publicBase: `https://${/^host:\s*(\S+)/im.exec(call)?.[1] ?? "bots.example"}`,
  }
  if (wanted.reply !== undefined) return outcome(name, sentFaults(channel, wanted, call))
  const came = comesOut(channel, call, wanted)
  if (expect === undefined) {
    const { why, ...out } = came
    return { name, passed: false, faults: [`nothing says what must come out${why ? `; ${why}` : ""}`], came: out }
  }
  return outcome(name, inboundFaults(came, wanted))
}

function outcome(name: string, faults: string[]): SampleResult {
  return { name, passed: faults.length === 0, faults }
}

function expectationIn(text: string): { value: unknown } | { fault: string } {
  const read = readYaml(text)
  return "faults" in read
    ? { fault: `what must come out cannot be read: ${read.faults[0]!.says}` }
    : { value: read.value ?? {} }
}

/** What a call comes to: its verdict, its messages and reports, and how it is answered. */
function comesOut(
  channel: Channel,
  text: string,
  { at }: Expectation,
): Required<Pick<Expectation, "messages" | "statuses" | "answer">> &
  Pick<Expectation, "genuine" | "state"> & { why?: string } {
  const call = sampleIn(text)
  const verdict = custom.verify(call, channel, at === undefined ? wallClock("signature") : new Date(at))
  const parsed = custom.parse(call, channel)
  const { status, body } = custom.acknowledge(call, parsed, channel)
  const told = parsed.recovered ?? parsed.alarms?.[0]?.says
  const why = verdict.genuine ? parsed.unreadable : verdict.why
  return {
    ...(Object.keys(channel.secrets).length > 0 ? { genuine: verdict.genuine } : {}),
    messages: parsed.messages.map(({ message, own, eventKey }) => {
      const { event, place, from, providerId, ...rest } = message
      return {
        event,
        ...(providerId ? { id: providerId } : {}),
        from: from?.address,
        ...(from?.name ? { name: from.name } : {}),
        ...(place.address === from?.address ? {} : { place: place.address }),
        ...(place.kind === "direct" ? {} : { group: true }),
        ...rest,
        ...(own ? { own } : {}),
        ...(eventKey === providerId || eventKey === "" ? {} : { key: eventKey }),
      }
    }),
    statuses: parsed.statuses.map(({ about, status, why }) => ({ ...about, status, ...(why ? { why } : {}) })),
    ...(told === undefined ? {} : { state: told }),
    answer: { status, ...(body === undefined ? {} : { body }) },
    ...(why === undefined ? {} : { why }),
  }
}

function inboundFaults(came: ReturnType<typeof comesOut>, wanted: Expectation): string[] {
  const faults: string[] = []
  const genuine = wanted.genuine ?? (Object.keys(wanted.secrets).length > 0 ? true : undefined)
  if (genuine !== undefined && came.genuine !== genuine)
    faults.push(genuine ? `it is not genuine: ${came.why ?? "no secret is given"}` : "it is genuine, and must not be")
  for (const what of ["messages", "statuses"] as const) {
    const wants = wanted[what] ?? []
    const has = came[what]
    if (has.length !== wants.length)
      faults.push(
        `${has.length} ${what} came out, not ${wants.length}${came.why && has.length === 0 ? `: ${came.why}` : ""}`,
      )
    wants.forEach((one, n) => {
      if (has[n]) faults.push(...differences(one, has[n], `${what}.${n}`))
    })
  }
  if (wanted.state !== undefined && !came.state?.includes(wanted.state))
    faults.push(`the state is ${came.state ?? "not told"}, not ${wanted.state}`)
  if (wanted.answer) faults.push(...differences(wanted.answer, came.answer, "answer"))
  return faults
}

/** Where what came differs from what is wanted; what is not named may be anything. */
function differences(wanted: unknown, came: unknown, at: string): string[] {
  if (
    typeof wanted === "object" &&
    wanted !== null &&
    !Array.isArray(wanted) &&
    typeof came === "object" &&
    came !== null
  )
    return Object.entries(wanted).flatMap(([name, value]) =>
      differences(value, (came as { [name: string]: unknown })[name], `${at}.${name}`),
    )
  if (isDeepStrictEqual(wanted, came)) return []
  return [`${at} is ${came === undefined ? "not there" : JSON.stringify(came)}, not ${JSON.stringify(wanted)}`]
}

/** The call that a reply becomes, against the one that must go out. */
function sentFaults(channel: Channel, { reply, to }: Expectation, text: string): string[] {
  const parts: ReplyPart[] = typeof reply === "string" ? [{ part: "text", text: reply }] : reply!
  const address = custom.addressOf?.(to!, channel) ?? to!
  const rendered = renderReply(custom, parts, { address, kind: "direct" }, channel)
  const impossible = rendered.find((one) => one.rendered.impossible)?.rendered.impossible
  if (impossible) return [`it cannot be said: ${impossible}`]
  const [call] = rendered.flatMap((one) => one.rendered.calls)
  if (!call) return ["nothing goes out"]
  if (call.address.length === 0) return ["it is answered inside the call, which no sample shows"]
  const { url, headers, body } = fillCall(call, { channel, placeAddress: address, mark: "the-mark", uploaded: [] })
  const wanted = readExample(text)
  const sent = readExample(
    [
      `${call.method} ${url} HTTP/1.1`,
      ...Object.entries(headers).map(([name, value]) => `${name}: ${value}`),
      "",
      typeof body === "string" ? body : "",
    ].join("\n"),
  )
  const named = Object.fromEntries(
    Object.entries(wanted.headers).filter(([name]) => name !== "host" && name !== "content-length"),
  )
  return [
    ...differences({ method: wanted.method, url: wanted.url }, { method: sent.method, url: sent.url }, "call"),
    ...differences(named, sent.headers, "call.headers"),
    ...(isDeepStrictEqual(wanted.body, sent.body)
      ? []
      : differences({ body: wanted.body }, { body: sent.body }, "call")),
  ]
}
