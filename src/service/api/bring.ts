import Joi from "joi"
import { record } from "../../store/access.ts"
import type { ApiRoute } from "../routes.ts"
import { goneWith, route } from "../routes.ts"

const carried = Joi.object({
  id: Joi.string()
    .pattern(/^itk_\w+$/)
    .required(),
  method: Joi.string().max(10).required(),
  address: Joi.string().max(10_000).required(),
  headers: Joi.object().pattern(Joi.string().max(200), Joi.string().allow("").max(20_000)).max(200).required(),
  body: Joi.string().base64().allow("").required().description("in base64"),
  receivedAt: Joi.string().isoDate(),
})

/** Characters of an answer to a provider's call: none of them reads more. */
const longestAnswer = 64 * 1024

/**
 * What a channel's caller may hear from a service elsewhere: what the kinds themselves answer with. It goes out under
 * this service's own address, so nothing is in it that a browser would keep, follow or run.
 */
const answerHeaders = Joi.object({
  "content-type": Joi.string()
    .pattern(/^(text\/plain|text\/xml|application\/(json|xml|x-www-form-urlencoded))(;\s*charset=utf-8)?$/i)
    .messages({
      "string.pattern.base":
        "{{#label}} must be text/plain, text/xml, application/json, application/xml or application/x-www-form-urlencoded",
    }),
  "retry-after": Joi.string().pattern(/^\d{1,6}$/),
})

/** Fetching a channel's calls from a service that can be reached, and giving them to one that cannot. */
export const bringRoutes: ApiRoute[] = [
  route("POST /bring/{key}/calls", {
    summary: "The next calls of a channel, for a service that cannot be reached itself",
    role: "developer",
    forChannel: true,
    body: Joi.object({
      wait: Joi.number().min(0).max(55).default(20).description("seconds to wait when there are none"),
    }),
    answers: "Calls in their order, as they came. They stay until they are answered.",
    handle: async ({ engine, params, body, visitor, reply, by }) => {
      const known = engine.care.known(params.key!)
      if (known.row.bringing === null)
        await record(engine.database, by, "calls fetched from elsewhere", { key: params.key })
      return { items: await engine.forwarding.next(known, visitor.name, body.wait, goneWith(reply)), next: null }
    },
  }),
  route("POST /bring/{key}/answers", {
    summary: "Say that a call was taken, and what its caller is to hear",
    role: "developer",
    forChannel: true,
    body: Joi.object({
      id: Joi.string().required(),
      status: Joi.number().integer().min(200).max(599).required(),
      headers: answerHeaders,
      body: Joi.string().allow("").max(longestAnswer),
    }),
    answers: "Whether the call was still waiting to be taken.",
    handle: async ({ engine, params, body }) => {
      const { id, ...answer } = body
      return { taken: await engine.forwarding.answered(engine.care.known(params.key!), id, answer) }
    },
  }),
  route("DELETE /bring/{key}", {
    summary: "Stop fetching: what was not given out is handled here",
    role: "developer",
    forChannel: true,
    query: Joi.object({
      all: Joi.boolean()
        .default(false)
        .description("whether what was given out and never confirmed was surely not taken elsewhere"),
    }),
    answers: "How many calls are handled here after all.",
    handle: async ({ engine, params, query, by }) => {
      const handled = await engine.forwarding.end(engine.care.known(params.key!), query.all)
      await record(engine.database, by, "calls no longer fetched from elsewhere", { key: params.key })
      return { handled }
    },
  }),
  route("POST /bring/{key}/in", {
    summary: "Take a call that a service elsewhere received, as if it had come here",
    role: "developer",
    body: carried,
    // A body of 4 MB, in base64.
    bodyLimit: 6 * 1024 * 1024,
    answers: "What its caller is to hear.",
    handle: async ({ engine, params, body }) => {
      const { key } = engine.care.known(params.key!).row
      const { id, method, address, headers } = body
      const call = { method, address, headers, body: Buffer.from(body.body, "base64") }
      const { written, ...answer } = await engine.inlet.receive(key, call, new Date(), { id })
      // It is on its way to the caller from here on; whether it arrives is known on the other side only.
      written?.(true)
      return answer
    },
  }),
]
