import Joi from "joi"
import { counted } from "../../client/counted.ts"
import { Trouble } from "../../engine/trouble.ts"
import { record } from "../../store/access.ts"
import type { ApiRoute } from "../routes.ts"
import { ifMatch, route, tagWanted } from "../routes.ts"

const settings = Joi.object().unknown(true).description("the channel's settings, by name")
const secrets = Joi.object()
  .pattern(Joi.string(), Joi.string())
  .description("the channel's secrets, by name; they are sealed and never shown again")
const key = Joi.string()
  .pattern(/^[a-z0-9][a-z0-9-]{0,62}$/)
  .message("a channel's key is small letters, digits and hyphens, such as quay-telegram")

function matching(headers: { [name: string]: string | string[] | undefined }): { ifMatch?: string } {
  const wanted = tagWanted(headers)
  return wanted === undefined ? {} : { ifMatch: wanted }
}

export const channelRoutes: ApiRoute[] = [
  route("GET /channels", {
    summary: "All channels",
    role: "reader",
    answers: "The channels, their state and their addresses.",
    handle: async ({ engine }) => ({ items: await engine.care.list(), next: null }),
  }),
  route("POST /channels", {
    summary: "Add a channel",
    role: "developer",
    body: Joi.object({
      kind: Joi.string().max(50).required(),
      key: key.required(),
      settings: settings.default({}),
      secrets: secrets.default({}),
    }),
    answers: "The channel as it stands.",
    status: 201,
    troubles: ["taken"],
    handle: async ({ engine, body, by }) => {
      const made = await engine.care.add(body)
      await record(engine.database, by, "channel added", { key: made.key, kind: made.kind })
      return made
    },
  }),
  route("GET /channels/{key}", {
    summary: "One channel",
    role: "reader",
    answers: "The channel, its state and its address.",
    handle: async ({ engine, params, reply }) => {
      const shown = await engine.care.show(params.key!)
      void reply.header("etag", `"${shown.tag}"`)
      return shown
    },
  }),
  route("PATCH /channels/{key}", {
    summary: "Change a channel's settings or secrets; a setting given as null goes back to its default",
    role: "developer",
    headers: { "If-Match": ifMatch },
    body: Joi.object({
      settings,
      secrets: Joi.object()
        .pattern(Joi.string(), Joi.string().allow(""))
        .description("secrets by name; one given as nothing is taken away"),
      keepFormer: Joi.boolean().description("whether secrets that are replaced go on to verify calls until dropped"),
      dropFormer: Joi.boolean().description("whether secrets that were kept so no longer verify calls"),
    }).min(1),
    answers: "The channel as it stands now.",
    troubles: ["changed"],
    handle: async ({ engine, params, body, by, headers, reply }) => {
      const changed = await engine.care.change(params.key!, { ...body, ...matching(headers) })
      void reply.header("etag", `"${changed.tag}"`)
      const names = {
        settings: Object.keys(body.settings ?? {}),
        secrets: Object.keys(body.secrets ?? {}),
        ...(body.keepFormer ? { keepFormer: true } : {}),
        ...(body.dropFormer ? { dropFormer: true } : {}),
      }
      await record(engine.database, by, "channel changed", { key: params.key, ...names })
      return changed
    },
  }),
  route("DELETE /channels/{key}", {
    summary: "Remove a channel; what was said on it stays on record",
    role: "developer",
    headers: { "If-Match": ifMatch },
    query: Joi.object({
      waiting: Joi.valid("refuse", "drop")
        .default("refuse")
        .description("what becomes of messages and replies that wait: the call is refused, or they are dropped"),
    }),
    answers:
      "What waited, and was dropped with it; and why the provider may still call, where our address stayed there.",
    troubles: ["taken", "changed"],
    handle: async ({ engine, params, query, by, headers }) => {
      const key = params.key!
      const waiting = await engine.care.waiting(key)
      const some = waiting.turns + waiting.replies + waiting.parked > 0
      if (some && query.waiting === "refuse")
        throw new Trouble(
          "taken",
          `Something waits on "${key}": ${counted(waiting.turns, "message")} for a turn, ${counted(waiting.replies, "reply", "replies")} to be sent, and ${counted(waiting.parked, "decision")} of a person.`,
          "Let them be done first, or remove the channel with waiting=drop (on the command line --drop-waiting): then they are lost.",
          "waiting",
        )
      const stillCalls = await engine.care.remove(key, by.name, matching(headers).ifMatch)
      await record(engine.database, by, "channel removed", { key, ...waiting })
      return { ...waiting, ...(stillCalls === undefined ? {} : { stillCalls }) }
    },
  }),
  route("GET /channels/{key}/waiting", {
    summary: "What waits on a channel, and would be lost with it",
    role: "reader",
    answers: "How many messages wait for their turn, replies to be sent, and decisions of a person.",
    handle: ({ engine, params }) => engine.care.waiting(params.key!),
  }),
  route("POST /channels/{key}/check", {
    summary: "Walk the line from the keys to the last call, and stop at the first thing that is wrong",
    role: "developer",
    answers: "Line by line what is right, what is wrong and what to do; and whether a lock-out ended with this.",
    troubles: ["provider-refused"],
    handle: ({ engine, params }) => engine.care.check(params.key!),
  }),
  route("POST /channels/{key}/connect", {
    summary: "Register the channel's address at the provider, and read back what is on record",
    role: "developer",
    answers: "What the provider has on record, and where it differs.",
    troubles: ["provider-refused"],
    handle: async ({ engine, params, by }) => {
      const compared = await engine.care.connect(params.key!)
      await record(engine.database, by, "channel connected", { key: params.key })
      return compared
    },
  }),
  route("GET /channels/{key}/record", {
    summary: "Compare what the provider has on record with what the channel wants",
    role: "reader",
    answers: "What the provider has on record, and in words where it differs.",
    troubles: ["provider-refused"],
    handle: ({ engine, params }) => engine.care.compare(params.key!),
  }),
  route("POST /channels/{key}/address", {
    summary: "The whole address to enter at a gateway, with the word that stands in it; shown once",
    role: "developer",
    answers: "The address, encoded. It is told once for each secret.",
    troubles: ["decided"],
    handle: async ({ engine, params, by }) => {
      const shown = await engine.care.wholeAddress(params.key!)
      await record(engine.database, by, "address shown", { key: params.key })
      return shown
    },
  }),
  route("GET /channels/{key}/operations", {
    summary: "The provider's calls that can be tried with a channel's keys",
    role: "developer",
    answers: "Each with its name in the provider's documentation, its path, its fields, and whether it asks first.",
    handle: async ({ engine, params }) => ({ items: engine.care.operations(params.key!), next: null }),
  }),
  route("POST /channels/{key}/call", {
    summary: "Try one of the provider's calls with the channel's keys",
    role: "developer",
    body: Joi.object({
      operation: Joi.string().max(200).description("a call's name, or one of the words me, record, groups and status"),
      method: Joi.valid("GET", "POST", "PUT", "PATCH", "DELETE").description("for a path; GET when left out"),
      path: Joi.string().max(2000).allow("").description("a path below apiBase"),
      fields: Joi.object().unknown(true).max(200).default({}).description("of the query of a GET, else of the body"),
      really: Joi.boolean().default(false).description("whether a call that may change something is made"),
    }).xor("operation", "path"),
    answers:
      "The request as it was built, keys unseen, and the raw answer; without `really` only the request, where the call may change something.",
    handle: async ({ engine, params, body, by }) => {
      const tried = await engine.care.tryCall(params.key!, body)
      const { method, address } = tried.request
      if (tried.milliseconds !== undefined)
        await record(engine.database, by, "call tried", {
          key: params.key,
          method,
          address: address.slice(0, 500),
          status: tried.answer?.status ?? tried.failure,
        })
      return tried
    },
  }),
  route("POST /channels/{key}/say", {
    summary: "Say something to the bot, as the provider would bring it",
    role: "developer",
    body: Joi.object({
      text: Joi.string().max(10_000).description("what a person says"),
      press: Joi.string().max(2000).description("the id of an option that is pressed"),
      media: Joi.object({
        data: Joi.string().base64().max(14_000_000).required(),
        mime: Joi.string().max(200).required(),
        name: Joi.string().max(500).required(),
      }).description("a file that is sent"),
      payload: Joi.string().max(1_000_000).description("a call's body, in place of everything else"),
      again: Joi.string()
        .pattern(/^itk_\w{1,40}$/)
        .description("the passage of a call that came, whose words are said again, in place of everything else"),
      from: Joi.string().min(1).max(200).description("the person's address; a made-up one when left out"),
      name: Joi.string().min(1).max(200).description("the person's name"),
      place: Joi.string().min(1).max(200).description("a group's address"),
      really: Joi.boolean().default(false).description("whether replies go to the provider, instead of being captured"),
    })
      .or("text", "press", "media", "payload", "again")
      .oxor("again", "payload")
      .oxor("again", "text")
      .oxor("again", "press")
      .oxor("again", "media")
      .oxor("payload", "text")
      .oxor("payload", "press")
      .oxor("payload", "media"),
    answers:
      "The passage of the call, what the inlet answered, and whether replies are captured. It is marked as simulated.",
    troubles: ["cannot-be-said"],
    handle: async ({ engine, params, body, by }) => {
      const said = await engine.care.say(params.key!, body)
      await record(engine.database, by, "said", { key: params.key, passage: said.passage, captured: said.captured })
      return said
    },
  }),
  route("POST /channels/{key}/pause", {
    summary: "Stop handling and sending; what arrives waits",
    role: "operator",
    answers: "The channel as it stands now.",
    handle: async ({ engine, params, visitor, by }) => {
      const shown = await engine.care.pause(params.key!, visitor.name)
      await record(engine.database, by, "channel paused", { key: params.key })
      return shown
    },
  }),
  route("POST /channels/{key}/resume", {
    summary: "Handle and send again, beginning with what waited",
    role: "operator",
    answers: "The channel as it stands now.",
    troubles: ["provider-refused", "cannot-be-said"],
    handle: async ({ engine, params, by }) => {
      const shown = await engine.care.resume(params.key!)
      await record(engine.database, by, "channel resumed", { key: params.key })
      return shown
    },
  }),
]
