import type { Said, Simulation, Unsigned } from "../channels/simulate.ts"
import { seconds, unsigned } from "../channels/simulate.ts"
import type { Channel } from "../channels/kind.ts"
import type { InboundCall } from "../channels/call.ts"
import { hmacOf, sortedHash } from "../signature/hmac.ts"
import { fillTemplate } from "./fields.ts"
import type { Clock, Conditions, Inbound, MessagePlaces, VerifyScheme, Where } from "./profile.ts"
import { profileOf } from "./shipped.ts"
import { coveredBy } from "./verify.ts"
import { writeXml } from "./xml.ts"

/** A gateway's call, written back from where its profile reads it. */
export const simulate: Simulation = {
  person: "+447700900998",
  call(said, channel, now) {
    const { inbound } = profileOf(channel)
    if (!inbound) return unsigned("json", "")
    const tree: Tree = {}
    const { message } = inbound
    const each = firstOf(message.each, channel)
    const put = (where: Where | undefined, value: unknown) => {
      const place = firstOf(where, channel)
      if (place === undefined || value === undefined) return
      putAt(tree, inbound.body === "form" ? [place] : stepsOf(each === undefined ? place : `${each}/0${place}`), value)
    }
    write(said, message, put, now, channel)
    return written(inbound, tree)
  },
  sign(call, channel, now) {
    const { inbound } = profileOf(channel)
    const scheme = inbound?.verify.find((one) => channel.secrets[one.secret] !== undefined)
    const made: InboundCall = {
      method: "POST",
      address: `/in/${channel.key}`,
      headers: { "content-type": call.type, "user-agent": "simulated" },
      body: Buffer.from(call.body),
    }
    return inbound && scheme ? proven(made, scheme, channel, now) : made
  },
}

type Tree = { [name: string]: unknown }
type Put = (where: Where | undefined, value: unknown) => void

function write(said: Said, message: MessagePlaces, put: Put, now: Date, channel: Channel): void {
  const { text, press, media, from, place, number } = said
  for (const [where, values] of Object.entries(message.only ?? {})) put(where, valueIn(values, channel))
  put(message.id, `simulated-${number}`)
  put(message.from, from.address)
  put(message.name, from.name)
  put(message.time, String(seconds(now)))
  put(message.place, place ?? from.address)
  if (place !== undefined)
    for (const [where, values] of Object.entries(message.group ?? {})) put(where, valueIn(values, channel))
  put(message.text, text ?? (press === undefined ? undefined : press))
  if (press !== undefined && message.choice) {
    put(message.choice.id, press)
    put(message.choice.label, text ?? press)
  }
  if (!media || !message.media) return
  if ("each" in message.media) {
    const { each, address, id, mime, name } = message.media
    const piece: Tree = {}
    for (const [where, value] of [
      [address ?? id, media.ref],
      [mime, media.mime],
      [name, media.name],
    ] as const) {
      const at = firstOf(where, channel)
      if (at !== undefined) putAt(piece, stepsOf(at), value)
    }
    return put(each, [piece])
  }
  put(message.media.count, "1")
  put(fillTemplate(message.media.address, { n: 0 }), media.ref)
  put(fillTemplate(message.media.mime, { n: 0 }), media.mime)
}

function valueIn(values: Conditions[string], { settings }: Channel): string | number | boolean {
  const [first = ""] = values
  return typeof first === "string" ? fillTemplate(first, settings) : first
}

function firstOf(where: Where | undefined, { settings }: Channel): string | undefined {
  const first = Array.isArray(where) ? where[0] : where
  return first === undefined ? undefined : fillTemplate(first, settings)
}

function stepsOf(pointer: string): string[] {
  const steps = (pointer.startsWith("/") ? pointer.slice(1) : pointer).split("/")
  return steps.map((step) => step.replaceAll("~1", "/").replaceAll("~0", "~"))
}

/** Puts a value where a pointer leads; what lies on the way is made. */
function putAt(tree: Tree, steps: string[], value: unknown): void {
  let at: Tree | unknown[] = tree
  steps.forEach((step, n) => {
    const here = at as Tree
    if (n === steps.length - 1) {
      Object.defineProperty(here, step, { value, enumerable: true, configurable: true, writable: true })
      return
    }
    const there = Object.hasOwn(here, step) ? here[step] : undefined
    const next = typeof there === "object" && there !== null ? there : /^\d+$/.test(steps[n + 1]!) ? [] : {}
    Object.defineProperty(here, step, { value: next, enumerable: true, configurable: true, writable: true })
    at = next as Tree
  })
}

function written({ body }: Inbound, tree: Tree): Unsigned {
  if (body === "json") return unsigned("json", JSON.stringify(tree))
  if (body === "xml") return unsigned("xml", writeXml(tree))
  const fields = Object.entries(tree).map(([name, value]): [string, string] => [name, String(value)])
  return unsigned("form", new URLSearchParams(fields).toString())
}

/** The call with what its gateway would prove it with. */
function proven(call: InboundCall, scheme: VerifyScheme, channel: Channel, now: Date): InboundCall {
  const secret = channel.secrets[scheme.secret]!
  const { settings } = channel
  const withHeader = (name: string, value: string): InboundCall => ({
    ...call,
    // A star stands for a part of the name that differs by gateway.
    headers: { ...call.headers, [fillTemplate(name, settings).toLowerCase().replace("*", "gateway")]: value },
  })
  switch (scheme.scheme) {
    case "word": {
      if (scheme.query !== undefined) return withQuery(call, { [fillTemplate(scheme.query, settings)]: secret })
      if (scheme.header !== undefined) return withHeader(scheme.header, secret)
      return withWord(call, firstOf(scheme.field, channel)!, secret, channel)
    }
    case "basic": {
      const pair = `${fillTemplate(scheme.user, settings)}:${secret}`
      return withHeader("authorization", `Basic ${Buffer.from(pair).toString("base64")}`)
    }
    case "sorted-hash": {
      const values = Object.fromEntries(scheme.of.map((name) => [name, timeFor(name, scheme.clock, now)]))
      const digest = sortedHash(scheme.algorithm, [secret, ...Object.values(values)]).toString(scheme.encoding)
      return withQuery(call, { ...values, [scheme.query]: digest })
    }
    case "address-and-form":
    case "body":
    case "template": {
      const timed = scheme.scheme === "template" && scheme.clock ? withClock(call, scheme.clock, now) : call
      const form = scheme.scheme === "address-and-form" && (call.headers["content-type"] ?? "").includes("form")
      const seen = { address: `${channel.publicBase ?? ""}${timed.address}`, body: call.body }
      const digest = hmacOf(scheme.algorithm, secret, coveredBy(scheme, timed, channel, seen, form))
      const name = fillTemplate(scheme.header, settings).toLowerCase().replace("*", "gateway")
      return { ...timed, headers: { ...timed.headers, [name]: digest.toString(scheme.encoding) } }
    }
  }
}

function timeFor(name: string, clock: Clock | undefined, now: Date): string {
  return clock?.query === name || /time|^at$|^ts$/i.test(name) ? String(seconds(now)) : `simulated${now.getTime()}`
}

function withClock(call: InboundCall, { header, query }: Clock, now: Date): InboundCall {
  if (query !== undefined) return withQuery(call, { [query]: String(seconds(now)) })
  return { ...call, headers: { ...call.headers, [header!.toLowerCase()]: String(seconds(now)) } }
}

function withQuery(call: InboundCall, fields: { [name: string]: string }): InboundCall {
  return { ...call, address: `${call.address}?${new URLSearchParams(fields).toString()}` }
}

/** A word in a field of the body. */
function withWord(call: InboundCall, field: string, word: string, channel: Channel): InboundCall {
  const { body } = profileOf(channel).inbound!
  const text = Buffer.from(call.body).toString("utf8")
  if (body === "form")
    return { ...call, body: Buffer.from(`${text}&${new URLSearchParams({ [field]: word }).toString()}`) }
  if (body === "xml") return call
  const tree = JSON.parse(text) as Tree
  putAt(tree, stepsOf(field), word)
  return { ...call, body: Buffer.from(JSON.stringify(tree)) }
}
