import Joi from "joi"
import { readDuration } from "../routing/duration.ts"

/** Names of settings, secrets, fields and extras. */
const fieldNames = /^[a-z][A-Za-z0-9]*$/
const where = Joi.alternatives(Joi.string(), Joi.array().items(Joi.string()).min(1))
const named = (extra: Joi.SchemaMap = {}) =>
  Joi.object()
    .pattern(fieldNames, Joi.object({ says: Joi.string().required(), required: Joi.boolean(), ...extra }))
    .default({})
const authorization = Joi.object({
  basic: Joi.array().ordered(Joi.string().required(), Joi.string().allow("").required()).length(2),
  bearer: Joi.string(),
}).xor("basic", "bearer")
const headers = Joi.object().pattern(/^[A-Za-z0-9-]+$/, Joi.string())
/** A header's name (RFC 9110, 5.6.2), perhaps a setting's, or with a star for a part of it. */
const header = Joi.string().pattern(/^[\w!#$%&'*+.^`|~{}-]+$/)
const algorithm = Joi.valid("sha1", "sha256", "sha512").required()
const encoding = Joi.valid("hex", "base64").required()
const clock = Joi.object({
  header,
  query: Joi.string(),
  within: Joi.number().integer().min(1).default(300),
}).xor("header", "query")

const schemes: { [name: string]: Joi.SchemaMap } = {
  "address-and-form": { header: header.required(), algorithm, encoding, bodyHash: Joi.string() },
  body: { header: header.required(), algorithm, encoding },
  template: { header: header.required(), over: Joi.string().required(), algorithm, encoding, clock },
  "sorted-hash": {
    query: Joi.string().required(),
    of: Joi.array().items(Joi.string()).min(1).required(),
    algorithm: algorithm.optional().default("sha1"),
    encoding: encoding.optional().default("hex"),
    clock,
  },
  word: { header, query: Joi.string(), field: where },
  basic: { user: Joi.string().required() },
}
const verify = Joi.array().items(
  Object.entries(schemes).reduce(
    (schema, [name, fields]) =>
      schema.when(Joi.object({ scheme: Joi.valid(name).required() }).unknown(), {
        then: name === "word" ? Joi.object(fields).or("header", "query", "field") : Joi.object(fields),
      }),
    Joi.object({ scheme: Joi.valid(...Object.keys(schemes)).required(), secret: Joi.string().required() }),
  ),
)

const conditions = Joi.object().pattern(
  Joi.string(),
  Joi.array().items(Joi.string().allow(""), Joi.number(), Joi.boolean()).single().min(1),
)
const codes = Joi.array().items(Joi.number(), Joi.string())

const methods = ["GET", "POST", "PUT", "PATCH", "DELETE"] as const
const content = Joi.object().unknown(true)

/** A call of ours; `extra` are fields that only this one has. */
function calling(method: (typeof methods)[number], extra: Joi.SchemaMap = {}): Joi.ObjectSchema {
  return Joi.object({
    method: Joi.valid(...methods).default(method),
    address: Joi.string().required(),
    authorization,
    headers,
    body: Joi.valid("form", "json", "xml", "multipart", "query"),
    send: content.min(1),
    ...extra,
  })
}

/** A length of time such as 60s or 2d, as seconds. */
const seconds = (least: string) =>
  Joi.alternatives(Joi.number(), Joi.string()).custom((value: number | string, helpers) => {
    const ms = readDuration(value)
    return ms === undefined || ms < readDuration(least)!
      ? helpers.message({ custom: "{#says}" }, { says: `"${value}" is not a length of time of ${least} or more` })
      : ms / 1000
  })

const change = Joi.object({ when: Joi.array().items(Joi.string()), only: conditions, to: where }).or("when", "only")

const message = Joi.object({
  each: where,
  unless: Joi.array().items(Joi.string()),
  only: conditions,
  own: conditions,
  id: where,
  from: where.required(),
  place: where,
  groups: Joi.string(),
  group: conditions,
  placeName: where,
  text: where.required(),
  time: where,
  name: where,
  replyTo: where,
  quote: where,
  mention: conditions,
  edited: change,
  deleted: change,
  reaction: Joi.object({
    when: Joi.array().items(Joi.string()),
    only: conditions,
    emoji: where.required(),
    to: where.required(),
    removed: conditions,
  }),
  choice: Joi.object({ id: where.required(), label: where.required() }),
  location: Joi.object({ latitude: where.required(), longitude: where.required(), name: where }),
  media: Joi.object({ each: where }).when(Joi.object({ each: Joi.exist() }).unknown(), {
    then: Joi.object({ address: where, id: where, mime: where, name: where, size: where }).xor("address", "id"),
    otherwise: Joi.object({ count: where, address: Joi.string().required(), mime: Joi.string().required() }),
  }),
  optOut: where,
  fields: Joi.object().pattern(fieldNames, where).max(50),
})

const status = Joi.object({
  each: where,
  shared: where,
  when: Joi.array().items(Joi.string()),
  only: conditions,
  id: where,
  mark: where,
  status: where.required(),
  why: where,
  ignore: Joi.array().items(Joi.string()),
  words: Joi.object()
    .pattern(Joi.string(), Joi.valid("sent", "delivered", "read", "failed"))
    .required(),
}).or("id", "mark")

/** The form of a profile; what its parts mean together is checked by `readProfile`. */
export const profileSchema = Joi.object({
  profile: Joi.string()
    .pattern(/^[a-z0-9][a-z0-9-]*$/)
    .required(),
  title: Joi.string().required(),
  addresses: Joi.valid("numbers", "names").default("numbers"),
  settings: named({ default: Joi.string().allow("") }),
  secrets: named(),
  inbound: Joi.object({
    body: Joi.valid("form", "json", "xml").required(),
    handshake: Joi.object({ method: Joi.valid("GET", "POST").default("GET"), echo: where.required(), verify }),
    verify: verify.default([]),
    repeats: Joi.boolean().default(false),
    answer: Joi.object({
      status: Joi.number().integer().min(200).max(299).default(200),
      type: Joi.string(),
      text: Joi.string().allow(""),
    }).default({ status: 200 }),
    message: message.required(),
    status,
    ended: Joi.object({ when: Joi.array().items(Joi.string()).min(1).required(), why: where }),
  }),
  queue: Joi.object({
    ask: calling("GET", { holds: Joi.number().min(0).max(60).default(5) }).required(),
    each: where,
    handle: where.required(),
    content: where,
    remove: calling("DELETE").required(),
    keeps: seconds("10m"),
  }),
  inline: Joi.object({
    within: Joi.number().min(0.2).max(55).required(),
    body: Joi.valid("form", "json", "xml", "text").required(),
    text: Joi.string(),
    send: Joi.object().unknown(true).min(1),
    longest: Joi.number().integer().min(1).default(2000),
    type: Joi.string(),
    late: Joi.valid("api", "park").default("park"),
  }).xor("text", "send"),
  outbound: calling("POST", {
    name: Joi.string().default("message"),
    to: Joi.valid("none"),
    body: Joi.valid("form", "json", "xml", "multipart", "query").required(),
    numberForm: Joi.string(),
    send: content.min(1).required(),
    media: content,
    reply: content.min(1),
    extra: Joi.object()
      .pattern(fieldNames, Joi.object({ says: Joi.string().required(), send: content.min(1).required() }))
      .max(50),
    amend: calling("PUT"),
    remove: calling("DELETE"),
    react: calling("POST"),
    typing: calling("POST"),
    longest: Joi.number().integer().min(70).default(1600),
    answer: Joi.object({
      body: Joi.valid("json", "xml").default("json"),
      id: where,
      code: where,
      says: where,
      refused: conditions.min(1),
    }).default({ body: "json" }),
    codes: Joi.object({ refused: codes, lockedOut: codes, again: codes }),
  }),
  register: Joi.object({
    set: Joi.array().items(calling("POST")).single().min(1).max(10).required(),
    events: Joi.array().items(Joi.string()).min(1),
    read: calling("GET", {
      answer: Joi.object({ address: where.required(), events: where, error: where, waiting: where }).required(),
    }),
    remove: calling("DELETE"),
  }),
  fetch: calling("GET", { answer: Joi.object({ address: where.required(), mime: where, size: where }) }),
  history: calling("GET", { each: where, content: where }),
  find: calling("GET", {
    answer: Joi.object({ each: where, id: where.required(), status: where, mark: where }).required(),
  }),
  state: Joi.object({
    event: Joi.object({
      when: Joi.array().items(Joi.string()),
      only: conditions,
      state: where.required(),
      why: where,
    }),
    answer: where,
    every: seconds("10s"),
    bad: Joi.object().pattern(Joi.string(), Joi.string()).min(1).required(),
    good: Joi.array().items(Joi.string()).single().min(1).required(),
    remedy: Joi.string().required(),
  }).or("event", "answer", "every"),
  check: calling("GET", {
    answer: Joi.object({ id: where, name: where, state: where }).default({}),
    bad: Joi.object().pattern(Joi.string(), Joi.string()),
  }),
  tells: Joi.boolean().default(false),
}).or("inbound", "outbound")
