import Joi from "joi"
import { readDuration } from "../routing/duration.ts"

const where = Joi.alternatives(Joi.string(), Joi.array().items(Joi.string()).min(1))
const named = (extra: Joi.SchemaMap = {}) =>
  Joi.object()
    .pattern(/^[a-z][A-Za-z0-9]*$/, Joi.object({ says: Joi.string().required(), required: Joi.boolean(), ...extra }))
    .default({})
const authorization = Joi.object({
  basic: Joi.array().ordered(Joi.string().required(), Joi.string().required()).length(2),
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
  word: { header, query: Joi.string() },
  basic: { user: Joi.string().required() },
}
const verify = Joi.array().items(
  Object.entries(schemes).reduce(
    (schema, [name, fields]) =>
      schema.when(Joi.object({ scheme: Joi.valid(name).required() }).unknown(), {
        then: name === "word" ? Joi.object(fields).or("header", "query") : Joi.object(fields),
      }),
    Joi.object({ scheme: Joi.valid(...Object.keys(schemes)).required(), secret: Joi.string().required() }),
  ),
)

const conditions = Joi.object().pattern(
  Joi.string(),
  Joi.array().items(Joi.string().allow(""), Joi.number(), Joi.boolean()).single().min(1),
)
const codes = Joi.array().items(Joi.number(), Joi.string())

const message = Joi.object({
  each: where,
  unless: Joi.array().items(Joi.string()),
  only: conditions,
  own: conditions,
  id: where,
  from: where.required(),
  place: where,
  groups: Joi.string(),
  placeName: where,
  text: where.required(),
  time: where,
  name: where,
  replyTo: where,
  choice: Joi.object({ id: where.required(), label: where.required() }),
  location: Joi.object({ latitude: where.required(), longitude: where.required(), name: where }),
  media: Joi.object({ count: where, address: Joi.string().required(), mime: Joi.string().required() }),
  optOut: where,
  fields: Joi.object()
    .pattern(/^[a-z][A-Za-z0-9]*$/, where)
    .max(50),
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
  }).required(),
  queue: Joi.object({
    ask: Joi.object({
      method: Joi.valid("GET", "POST").default("GET"),
      address: Joi.string().required(),
      authorization,
      headers,
      holds: Joi.number().min(0).max(60).default(5),
    }).required(),
    each: where,
    handle: where.required(),
    content: where,
    remove: Joi.object({
      method: Joi.valid("DELETE", "POST", "GET").default("DELETE"),
      address: Joi.string().required(),
      authorization,
      headers,
    }).required(),
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
  outbound: Joi.object({
    name: Joi.string().default("message"),
    method: Joi.valid("POST", "GET", "PUT").default("POST"),
    address: Joi.string().required(),
    authorization,
    headers,
    body: Joi.valid("form", "json", "xml", "query").required(),
    numberForm: Joi.string(),
    send: Joi.object().unknown(true).min(1).required(),
    media: Joi.object().unknown(true),
    longest: Joi.number().integer().min(70).default(1600),
    answer: Joi.object({ body: Joi.valid("json", "xml").default("json"), id: where, code: where, says: where }).default(
      {
        body: "json",
      },
    ),
    codes: Joi.object({ refused: codes, lockedOut: codes, again: codes }),
  }),
  state: Joi.object({
    event: Joi.object({
      when: Joi.array().items(Joi.string()),
      only: conditions,
      state: where.required(),
      why: where,
    }),
    answer: where,
    every: Joi.alternatives(Joi.number(), Joi.string()).custom((value: number | string, helpers) => {
      const ms = readDuration(value)
      if (ms === undefined || ms < 10_000)
        return helpers.message({ custom: "{#says}" }, { says: `"${value}" is not a length of time of 10s or more` })
      return ms / 1000
    }),
    bad: Joi.object().pattern(Joi.string(), Joi.string()).min(1).required(),
    good: Joi.array().items(Joi.string()).single().min(1).required(),
    remedy: Joi.string().required(),
  }).or("event", "answer", "every"),
  check: Joi.object({
    method: Joi.valid("GET", "POST").default("GET"),
    address: Joi.string().required(),
    authorization,
    headers,
    answer: Joi.object({ id: where, name: where, state: where }).default({}),
    bad: Joi.object().pattern(Joi.string(), Joi.string()),
  }),
  tells: Joi.boolean().default(false),
}).or("outbound", "inline")
