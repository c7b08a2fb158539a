import type Joi from "joi"
import type { Message, Place } from "../message/message.ts"
import type { ReplyPart } from "../message/reply.ts"

/**
 * What Wobbet knows of one kind of channel. All pure: a kind reads calls and *describes* requests; the engine
 * performs them. Adding a kind is filling in this contract once more.
 */
export interface ChannelKind {
  kind: string
  /** The provider's name, as people know it. */
  provider: string
  /** May be shown. */
  settings: Joi.ObjectSchema
  /** Sealed and write-only. */
  secrets: Joi.ObjectSchema
  /** Secrets made by Wobbet when none are given: name to number of random characters. */
  madeSecrets: Record<string, number>
  abilities: Abilities
  pace: Pace
  /** An answer that needs no verdict: a handshake, or a person looking at the address. */
  greet(call: InboundCall, channel: Channel): InletAnswer | undefined
  verify(call: InboundCall, channel: Channel, now: Date): Verdict
  /** Never throws on odd input. */
  parse(call: InboundCall, channel: Channel): Parsed
  /** The answer this provider wants to see for a genuine call. */
  acknowledge(call: InboundCall, parsed: Parsed): InletAnswer
  /** The same where the person should know that the answer will be late. */
  acknowledgeLate?(call: InboundCall, parsed: Parsed): InletAnswer
  /** Whether the provider brings this call again until it is answered with a 2xx. */
  repeats(call: InboundCall): boolean
  render(part: ReplyPart, place: Place, channel: Channel): Rendered
  judge(call: OutgoingCall, answer: ProviderAnswer): Outcome
  account: Account
  /** Receiving by asking; only for kinds that can. */
  polling?: Polling
}

/** A channel as the pure rooms see it. Secrets are here for `verify` only; rendered calls name them. */
export interface Channel {
  key: string
  kind: string
  settings: { [name: string]: unknown }
  secrets: { [name: string]: string }
  identity?: Identity
}

/** Who a channel's keys belong to at the provider. */
export interface Identity {
  id: string
  name?: string
  handle?: string
  /** Things worth knowing, in words. */
  remarks?: string[]
}

export interface InboundCall {
  method: string
  /** Path and query as received. */
  address: string
  /** Names in lower case. */
  headers: { [name: string]: string }
  body: Uint8Array
}

export interface InletAnswer {
  status: number
  headers?: { [name: string]: string }
  body?: string
}

export type Verdict = { genuine: true; by: string } | { genuine: false; why: string; remedy: string; near?: string }

/** One message read from a call, with what the provider repeats on redelivery and nothing else shares. */
export interface ParsedMessage {
  eventKey: string
  message: Message
  /** Calls due as soon as the message is taken up, such as telling the provider that a press was seen. */
  courtesies?: OutgoingCall[]
  /** Set when nothing may answer this: the bot's own words. */
  own?: boolean
}

export interface Parsed {
  messages: ParsedMessage[]
  /** Things seen that are no messages, in words. */
  notes: string[]
  /** Places that were given another address; their conversations go on under it. */
  moves: { from: string; to: string }[]
  /** Set when the call could not be read at all. */
  unreadable?: string
}

/**
 * A described request. `{secret}`, `{setting}` and `{place}` stand for values that are filled in at the socket: secrets
 * are never stored with a call, and a place that moved is reached under its new address.
 */
export interface OutgoingCall {
  /** The provider's own word for what is called; shown to people. */
  name: string
  method: "GET" | "POST" | "DELETE"
  address: (string | SecretName | SettingName)[]
  headers?: { [name: string]: string | SecretName }
  body?: { json: unknown } | { form: FormPart[] }
  /** Whether the call says something in a place, and so counts against that place's pace. */
  speaks: boolean
  /** Milliseconds. */
  timeout?: number
}

export interface SecretName {
  secret: string
}

export interface SettingName {
  setting: string
}

/** The address of the place a call speaks in; `as` says how the provider wants it written. */
export interface PlaceAddress {
  place: "address"
  as: "text" | "number"
}

export type FormPart =
  { name: string; value: string | PlaceAddress } | { name: string; data: string; filename: string; mime: string }

export interface Rendered {
  calls: OutgoingCall[]
  /** What could not be shown natively, and what was done instead. */
  degraded: string[]
  /** Short tokens that stand for ids too long for the provider. */
  tokens: { token: string; id: string; label: string }[]
  /** Set when nothing sensible can be sent. */
  impossible?: string
}

export type ProviderAnswer =
  | { status: number; headers: { [name: string]: string }; body: string }
  /** No answer came. `sent` tells whether the request may have reached the provider. */
  | { failure: string; sent: boolean }

export type Outcome =
  | { outcome: "accepted"; providerId?: string }
  /** Not taken; worth trying again, after so many seconds where the provider says. */
  | { outcome: "again"; why: string; after?: number }
  | { outcome: "refused"; why: string; remedy?: string }
  /** The place has another address now; the same call will be taken there. */
  | { outcome: "moved"; to: string; why: string }
  /** The channel's keys no longer work: nothing of this channel can be sent. */
  | { outcome: "lockedOut"; why: string; remedy: string }
  /** The provider may or may not have taken it. */
  | { outcome: "unclear"; why: string }

export interface Abilities {
  /** UTF-16 units. */
  textLength: number
  captionLength: number
  buttons: number
  /** Bytes. */
  buttonIdLength: number
  buttonLabelLength: number
  media: readonly string[]
  markup: string
  /** Whether the provider tells when a message was delivered and read. */
  tellsDelivery: boolean
}

/** Messages the provider takes: in all, in one place, and in one group. */
export interface Pace {
  perSecond: number
  perPlace: { count: number; seconds: number }
  perGroup: { count: number; seconds: number }
}

export interface Account {
  /** Who am I? */
  check(channel: Channel): OutgoingCall
  readCheck(answer: ProviderAnswer): { identity: Identity } | { fault: string; remedy: string; lockedOut: boolean }
  /** Registers an address. */
  connect(channel: Channel, address: string): OutgoingCall
  disconnect(channel: Channel): OutgoingCall
  /** What is on record at the provider? */
  lookUp(channel: Channel): OutgoingCall
  readLookUp(answer: ProviderAnswer): { onRecord: OnRecord } | { fault: string; remedy: string; lockedOut: boolean }
  /** Says in words where the record and our address differ; nothing when they agree. */
  compare(channel: Channel, onRecord: OnRecord, address: string): string[]
}

export interface OnRecord {
  address?: string
  waiting?: number
  lastError?: { at?: string; says: string }
  events?: string[]
  connections?: number
}

export interface Polling {
  ask(channel: Channel, offset: string | undefined, seconds: number): OutgoingCall
  /** Each update as a call of its own, and the offset that confirms them. */
  read(answer: ProviderAnswer): PollResult
}

export type PollResult =
  | { updates: string[]; next?: string }
  | { conflict: string; remedy: string }
  | { fault: Outcome & { outcome: "again" | "lockedOut" } }
