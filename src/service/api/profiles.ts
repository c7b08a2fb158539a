import Joi from "joi"
import { sorts } from "../../core/gateway/examples/propose.ts"
import { roles } from "../../core/gateway/learn/sample.ts"
import { record } from "../../store/access.ts"
import type { Agreement } from "../../engine/care/profiles.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

const texts = Joi.object().pattern(Joi.string(), Joi.string())
const name = Joi.string()
  .pattern(/^[a-z0-9][a-z0-9-]{0,62}$/)
  .message("a profile's name is small letters, digits and hyphens, such as harbour-gateway")

const requests = Joi.array()
  .items(
    Joi.object({
      text: Joi.string().max(500_000).required().description("a curl command, a request as HTTP, or a HAR entry"),
      as: Joi.valid(...sorts).description("what it is for, where that cannot be seen"),
    }),
  )
  .min(1)
  .max(20)

/** Gateway profiles, and learning one from a call. */
export const profileRoutes: ApiRoute[] = [
  route("GET /profiles", {
    summary: "All gateway profiles",
    role: "reader",
    answers: "The profiles that ship, the bot folder's, and those that were learned, as they are written.",
    handle: async ({ engine }) => ({ items: await engine.profiles.profiles(), next: null }),
  }),
  route("POST /profiles", {
    summary: "Check a gateway profile, and keep it when it has no fault",
    role: "developer",
    body: Joi.object({
      source: Joi.string().max(100_000).required().description("YAML"),
      keep: Joi.boolean().default(true),
    }),
    answers: "Its name, or each fault with its line, field and what would be right.",
    handle: async ({ engine, body, by }) => {
      const set = await engine.profiles.setProfile(body.source, body.keep)
      if (body.keep && set.faults.length === 0) await record(engine.database, by, "profile set", { name: set.name })
      return set
    },
  }),
  route("POST /profiles/from-request", {
    summary: "Read examples of requests, and write a profile of them",
    role: "developer",
    body: Joi.object({
      examples: requests.required(),
      name: name.required(),
      into: name.description("a profile over which what they say is laid"),
      keep: Joi.boolean().default(false).description("whether the profile is kept, where it has no fault"),
    }),
    answers: "What each example is, what of it is a setting, a secret or a placeholder, and the profile they make.",
    troubles: ["taken", "not-found"],
    handle: async ({ engine, body, by }) => {
      const made = await engine.profiles.fromRequests(body)
      if (body.keep && !made.faults) await record(engine.database, by, "profile set", { name: made.name })
      return made
    },
  }),
  route("POST /profiles/from-openapi", {
    summary: "List the calls of a gateway's OpenAPI document, and write a profile of those that are picked",
    role: "developer",
    body: Joi.object({
      document: Joi.string().max(10_000_000).required().description("an OpenAPI 3 document, JSON or YAML"),
      name: name.required(),
      send: Joi.string().max(500).description("the operation that sends a message; all are only listed without it"),
      webhook: Joi.string().max(500).description("the webhook that brings a message"),
      more: Joi.array()
        .items(Joi.object({ operation: Joi.string().max(500).required(), as: Joi.valid(...sorts).required() }))
        .max(20)
        .default([])
        .description("further operations, and what they are for"),
      keep: Joi.boolean().default(false),
    }),
    answers: "The document's calls; and of those that are picked what they are, and the profile they make.",
    troubles: ["taken"],
    handle: async ({ engine, body, by }) => {
      const made = await engine.profiles.fromOpenApi(body)
      if (body.keep && made.source && !made.faults)
        await record(engine.database, by, "profile set", { name: made.name })
      return made
    },
  }),
  route("POST /profiles/test", {
    summary: "Run a profile's samples: calls, and what must come out of them",
    role: "developer",
    body: Joi.object({
      source: Joi.string().max(100_000).required().description("the profile, as YAML"),
      samples: Joi.array()
        .items(
          Joi.object({
            name: Joi.string().max(200).required(),
            call: Joi.string().max(1_000_000).required().description("the call as HTTP"),
            expect: Joi.string().max(100_000).description("what must come out, as YAML"),
          }),
        )
        .max(200)
        .required(),
    }),
    answers: "For each sample whether it passed, and what came out otherwise. Nothing is kept, and nothing leaves.",
    handle: async ({ engine, body }) => engine.profiles.test(body.source, body.samples),
  }),
  route("POST /channels/{key}/learn", {
    summary: "Wait for calls to learn from; ends by itself",
    role: "developer",
    body: Joi.object({
      minutes: Joi.number().min(0.01).max(60).default(10),
      wanted: Joi.number().integer().min(1).max(10).default(1).description("how many calls are waited for"),
    }),
    answers: "Until when is waited, and the address to call.",
    handle: async ({ engine, params, body, visitor, by }) => {
      const begun = await engine.profiles.begin(params.key!, visitor.name, body)
      await record(engine.database, by, "learning begun", { key: params.key })
      return begun
    },
  }),
  route("POST /channels/{key}/learn/samples", {
    summary: "Learn from samples that are given, instead of calls that come",
    role: "developer",
    body: Joi.object({
      samples: Joi.array()
        .items(Joi.string().max(1_000_000))
        .min(1)
        .max(10)
        .required()
        .description("each a call as HTTP (POST /path, headers, an empty line, the body), or a body alone"),
    }),
    answers: "Their fields and what they seem to be.",
    handle: async ({ engine, params, body, by }) => {
      const view = await engine.profiles.give(params.key!, body.samples)
      await record(engine.database, by, "learning begun", { key: params.key })
      return view
    },
  }),
  route("GET /channels/{key}/learn", {
    summary: "What was learned so far",
    role: "developer",
    answers: "Whether a call is waited for; and of one that came, its fields and what they seem to be.",
    handle: ({ engine, params }) => engine.profiles.view(params.key!),
  }),
  route("DELETE /channels/{key}/learn", {
    summary: "Stop waiting, and forget what was learned",
    role: "developer",
    answers: "Nothing.",
    handle: ({ engine, params }) => engine.profiles.end(params.key!),
  }),
  route("POST /channels/{key}/learn/agree", {
    summary: "Write the profile that was agreed to, and read the calls that came with it",
    role: "developer",
    body: Joi.object({
      name: name.required(),
      places: Joi.object(Object.fromEntries(roles.map((role) => [role, Joi.string().max(500)]))).required(),
      own: Joi.object({
        where: Joi.string().max(500).required().description("the field that says whose words they are"),
        values: Joi.array()
          .items(Joi.string().max(100), Joi.boolean())
          .min(1)
          .max(10)
          .required()
          .description("the values with which they are our own"),
      }).description("what tells our own words, which some gateways send back"),
      fields: Joi.object()
        .pattern(/^[a-z][A-Za-z0-9]*$/, Joi.string().max(500))
        .max(50)
        .description("further fields that reach handlers, by their names"),
      proof: Joi.object().unknown(true).description("how calls are proven; the first that was proposed when left out"),
      addresses: Joi.valid("numbers", "names").description("what people are; the samples show it when left out"),
      sending: Joi.object({
        address: Joi.string()
          .max(2000)
          .required()
          .description('where a message is posted, such as "{apiBase}/messages"'),
        body: Joi.valid("json", "form").default("json"),
        send: Joi.object().unknown(true).min(1).required().description('such as { "to": "{to}", "text": "{text}" }'),
        bearer: Joi.string().description("the secret that authorises"),
        basic: Joi.array().ordered(Joi.string().required(), Joi.string().required()),
        headers: texts,
        id: Joi.string().description("where the gateway's answer holds the message's id"),
      }).description("how a message is sent, field by field"),
      requests: requests.description("or as its documentation shows it, with its other calls"),
      answer: Joi.string().max(100_000).description("an example of an answer inside the gateway's own call"),
      answers: Joi.array()
        .items(Joi.object({ to: Joi.valid(...sorts).required(), text: Joi.string().max(100_000).required() }))
        .max(20)
        .description("examples of what the gateway answers to calls of ours"),
      remedy: Joi.string().max(500).description("where the account is linked again"),
      secrets: texts.default({}),
      settings: Joi.object().unknown(true).default({}),
    }),
    answers: "The channel as it stands now, and what the sample was answered when it was read again.",
    troubles: ["taken", "provider-refused"],
    handle: async ({ engine, params, body, by }) => {
      const agreed = await engine.profiles.agree(params.key!, body as Agreement)
      await record(engine.database, by, "profile learned", { key: params.key, profile: agreed.profile })
      return agreed
    },
  }),
]
