import type { Algorithm, Encoding } from "../signature/hmac.ts"

/** A text, in which `{name}` stands for a setting or for what is known when it is used. */
export type Template = string
/**
 * Where something stands: a form field's name, or a JSON Pointer (RFC 6901), which also leads through the elements of
 * XML (`/xml/Content`) and its attributes (`/sms/@id`); of several the first that is there.
 */
export type Where = Template | Template[]
export type BodyForm = "form" | "json" | "xml"

/** How a gateway speaks, written as data: what it calls us with, how it proves itself, and what it wants to be sent. */
export interface Profile {
  profile: string
  title: string
  /** Whether people are telephone numbers, kept in E.164, or names of the gateway's own. */
  addresses: "numbers" | "names"
  settings: { [name: string]: { says: string; required?: boolean; default?: string } }
  secrets: { [name: string]: { says: string; required?: boolean } }
  inbound: {
    body: BodyForm
    handshake?: Handshake
    /** Of these the one whose secret the channel has. Empty where nothing ever calls. */
    verify: VerifyScheme[]
    /** Whether the gateway brings a call again until it is taken. */
    repeats: boolean
    answer: { status: number; type?: string; text?: string }
    message: MessagePlaces
    status?: StatusPlaces
    /** With any of these there, the gateway says that it brings nothing more; and where it says why. */
    ended?: { when: Template[]; why?: Where }
  }
  /** Messages wait at the gateway and are fetched, instead of being brought. */
  queue?: Queue
  /** The reply goes back inside the HTTP answer to the call that brought the message. */
  inline?: Inline
  outbound?: Outbound
  /** A call that tells whether the keys work. */
  check?: {
    method: "GET" | "POST"
    address: Template
    authorization?: Authorization
    headers?: { [name: string]: Template }
    answer: { id?: Where; name?: Where; state?: Where }
    /** Words of `state` with which nothing can be sent, and what they mean. */
    bad?: { [state: string]: string }
  }
  /** What the gateway tells of the account's state: with a bad one nothing can be sent until a person has acted. */
  state?: AccountState
  /** Whether the gateway tells of delivery. */
  tells: boolean
}

/** Where an account's state is told, which words are bad, and what a person has to do then. */
export interface AccountState {
  /** In a call of its own. */
  event?: { when?: Template[]; only?: Conditions; state: Where; why?: Where }
  /** In answers to what is sent. */
  answer?: Where
  /** Seconds after which `check` asks again; without it nobody asks. */
  every?: number
  /** Words with which nothing can be sent, and what they mean. */
  bad: { [state: string]: string }
  /** Words with which all is well. */
  good: string[]
  /** Where and how the account is linked again. */
  remedy: Template
}

export type Authorization = { basic: [string, string] } | { bearer: string }

export interface Outbound {
  /** The call's, as people see it. */
  name: string
  method: "POST" | "GET" | "PUT"
  address: Template
  authorization?: Authorization
  headers?: { [name: string]: Template }
  body: BodyForm | "query"
  numberForm?: Template
  send: { [name: string]: unknown }
  /** What a picture or file adds. */
  media?: { [name: string]: unknown }
  /** Characters of one message. */
  longest: number
  answer: { body: "json" | "xml"; id?: Where; code?: Where; says?: Where }
  codes?: { refused?: (number | string)[]; lockedOut?: (number | string)[]; again?: (number | string)[] }
}

/** The call by which a gateway makes sure of an address before it uses it. */
export interface Handshake {
  method: "GET" | "POST"
  /** What comes back as it came: a field of the query of a GET, a place in the body of a POST. */
  echo: Where
  /** How it proves itself; without it, as every other call does. */
  verify?: VerifyScheme[]
}

interface Hashed {
  algorithm: Algorithm
  encoding: Encoding
}

export type VerifyScheme = { secret: string } & (
  | ({
      scheme: "address-and-form"
      header: Template
      /** The field of the query that carries a hash of the body, where that is no form. */
      bodyHash?: string
    } & Hashed)
  | ({ scheme: "body"; header: Template } & Hashed)
  | ({
      /** Over a text of header values, fields of the query, address and body, such as `{header:x-time}.{body}`. */
      scheme: "template"
      header: Template
      over: Template
      clock?: Clock
    } & Hashed)
  | ({
      /** The secret and fields of the query, sorted, joined and hashed. */
      scheme: "sorted-hash"
      query: Template
      of: string[]
      clock?: Clock
    } & Hashed)
  | { scheme: "word"; header?: Template; query?: Template }
  | { scheme: "basic"; user: Template }
)

/** A time in the call, in seconds or milliseconds, and how many seconds it may be away from ours. */
export interface Clock {
  header?: string
  query?: string
  within: number
}

/** Values that a field must have, or none of which it may have. */
export type Conditions = { [where: string]: (string | number | boolean)[] }

export interface MessagePlaces {
  /** The list, or the single thing, that holds messages; without it, the whole body. */
  each?: Where
  /** With any of these there, it is not a message. */
  unless?: Template[]
  /** Only where each of these has one of its values. */
  only?: Conditions
  /** Where any of these has one of its values, it is our own word and answered by nothing. */
  own?: Conditions
  id?: Where
  from: Where
  /** The conversation, where that is another than the sender, such as a group. */
  place?: Where
  /** A word within `place` that makes it a group. */
  groups?: string
  placeName?: Where
  text: Where
  time?: Where
  name?: Where
  replyTo?: Where
  choice?: { id: Where; label: Where }
  location?: { latitude: Where; longitude: Where; name?: Where }
  /** Numbered fields, from 0; or, without a count, one thing. */
  media?: { count?: Where; address: Template; mime: Template }
  optOut?: Where
  /** Other fields of the call, by the names under which conditions and handlers know them. */
  fields?: { [name: string]: Where }
}

export interface StatusPlaces {
  each?: Where
  /** What all of them share. */
  shared?: Where
  when?: Template[]
  only?: Conditions
  id?: Where
  mark?: Where
  status: Where
  why?: Where
  /** Words that make a call no status call. */
  ignore?: string[]
  words: { [theirs: string]: "sent" | "delivered" | "read" | "failed" }
}

export interface Queue {
  ask: {
    method: "GET" | "POST"
    address: Template
    authorization?: Authorization
    headers?: { [name: string]: Template }
    /** Seconds the gateway holds the call open when nothing waits; it is asked again at once. */
    holds: number
  }
  /** The list, or the single thing, that came; without it, the whole answer. */
  each?: Where
  /** By what one is removed. */
  handle: Where
  /** What of it is the message as it would have been brought; without it, all of it. */
  content?: Where
  remove: {
    method: "DELETE" | "POST" | "GET"
    address: Template
    authorization?: Authorization
    headers?: { [name: string]: Template }
  }
}

export interface Inline {
  /** Seconds the gateway waits. */
  within: number
  body: BodyForm | "text"
  /** For `text`: what is said, in which `{text}` stands for the reply. */
  text?: Template
  send?: { [name: string]: unknown }
  /** Characters of one message. */
  longest: number
  type?: string
  /** What happens to a reply that comes too late: sent by the API, or parked. */
  late: "api" | "park"
}

/** What is wrong in a profile, where, and what would be right. */
export interface ProfileFault {
  /** From 1. */
  line: number
  field: string
  says: string
  remedy: string
}
