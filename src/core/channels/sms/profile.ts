import Joi from "joi"
import { LineCounter, parseDocument } from "yaml"

/** A text, in which `{name}` stands for a setting or for what is known when it is used. */
type Template = string
/** Where something stands: a form field's name or a JSON Pointer (RFC 6901); of several the first that is there. */
export type Where = Template | Template[]

/** How a gateway speaks, written as data: what it calls us with, how it proves itself, and what it wants to be sent. */
export interface Profile {
  profile: string
  title: string
  settings: { [name: string]: { says: string; required?: boolean; default?: string } }
  secrets: { [name: string]: { says: string; required?: boolean } }
  inbound: {
    body: "form" | "json"
    /** Of these the one whose secret the channel has. */
    verify: VerifyScheme[]
    /** Whether the gateway brings a call again until it is taken. */
    repeats: boolean
    answer: { status: number; type?: string; text?: string }
    message: MessagePlaces
    status?: StatusPlaces
  }
  outbound: {
    /** The call's, as people see it. */
    name: string
    method: "POST" | "GET"
    address: Template
    authorization?: { basic: [string, string] } | { bearer: string }
    body: "form" | "json"
    numberForm?: Template
    send: { [name: string]: unknown }
    /** What a picture or file adds. */
    media?: { [name: string]: unknown }
    /** Characters of one message. */
    longest: number
    answer: { id?: Where; code?: Where; says?: Where }
    codes?: { refused?: (number | string)[]; lockedOut?: (number | string)[]; again?: (number | string)[] }
  }
  /** A call that tells whether the keys work. */
  check?: {
    method: "GET" | "POST"
    address: Template
    authorization?: { basic: [string, string] } | { bearer: string }
    answer: { id?: Where; name?: Where }
  }
  /** Whether the gateway tells of delivery. */
  tells: boolean
}

export type VerifyScheme = { secret: string } & (
  | {
      scheme: "address-and-form"
      header: Template
      algorithm: "sha1" | "sha256"
      encoding: "hex" | "base64"
      /** The field of the query that carries a hash of the body, where that is no form. */
      bodyHash?: string
    }
  | { scheme: "body"; header: Template; algorithm: "sha1" | "sha256"; encoding: "hex" | "base64" }
  | { scheme: "word"; header?: Template; query?: Template }
  | { scheme: "basic"; user: Template }
)

export interface MessagePlaces {
  /** The list, or the single thing, that holds messages; the whole body when left out. */
  each?: Where
  /** With any of these there, it is no message. */
  unless?: Template[]
  id?: Where
  from: Where
  text: Where
  time?: Where
  name?: Where
  replyTo?: Where
  choice?: { id: Where; label: Where }
  location?: { latitude: Where; longitude: Where; name?: Where }
  /** Numbered fields, from 0. */
  media?: { count: Where; address: Template; mime: Template }
  optOut?: Where
}

export interface StatusPlaces {
  each?: Where
  /** What all of them share. */
  shared?: Where
  when?: Template[]
  id?: Where
  mark?: Where
  status: Where
  why?: Where
  /** Words that make a call no status call. */
  ignore?: string[]
  words: { [theirs: string]: "sent" | "delivered" | "read" | "failed" }
}

export interface ProfileFault {
  line: number
  field: string
  says: string
}

const where = Joi.alternatives(Joi.string(), Joi.array().items(Joi.string()).min(1))
const named = (extra: Joi.SchemaMap = {}) =>
  Joi.object()
    .pattern(/^[a-z][A-Za-z0-9]*$/, Joi.object({ says: Joi.string().required(), required: Joi.boolean(), ...extra }))
    .default({})
const authorization = Joi.object({
  basic: Joi.array().ordered(Joi.string().required(), Joi.string().required()),
  bearer: Joi.string(),
}).xor("basic", "bearer")
const hashed = {
  header: Joi.string().required(),
  algorithm: Joi.valid("sha1", "sha256").required(),
  encoding: Joi.valid("hex", "base64").required(),
}
const scheme = Joi.object({
  scheme: Joi.valid("address-and-form", "body", "word", "basic").required(),
  secret: Joi.string().required(),
})
  .when(Joi.object({ scheme: Joi.valid("address-and-form") }).unknown(), {
    then: Joi.object({ ...hashed, bodyHash: Joi.string() }),
  })
  .when(Joi.object({ scheme: Joi.valid("body") }).unknown(), { then: Joi.object(hashed) })
  .when(Joi.object({ scheme: Joi.valid("word") }).unknown(), {
    then: Joi.object({ header: Joi.string(), query: Joi.string() }).or("header", "query"),
  })
  .when(Joi.object({ scheme: Joi.valid("basic") }).unknown(), { then: Joi.object({ user: Joi.string().required() }) })

const profileSchema = Joi.object({
  profile: Joi.string()
    .pattern(/^[a-z0-9][a-z0-9-]*$/)
    .required(),
  title: Joi.string().required(),
  settings: named({ default: Joi.string().allow("") }),
  secrets: named(),
  inbound: Joi.object({
    body: Joi.valid("form", "json").required(),
    verify: Joi.array().items(scheme).min(1).required(),
    repeats: Joi.boolean().default(false),
    answer: Joi.object({
      status: Joi.number().integer().min(200).max(299).required(),
      type: Joi.string(),
      text: Joi.string().allow(""),
    }).default({ status: 200 }),
    message: Joi.object({
      each: where,
      unless: Joi.array().items(Joi.string()),
      id: where,
      from: where.required(),
      text: where.required(),
      time: where,
      name: where,
      replyTo: where,
      choice: Joi.object({ id: where.required(), label: where.required() }),
      location: Joi.object({ latitude: where.required(), longitude: where.required(), name: where }),
      media: Joi.object({ count: where.required(), address: Joi.string().required(), mime: Joi.string().required() }),
      optOut: where,
    }).required(),
    status: Joi.object({
      each: where,
      shared: where,
      when: Joi.array().items(Joi.string()),
      id: where,
      mark: where,
      status: where.required(),
      why: where,
      ignore: Joi.array().items(Joi.string()),
      words: Joi.object()
        .pattern(Joi.string(), Joi.valid("sent", "delivered", "read", "failed"))
        .required(),
    }).or("id", "mark"),
  }).required(),
  outbound: Joi.object({
    name: Joi.string().default("message"),
    method: Joi.valid("POST", "GET").default("POST"),
    address: Joi.string().required(),
    authorization,
    body: Joi.valid("form", "json").required(),
    numberForm: Joi.string(),
    send: Joi.object().unknown(true).min(1).required(),
    media: Joi.object().unknown(true),
    longest: Joi.number().integer().min(70).default(1600),
    answer: Joi.object({ id: where, code: where, says: where }).default({}),
    codes: Joi.object({
      refused: Joi.array().items(Joi.number(), Joi.string()),
      lockedOut: Joi.array().items(Joi.number(), Joi.string()),
      again: Joi.array().items(Joi.number(), Joi.string()),
    }),
  }).required(),
  check: Joi.object({
    method: Joi.valid("GET", "POST").default("GET"),
    address: Joi.string().required(),
    authorization,
    answer: Joi.object({ id: where, name: where }).default({}),
  }),
  tells: Joi.boolean().default(false),
})

/** Reads a profile, or says for each fault on which line it stands, in which field, and what would be right. */
export function readProfile(source: string): { profile: Profile } | { faults: ProfileFault[] } {
  const lines = new LineCounter()
  const document = parseDocument(source, { lineCounter: lines })
  if (document.errors.length > 0) {
    return {
      faults: document.errors.map((error) => ({
        line: lines.linePos(error.pos[0]).line,
        field: "",
        says: error.message.split("\n")[0]!,
      })),
    }
  }
  const { error, value } = profileSchema.validate(document.toJS() as unknown, { abortEarly: false })
  if (!error) return { profile: value as Profile }
  const lineOf = (path: (string | number)[]): number => {
    for (let length = path.length; length >= 0; length--) {
      const node = document.getIn(path.slice(0, length), true) as { range?: [number, number, number] } | undefined
      if (node?.range) return lines.linePos(node.range[0]).line
    }
    return 1
  }
  return {
    faults: error.details.map((one) => ({ line: lineOf(one.path), field: one.path.join("."), says: one.message })),
  }
}
