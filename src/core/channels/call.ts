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

/**
 * A described request. `{secret}`, `{setting}` and `{place}` stand for values that are filled in at the socket: secrets
 * are never stored with a call, and a place that moved is reached under its new address.
 */
export interface OutgoingCall {
  /** The provider's own word for what is called; shown to people. */
  name: string
  method: "GET" | "POST" | "PUT" | "PATCH" | "DELETE"
  address: (string | SecretName | SettingName | PlaceAddress | CallMark)[]
  headers?: { [name: string]: HeaderValue }
  body?: OutgoingBody
  /** Brought to the provider first, unless it has them already; `{upload: n}` stands for what it calls the nth. */
  uploads?: Upload[]
  /** Whether the call says something in a place, and so counts against that place's pace. */
  speaks: boolean
  /** Milliseconds. */
  timeout?: number
  /** What it says, where its body does not show it in a form that is known. */
  words?: string
  /** Set where the message is said once this is taken: the calls behind it are for where it is refused. */
  ends?: true
  /** Set where the next call is made all the same when this one is refused. */
  mayFail?: true
  /** Set where it answers something that was said here to try the bot: nothing leaves. */
  captured?: true
  /** Set where a reply goes back inside the answer to the call that brought the message. */
  inline?: InlineAnswer
}

/** JSON; XML as a tree of names; text; multipart form data; form fields; fields of the address's query; or as given. */
export type OutgoingBody =
  | { json: unknown }
  | { xml: unknown }
  | { text: unknown }
  | { form: FormPart[] }
  | { fields: FormField[] }
  | { query: FormField[] }
  /** As it is written: nothing in it stands for anything else. */
  | { raw: string; type: string }

export interface InlineAnswer {
  /** Seconds the provider waits. */
  within: number
  type: string
  body: OutgoingBody
  /** When it comes too late: sent by the call itself, or parked. */
  late: "api" | "park"
  /** The messages it answers; one of their calls carries it. */
  answers?: string[]
}

/** Pieces are joined; `basic` is a name and a password as RFC 7617 wants them. */
export type HeaderValue =
  | string
  | SecretName
  | (string | SecretName | SettingName | CallMark)[]
  | { basic: [SecretName | SettingName, SecretName | ""] }

export interface FormField {
  name: string
  value: string | PlaceAddress | SecretName | SettingName | CallMark | { join: unknown[] }
}

/** Our own name for one call of one message, which some providers repeat in statuses and echoes. */
export interface CallMark {
  mark: "call"
}

export interface Upload {
  /** Base64. */
  data: string
  mime: string
  name: string
}

export interface SecretName {
  secret: string
  /** Whether it stands in an address's path or query, and is escaped for it. */
  escaped?: true
}

export interface SettingName {
  setting: string
  escaped?: true
}

/** The address of the place a call speaks in; `as` says how the provider wants it written. */
export interface PlaceAddress {
  place: "address"
  /** `digits` leaves out the plus sign of a telephone number. */
  as: "text" | "number" | "digits"
  /** Stands before the address. */
  prefix?: string
}

export type FormPart = FormField | { name: string; data: string; filename: string; mime: string }

export type ProviderAnswer =
  | { status: number; headers: { [name: string]: string }; body: string }
  /** No answer came. `sent` tells whether the request may have reached the provider. */
  | { failure: string; sent: boolean }
