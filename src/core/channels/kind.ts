import type { InboundCall, InletAnswer, OutgoingCall, ProviderAnswer, Upload } from "./call.ts"
import type Joi from "joi"
import type { Message, Place } from "../message/message.ts"
import type { ReplyPart } from "../message/reply.ts"
import type { Proof } from "../signature/proof.ts"
import type { Profile } from "../gateway/profile.ts"
import type { Channel, Identity } from "./channel.ts"
import type { Look } from "./looks.ts"
import type { Operations } from "./operations.ts"
import type { Presenting } from "./presence.ts"
import type { Simulation } from "./simulate.ts"

export type { Channel, Identity }

/**
 * What Wobbet knows of one kind of channel. All pure: a kind reads calls and *describes* requests; the engine
 * performs them. Adding a kind is filling in this contract once more.
 */
export interface ChannelKind {
  kind: string
  /** The provider's name, as people know it. */
  provider: string
  /** What it is called beside other kinds, where that is not its provider's name. */
  title?: string
  /** Set where words such as STOP end all sending by law or by the carriers' rules. */
  stopWords?: true
  /** May be shown. */
  settings: Joi.ObjectSchema
  /** Sealed and write-only. */
  secrets: Joi.ObjectSchema
  /** The schemas of one channel, where they depend on what it is told and on how its gateway speaks. */
  schemasFor?(
    settings: { [name: string]: unknown },
    profile: Profile | undefined,
  ): { settings: Joi.ObjectSchema; secrets: Joi.ObjectSchema }
  /** Settings with which a reply can be rendered to be looked at; nothing is ever sent with them. */
  example?: { [name: string]: unknown }
  /** What a place is by its address alone, where the provider's addresses tell; otherwise a person's. */
  placeKind?(address: string): Place["kind"]
  /** An address as this kind keeps it, whatever form a person wrote it in; without it, as it was written. */
  addressOf?(given: string, channel: Channel): string
  /** Secrets made by Wobbet when none are given: name to number of random characters. */
  madeSecrets: Record<string, number>
  abilities: Abilities
  pace: Pace
  /** Whether a GET is the provider's handshake; any other is a person looking at the address. */
  isHandshake?(call: InboundCall, channel: Channel): boolean
  verify(call: InboundCall, channel: Channel, now: Date): Verdict
  /** How a call states that it is genuine, where it states it at all: for finding out why one was refused. */
  proof(call: InboundCall, channel: Channel): Proof | undefined
  /** Never throws on odd input. */
  parse(call: InboundCall, channel: Channel): Parsed
  /** The answer this provider wants to see for a genuine call. */
  acknowledge(call: InboundCall, parsed: Parsed, channel: Channel): InletAnswer
  /** The same where the person should know that the answer will be late. */
  acknowledgeLate?(call: InboundCall, parsed: Parsed): InletAnswer
  /** An answer its person sees, where a call that never comes again could not be kept. */
  refuseSeen?(call: InboundCall): InletAnswer | undefined
  /** Whether the provider brings this call again until it is answered with a 2xx. */
  repeats(call: InboundCall, channel: Channel): boolean
  /** @param offered how many options earlier parts of the same reply offered: numbered lists count on from there. */
  render(part: ReplyPart, place: Place, channel: Channel, offered?: number): Rendered
  /** What a person sees of a rendered call. */
  looks(call: OutgoingCall): Look
  judge(call: OutgoingCall, answer: ProviderAnswer, channel: Channel): Outcome
  account: Account
  /** What people see of a bot at its provider; not there where a gateway has no such. */
  presenting?: Presenting
  /** The provider's calls that can be tried with the channel's keys. */
  operations: Operations
  /** Calls as the provider would make them, to try a bot without a telephone. */
  simulate: Simulation
  /** Forwarding data of our own to the provider, where that takes a call of its own. */
  uploading?: Uploading
  /** Somebody named in a text, in light markup, where the provider has mentions; nothing for an address that is none. */
  mention?(address: string, label: string): string | undefined
  /** Whether a place's topic is the id of the message that its thread hangs on. */
  threads?: boolean
  /** Topics that a bot opens in a group; what the call gives as the id of what was said is the topic's. */
  topics?: {
    open(name: string): OutgoingCall
    /** Whether a refusal says that the topic was deleted. */
    isGone(why: string): boolean
  }
  /** Whether reading its calls depends on who the channel is at its provider. */
  readsByIdentity?: boolean
  /** Fetching what people sent. */
  fetching?: Fetching
  /** Asking whether something arrived. */
  doubts?: Doubts
  /** Asking the provider who somebody is; only for kinds whose messages carry no names. */
  people?: People
  /** Whether this channel's provider tells of delivery, where that differs within the kind. */
  tells?(channel: Channel): boolean
  /** Seconds its provider waits for the answer to a call; eight where nothing is said. */
  patience?: number
  /** Origins besides apiBase's to which the channel's keys may go; `https://*.example.org` stands for all under it. */
  keyHosts?: readonly string[]
  /** Bytes a call's body may have; 4 MB where nothing is said. */
  longestBody?: number
  /** Receiving by asking; nothing for a channel that is called. */
  polling?(channel: Channel): Polling | undefined
  /** What was said before the channel was connected; nothing where the provider does not tell. */
  history?(channel: Channel): History | undefined
  /** Whether calls may carry a secret in their body, which is then not kept as it came. */
  secretInBody?(channel: Channel): boolean
  /** What the channel cannot do, in words: only receive, only send. */
  cannot?(channel: Channel): { receive?: string; send?: string }
  /** What else may be said along with one message, and other fields of calls, by name and in words. */
  further?(channel: Channel): { extras: Further[]; fields: string[] }
  /** Answering inside the provider's own call; nothing for a channel that is not answered so. */
  inline?(channel: Channel): Inline | undefined
  /** What one answer must hold together, where a reply's parts cannot go one by one. */
  joined?(parts: ReplyPart[], channel: Channel): ReplyPart[]
}

/** What a kind says of answers that go back inside the provider's own call. */
export interface Inline {
  /** Seconds the provider waits. */
  within: number
  /** What stands at a place of that call. */
  field(call: InboundCall, where: string): string | undefined
}

/** For a call that is not genuine: `near` says what would have matched, `tried` that nothing close would have. */
export type Verdict =
  | { genuine: true; by: string }
  | {
      genuine: false
      why: string
      remedy: string
      near?: string
      tried?: string
      /** Set where its address and headers alone refute the call: no body could make it genuine. */
      byHead?: true
    }

/** One message read from a call, with what the provider repeats on redelivery and nothing else shares. */
export interface ParsedMessage {
  /** Empty where the provider gives no id: then every call tells of something new. */
  eventKey: string
  message: Message
  /** Calls due as soon as the message is taken up, such as telling the provider that a press was seen. */
  courtesies?: OutgoingCall[]
  /** Set when nothing may answer this: the bot's own words, or why else. */
  own?: true | string
  /** Set when it was said in the channel's own name, but not by the bot: by whom, as people know them. */
  by?: string
}

export interface Parsed {
  messages: ParsedMessage[]
  /** What became of messages sent earlier. */
  statuses: ParsedStatus[]
  /** Things seen that are no messages, in words. */
  notes: string[]
  /** Places that were given another address; their conversations go on under it. */
  moves: { from: string; to: string }[]
  /** What the operator must hear about the channel as a whole, such as authorisation that was taken away. */
  alarms?: Alarm[]
  /** Set where the provider says that the account works again: in words, how it says so. */
  recovered?: string
  /** Set when the call could not be read at all. */
  unreadable?: string
}

export function nothingParsed(): Parsed {
  return { messages: [], statuses: [], notes: [], moves: [] }
}

/** How far an outbound message got, by the provider's word. */
export interface ParsedStatus {
  status: DeliveryStatus
  /**
   * Which message: by the provider's id, by the mark our own call carried, or every message said in a place until a
   * time (ISO 8601).
   */
  about: { id?: string; mark?: string } | { upTo: string; place: string }
  why?: string
  /** ISO 8601, by the provider's clock. */
  at?: string
}

/** In the order a message goes through them. */
export const deliveryStatuses = ["sent", "delivered", "read", "failed"] as const
export type DeliveryStatus = (typeof deliveryStatuses)[number]

export interface Alarm {
  says: string
  remedy: string
  /** Whether nothing can be sent until a person has acted. */
  lockedOut: boolean
  /** Set where it is the account's state that tells so: another state ends it. */
  forState?: true
}

export interface Rendered {
  calls: OutgoingCall[]
  /** What could not be shown natively, and what was done instead. */
  degraded: string[]
  /** Short tokens that stand for ids too long for the provider. */
  tokens: { token: string; id: string; label: string }[]
  /** Set when nothing sensible can be sent. */
  impossible?: string
  /** Set when the part is left out because this kind cannot show it and nobody has to read it, such as typing. */
  leftOut?: string
}

export function nothingRendered(): Rendered {
  return { calls: [], degraded: [], tokens: [] }
}

export type Outcome =
  | { outcome: "accepted"; providerId?: string }
  /** Not taken; worth trying again, after so many seconds where the provider says. */
  | { outcome: "again"; why: string; after?: number }
  | { outcome: "refused"; why: string; remedy?: string; cause?: "too late" }
  /** The place has another address now; the same call will be taken there. */
  | { outcome: "moved"; to: string; why: string }
  /** The channel's keys no longer work: nothing of this channel can be sent. */
  | { outcome: "lockedOut"; why: string; remedy: string; forState?: true }
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
  /** Whether a message is changed only as a whole, so that taking its buttons away needs its words. */
  amendsWhole?: boolean
  /** Whether words such as STOP end all sending to whoever says them. */
  obeysStopWords?: boolean
  /** Whether the provider tells when a message was delivered and read. */
  tellsDelivery: boolean
  /** Seconds within which an echo or a status usually settles whether a doubtful message arrived. */
  settlesDoubt?: number
  /** Hours after a person's last words within which anything may be said to them. */
  window?: number
  /** How each part of a reply is shown. */
  parts: { [Part in ReplyPart["part"]]: Showing }
}

/** As the provider's own, in a simpler form of its own, as plain words, or not at all. */
export interface Showing {
  how: "native" | "simpler" | "words" | "left out"
  /** In words, with the limits that matter. */
  as: string
}

/** Messages the provider takes: in all, in one place, and in one group. */
export interface Pace {
  perSecond: number
  perPlace: { count: number; seconds: number }
  perGroup: { count: number; seconds: number }
}

export interface Account {
  /** Who am I? `isWell` where the answer says itself that the account's state is a good one. */
  check(channel: Channel): OutgoingCall | undefined
  readCheck(
    answer: ProviderAnswer,
    channel: Channel,
  ): { identity: Identity; alarm?: Alarm; isWell?: true } | { fault: string; remedy: string; lockedOut: boolean }
  /** Which permissions do the keys have? Not there where the check tells, or nobody does. */
  permissions?(channel: Channel): OutgoingCall
  /** The names of those that are missing; nothing where the provider does not tell. */
  readPermissions?(answer: ProviderAnswer): string[] | undefined
  /** How missing permissions are added, in words. */
  grant?: string
  /** Registers an address; not there where only a person in the provider's own pages can. */
  connect?(channel: Channel, address: string): OutgoingCall | OutgoingCall[] | undefined
  disconnect?(channel: Channel): OutgoingCall | undefined
  /** What is on record at the provider? Nothing where it does not tell. */
  lookUp?(channel: Channel): OutgoingCall | undefined
  /** What a person enters at the provider, where `connect` cannot do it: their name for a field, and our value. */
  byHand?(channel: Channel, address: string): HandValue[]
  /** The address with the secret that stands in it, encoded, and that secret's name; nothing where none does. */
  wholeAddress?(channel: Channel, address: string): { address: string; secret: string } | undefined
  readLookUp?(
    answer: ProviderAnswer,
    channel: Channel,
  ): { onRecord: OnRecord } | { fault: string; remedy: string; lockedOut: boolean }
  /** Says in words where the record and our address differ; nothing when they agree. */
  compare?(channel: Channel, onRecord: OnRecord, address: string): string[]
}

/** Something that may be said along with one message. */
export interface Further {
  name: string
  says: string
}

/** Asking for what was said before, and each message of the answer as a call of its own. */
export interface History {
  ask: OutgoingCall
  read(answer: ProviderAnswer): { updates: string[] } | { fault: string }
}

export interface Uploading {
  ask(upload: Upload, channel: Channel): OutgoingCall
  /** How the provider names it, for how many seconds it keeps it, and the call that brings the bytes, if not the first. */
  read(answer: ProviderAnswer, upload: Upload): { ref: string; lasts: number; then?: OutgoingCall } | undefined
}

/** Looking up whether a doubtful message arrived. */
export interface Doubts {
  /** Whether what this call said can be found by asking. */
  covers(call: OutgoingCall, channel: Channel): boolean
  /** Seconds within which asking usually settles it, where the kind's abilities say nothing. */
  within?: number
  /** Whether what came after a time is asked for: where it is not there, the time must have been early enough. */
  looksBack?: true
  ask(place: Place, since: Date, channel: Channel): OutgoingCall
  read(
    answer: ProviderAnswer,
    mark: string,
    channel: Channel,
  ): { arrived: "yes"; providerId: string } | { arrived: "no" } | { arrived: "unknown" }
}

export interface Fetching {
  /** The call that says where the content lies; not there where `ref` is the address itself. */
  find?(ref: string, channel: Channel): OutgoingCall | undefined
  readFind?(answer: ProviderAnswer, channel: Channel): { address: string; mime?: string; size?: number } | undefined
  /** The call that brings the content. */
  fetch(address: string, channel: Channel): OutgoingCall
}

export interface People {
  ask(address: string, channel: Channel): OutgoingCall
  /** Nothing when the provider does not say. */
  read(answer: ProviderAnswer): { name?: string; handle?: string; language?: string; bot?: boolean } | undefined
  /** The same for groups: what a place is called. */
  askPlace?(address: string, channel: Channel): OutgoingCall
  readPlace?(answer: ProviderAnswer): string | undefined
}

/** One thing a person enters or switches at the provider. */
export interface HandValue {
  field: string
  value: string
  /** Whether it is done, where the provider lets us see. */
  done?: boolean
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
  /** Seconds for which the provider keeps what is not fetched, where it is known. */
  keeps?: number
}

export type PollResult =
  /** `confirm` removes what came, once it is durable; `empty` where the provider had nothing. */
  | { updates: string[]; next?: string; confirm?: OutgoingCall[]; empty?: boolean }
  | { conflict: string; remedy: string }
  | { fault: Outcome & { outcome: "again" | "lockedOut" } }
