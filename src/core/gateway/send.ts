import type { Channel } from "../channels/kind.ts"
import type { OutgoingBody, OutgoingCall } from "../channels/call.ts"
import type { Values } from "./calls.ts"
import { bodyOf, callOf, filledDeep, prefixFor } from "./calls.ts"
import type { BodyForm, Content, Outbound, Profile } from "./profile.ts"
import { profileOf } from "./shipped.ts"

/** What is to be said: words, and the address of a picture or file. */
export interface Said {
  text: string
  media?: string
  /** Where it is said: a number may be reached by a way of its own. */
  to: string
  /** The id of the message it answers. */
  replyTo?: string
  /** What else is said along, by the names of the profile's `extra`. */
  extra?: { [name: string]: string }
  /** What people see the call named as, behind the profile's own word. */
  note?: string
}

/** The longest text of one message, in characters. */
export function longestOf(profile: Profile): number {
  return Math.min(
    profile.outbound?.longest ?? Number.POSITIVE_INFINITY,
    profile.inline?.longest ?? Number.POSITIVE_INFINITY,
  )
}

/** Whether the gateway takes media by their address. */
export function takesMedia(profile: Profile): boolean {
  return profile.outbound?.media !== undefined && profile.inline === undefined
}

/** Whether anything can be said at all. */
export function speaks(profile: Profile): boolean {
  return profile.outbound !== undefined || profile.inline !== undefined
}

/**
 * The call that says something: the gateway's own, the answer inside its call, or that with the other as a fallback. Only
 * for a profile that speaks.
 */
export function sayCall(said: Said, channel: Channel): OutgoingCall {
  const profile = profileOf(channel)
  const { outbound, inline } = profile
  const note = said.note === undefined ? "" : ` (${said.note})`
  const api = outbound && apiCall(said, channel, outbound, note)
  if (!inline) return api!
  const body = inlineBody(said, channel, profile)
  const answer = { within: inline.within, type: inline.type ?? typeOf(inline.body), body }
  if (api && inline.late === "api") return { ...api, inline: { ...answer, late: "api" } }
  const name = `answer in the call${note}`
  return { name, method: "POST", address: [], speaks: true, words: said.text, inline: { ...answer, late: "park" } }
}

function apiCall(said: Said, channel: Channel, outbound: Outbound, note: string): OutgoingCall {
  const send = [
    said.media === undefined ? undefined : outbound.media,
    said.replyTo === undefined ? undefined : outbound.reply,
    ...Object.keys(said.extra ?? {}).map((name) => {
      const extra = outbound.extra && Object.hasOwn(outbound.extra, name) ? outbound.extra[name] : undefined
      return extra && forExtra(extra.send, name)
    }),
  ].reduce<Content>((all, more) => (more === undefined ? all : merged(all, more)), outbound.send)
  const call = callOf({ ...outbound, send }, channel, {
    name: `${outbound.name}${note}`,
    values: valuesOf(said, channel),
    speaks: true,
  })
  return { ...call, words: said.text }
}

function valuesOf(said: Said, { settings }: Channel): Values {
  const extras = Object.entries(said.extra ?? {}).map(([name, value]) => [`extra:${name}`, value])
  return {
    ...(Object.fromEntries(extras) as Values),
    text: said.text,
    media: said.media ?? "",
    replyTo: said.replyTo ?? "",
    addressPrefix: prefixFor(said.to, settings),
  }
}

/** Content in which `{value}` is what was given for one extra. */
function forExtra(content: Content, name: string): Content {
  return JSON.parse(JSON.stringify(content).replaceAll("{value}", `{extra:${name}}`)) as Content
}

/** One content with another laid over it: what is an object in both is laid over inside. */
function merged(under: Content, over: Content): Content {
  const all: Content = { ...under }
  for (const [name, value] of Object.entries(over)) {
    const before = Object.hasOwn(all, name) ? all[name] : undefined
    all[name] = isContent(before) && isContent(value) ? merged(before, value) : value
  }
  return all
}

function isContent(value: unknown): value is Content {
  return typeof value === "object" && value !== null && !Array.isArray(value)
}

function inlineBody(said: Said, channel: Channel, profile: Profile): OutgoingBody {
  const inline = profile.inline!
  const values = valuesOf(said, channel)
  if (inline.text !== undefined) return { text: filledDeep(inline.text, channel, profile, values) }
  const sent = filledDeep(inline.send, channel, profile, values) as { [name: string]: unknown }
  return bodyOf(inline.body === "text" ? "json" : inline.body, sent)
}

function typeOf(body: BodyForm | "text"): string {
  return {
    form: "application/x-www-form-urlencoded",
    json: "application/json; charset=utf-8",
    xml: "application/xml; charset=utf-8",
    text: "text/plain; charset=utf-8",
  }[body]
}
