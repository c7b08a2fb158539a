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
    troubles: ["provider-refused"],
    handle: async ({ engine, params, by }) => {
      const shown = await engine.care.resume(params.key!)
      await record(engine.database, by, "channel resumed", { key: params.key })
      return shown
    },
  }),
]
