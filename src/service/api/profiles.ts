import Joi from "joi"
import { roles } from "../../core/gateway/learn.ts"
import { record } from "../../store/access.ts"
import type { Agreement } from "../../engine/care/profiles.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

const texts = Joi.object().pattern(Joi.string(), Joi.string())
const name = Joi.string()
  .pattern(/^[a-z0-9][a-z0-9-]{0,62}$/)
  .message("a profile's name is small letters, digits and hyphens, such as harbour-gateway")

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
  route("POST /channels/{key}/learn", {
    summary: "Wait for one call to learn from; ends by itself",
    role: "developer",
    body: Joi.object({ minutes: Joi.number().min(0.01).max(60).default(10) }),
    answers: "Until when is waited, and the address to call.",
    handle: async ({ engine, params, body, visitor, by }) => {
      const begun = await engine.profiles.begin(params.key!, visitor.name, body.minutes)
      await record(engine.database, by, "learning begun", { key: params.key })
      return begun
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
    summary: "Write the profile that was agreed to, and read the sample with it",
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
      proof: Joi.object().unknown(true).description("how calls are proven; the first that was proposed when left out"),
      addresses: Joi.valid("numbers", "names").default("numbers"),
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
      }).required(),
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
