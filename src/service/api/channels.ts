import Joi from "joi"
import { record } from "../../store/access.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

const settings = Joi.object().unknown(true).description("the channel's settings, by name")
const secrets = Joi.object()
  .pattern(Joi.string(), Joi.string())
  .description("the channel's secrets, by name; they are sealed and never shown again")
const key = Joi.string()
  .pattern(/^[a-z0-9][a-z0-9-]{0,62}$/)
  .message("a channel's key is small letters, digits and hyphens, such as quay-telegram")

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
      kind: Joi.string().required(),
      key: key.required(),
      settings: settings.default({}),
      secrets: secrets.default({}),
    }),
    answers: "The channel as it stands.",
    status: 201,
    handle: async ({ engine, body, visitor }) => {
      const made = await engine.care.add(body)
      await record(engine.database, visitor.name, "channel added", { key: made.key, kind: made.kind })
      return made
    },
  }),
  route("GET /channels/{key}", {
    summary: "One channel",
    role: "reader",
    answers: "The channel, its state and its address.",
    handle: ({ engine, params }) => engine.care.show(params.key!),
  }),
  route("PATCH /channels/{key}", {
    summary: "Change a channel's settings or secrets; a setting given as null goes back to its default",
    role: "developer",
    body: Joi.object({ settings, secrets }).min(1),
    answers: "The channel as it stands now.",
    handle: async ({ engine, params, body, visitor }) => {
      const changed = await engine.care.change(params.key!, body)
      const names = { settings: Object.keys(body.settings ?? {}), secrets: Object.keys(body.secrets ?? {}) }
      await record(engine.database, visitor.name, "channel changed", { key: params.key, ...names })
      return changed
    },
  }),
  route("POST /channels/{key}/check", {
    summary: "Walk the line from the keys to the last call, and stop at the first thing that is wrong",
    role: "developer",
    answers: "Line by line what is right, what is wrong and what to do; and whether a lock-out ended with this.",
    handle: ({ engine, params }) => engine.care.check(params.key!),
  }),
  route("POST /channels/{key}/connect", {
    summary: "Register the channel's address at the provider, and read back what is on record",
    role: "developer",
    answers: "What the provider has on record, and where it differs.",
    handle: async ({ engine, params, visitor }) => {
      const compared = await engine.care.connect(params.key!)
      await record(engine.database, visitor.name, "channel connected", { key: params.key })
      return compared
    },
  }),
  route("GET /channels/{key}/record", {
    summary: "Compare what the provider has on record with what the channel wants",
    role: "reader",
    answers: "What the provider has on record, and in words where it differs.",
    handle: ({ engine, params }) => engine.care.compare(params.key!),
  }),
  route("POST /channels/{key}/pause", {
    summary: "Stop handling and sending; what arrives is kept",
    role: "operator",
    answers: "The channel as it stands now.",
    handle: async ({ engine, params, visitor }) => {
      const shown = await engine.care.pause(params.key!, visitor.name)
      await record(engine.database, visitor.name, "channel paused", { key: params.key })
      return shown
    },
  }),
  route("POST /channels/{key}/resume", {
    summary: "Handle and send again, beginning with what waited",
    role: "operator",
    answers: "The channel as it stands now.",
    handle: async ({ engine, params, visitor }) => {
      const shown = await engine.care.resume(params.key!)
      await record(engine.database, visitor.name, "channel resumed", { key: params.key })
      return shown
    },
  }),
]
