import type { Algorithm, Encoding } from "../signature/hmac.ts"

/** A text, in which `{name}` stands for a setting or for what is known when it is used. */
export type Template = string
/**
 * Where something stands: a form field's name, or a JSON Pointer (RFC 6901), which also leads through the elements of
 * XML (`/xml/Content`) and its attributes (`/sms/@id`); of several the first that is there.
 */
export type Where = Template | Template[]
export type BodyForm = "form" | "json" | "xml"
/** How a call of ours is written; `multipart` is form data as RFC 7578 has it, `query` stands in the address. */
export type SentForm = BodyForm | "multipart" | "query"

/** How a gateway speaks, written as data: what it calls us with, how it proves itself, and what it wants to be sent. */
export interface Profile {
  profile: string
  title: string
  /** Whether people are telephone numbers, kept in E.164, or names of the gateway's own. */
  addresses: "numbers" | "names"
  settings: { [name: string]: { says: string; required?: boolean; default?: string } }
  secrets: { [name: string]: { says: string; required?: boolean } }
  /** What it brings; left out where it only takes. */
  inbound?: Inbound
  /** Messages wait at the gateway and are fetched, instead of being brought. */
  queue?: Queue
  /** The reply goes back inside the HTTP answer to the call that brought the message. */
  inline?: Inline
  /** How something is said; left out where the gateway only brings. */
  outbound?: Outbound
  /** How our address is entered at the gateway, read back and taken away. */
  register?: Register
  /** The call that brings an attachment, where it lies under ids of the message's and its own. */
  fetch?: Calling & { answer?: { address: Where; mime?: Where; size?: Where } }
  /** What was said before the channel was connected: fetched once, kept, never answered. */
  history?: Calling & { each?: Where; content?: Where }
  /** What became of one message, asked for by our own mark or by the gateway's id. */
  find?: Calling & { answer: { each?: Where; id: Where; status?: Where; mark?: Where } }
  /** A call that tells whether the keys work. */
  check?: Calling & {
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

/** A name, which is a setting or a secret, with a password, which is a secret or nothing; or a bearer's secret. */
export type Authorization = { basic: [string, string] } | { bearer: string }

/** What a call holds: fields of a form or query, a JSON object, or an XML element. */
export interface Content {
  [name: string]: unknown
}

/** A call of ours to the gateway. Without an authorisation of its own it has that of `outbound`. */
export interface Calling {
  method: "POST" | "GET" | "PUT" | "PATCH" | "DELETE"
  address: Template
  authorization?: Authorization
  headers?: { [name: string]: Template }
  body?: SentForm
  send?: Content
}

/** What the gateway brings, and how its calls are told from anybody's. */
export interface Inbound {
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

export interface Register {
  /** In this order; `{inlet}` is our address, with the word in it where one proves calls. */
  set: Calling[]
  /** Kinds of event that are wanted, by the gateway's names: `{events}` in what is set. */
  events?: string[]
  read?: Calling & { answer: { address: Where; events?: Where; error?: Where; waiting?: Where } }
  remove?: Calling
}

export interface Outbound extends Calling {
  /** The gateway needs no receiver: whatever is sent goes to the one place it knows. */
  to?: "none"
  /** The call's, as people see it. */
  name: string
  body: SentForm
  numberForm?: Template
  send: Content
  /** What a picture or file adds. */
  media?: Content
  /** What an answer to one message adds; `{replyTo}` is its id. */
  reply?: Content
  /** What else may be said along with one message: what it means, and what it adds; `{value}` is what was given. */
  extra?: { [name: string]: { says: string; send: Content } }
  /** Calls that change, take back or react to a message (`{id}`), or show that an answer is being written. */
  amend?: Calling
  remove?: Calling
  react?: Calling
  typing?: Calling
  /** Characters of one message. */
  longest: number
  answer: {
    body: "json" | "xml"
    id?: Where
    code?: Where
    says?: Where
    /**
     * The gateway has refused a message where any of these places holds one of its values, whatever the status code;
     * `true` stands for anything but nothing, such as an error's words.
     */
    refused?: Conditions
  }
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
  | { scheme: "word"; header?: Template; query?: Template; field?: Where }
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
  /** What makes it a group, where another field says so. */
  group?: Conditions
  placeName?: Where
  text: Where
  time?: Where
  name?: Where
  replyTo?: Where
  /** What the answered message said. */
  quote?: Where
  /** What makes it one that mentions us; `{number}` among the values is our own. */
  mention?: Conditions
  /** What makes it a message that was changed, or taken back, and where the id of that stands. */
  edited?: Change
  deleted?: Change
  /** A reaction to the message whose id stands at `to`; one without an emoji takes it back. */
  reaction?: { when?: Template[]; only?: Conditions; emoji: Where; to: Where; removed?: Conditions }
  choice?: { id: Where; label: Where }
  location?: { latitude: Where; longitude: Where; name?: Where }
  /** Numbered fields, from 0; or, without a count, one thing; or a list, whose pieces have an address or an id. */
  media?:
    | { count?: Where; address: Template; mime: Template }
    | { each: Where; address?: Where; id?: Where; mime?: Where; name?: Where; size?: Where }
  optOut?: Where
  /** Other fields of the call, by the names under which conditions and handlers know them. */
  fields?: { [name: string]: Where }
}

export interface Change {
  when?: Template[]
  only?: Conditions
  /** The id of the message that was changed. */
  to?: Where
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
  ask: Calling & {
    /** Seconds the gateway holds the call open when nothing waits; it is asked again at once. */
    holds: number
  }
  /** The list, or the single thing, that came; without it, the whole answer. */
  each?: Where
  /** By what one is removed. */
  handle: Where
  /** What of it is the message as it would have been brought; without it, all of it. */
  content?: Where
  remove: Calling
  /** Seconds for which the gateway keeps what nobody fetches. */
  keeps?: number
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
