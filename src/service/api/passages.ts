import Joi from "joi"
import { notFound } from "../../engine/trouble.ts"
import { listIntakes } from "../../store/intakeReads.ts"
import { passageOf, summaries } from "../views/passages.ts"
import type { ApiRoute } from "../routes.ts"
import { channelKey, cursorOf, limit, lookedPage, route } from "../routes.ts"

export const passageRoutes: ApiRoute[] = [
  route("GET /passages", {
    summary: "Passages, the newest first",
    role: "reader",
    query: Joi.object({
      channel: channelKey,
      genuine: Joi.boolean(),
      quiet: Joi.boolean().description(
        "false leaves out genuine calls that held no message, such as statuses and handshakes",
      ),
      limit,
      cursor: cursorOf("itk"),
    }),
    answers: "A page of passages, each with its seven stops.",
    handle: async ({ engine, query }) => {
      const { cursor: below, ...filter } = query
      const found = lookedPage(await listIntakes(engine.reading, { ...filter, ...(below ? { below } : {}) }))
      return { ...found, items: await summaries(engine, found.items) }
    },
  }),
  route("GET /passages/{id}", {
    summary: "One passage whole: by the id of its intake or of any message in it",
    role: "reader",
    answers:
      "The raw call, the verdict, the messages, the decision explained, the calls made and what they were answered.",
    handle: async ({ engine, params }) => {
      const passage = await passageOf(engine, params.id!)
      if (!passage) throw notFound("passage", params.id!, '"wobbet message find" shows messages with their ids.')
      return passage
    },
  }),
]
