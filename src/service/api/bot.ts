import { resolve } from "node:path"
import Joi from "joi"
import { answersNowhere } from "../../core/routing/receiveOnly.ts"
import { readBotFolder } from "../../engine/handlers/botFolder.ts"
import { notFound } from "../../engine/trouble.ts"
import type { ApiRoute } from "../routes.ts"
import { explanationOf } from "../views/explanation.ts"
import { routesView, unroutedGroups } from "../views/routes.ts"
import { route } from "../routes.ts"

export const botRoutes: ApiRoute[] = [
  route("GET /bot", {
    summary: "The bot folder this service follows, and what is wrong with it",
    role: "reader",
    answers: "The folder, the release that answers, and the faults of a newer version.",
    handle: async ({ engine }) => engine.bot,
  }),
  route("POST /bot/check", {
    summary: "Check the followed bot folder, or another on the service's machine, without publishing it",
    role: "developer",
    body: Joi.object({ folder: Joi.string().max(4096) }),
    answers: "What it holds, or its faults with file, line and remedy.",
    troubles: ["not-found"],
    handle: async ({ engine, body }) => {
      const folder = body.folder ? resolve(body.folder) : engine.settings.botFolder
      if (!folder)
        throw notFound("bot folder", "", 'Start the service with "wobbet serve --bot <folder>", or name a folder.')
      const reading = await readBotFolder(folder, engine.folderSource)
      if ("faults" in reading) return { folder, faults: reading.faults, notes: [] }
      const { bot, id, notes } = reading.ready
      const faults = answersNowhere(bot, engine.care.silent(bot.bot))
      return { folder, bot: bot.bot, release: id, routes: bot.routes.map((route) => route.name), faults, notes }
    },
  }),
  route("POST /bot/explain", {
    summary: "What would be decided about a text, and for each route why",
    role: "reader",
    body: Joi.object({
      text: Joi.string().allow("").max(20_000),
      channel: Joi.string().max(63).description("on this channel; what depends on it is left open without one"),
      choice: Joi.string().max(2000).description("explain a press of this choice instead of the text"),
      message: Joi.string().max(64).description("the id of a message on record, with its place, person and state"),
      state: Joi.object().unknown(true),
      at: Joi.string()
        .isoDate()
        .raw()
        .description("as if it were said at this time, in the bot's zone where it names none; now when left out"),
      place: Joi.string().max(200).description("direct, group or broadcast; or a conversation, or a place's id"),
      person: Joi.string().max(200).description("said by this person: the contact's id, or the provider's"),
    }).or("text", "choice", "message"),
    answers:
      "The decision, what would take the message before it if more were known, and for each route the condition that failed.",
    troubles: ["not-found"],
    handle: async ({ engine, body }) => explanationOf(engine, body),
  }),
  route("GET /routes", {
    summary: "The bot's routes in order, with what each did lately",
    role: "reader",
    query: Joi.object({ days: Joi.number().integer().min(1).max(90).default(7) }),
    answers: "Hits over time, share, failures and time of each route, and what is odd about it; and of what none took.",
    troubles: ["not-found"],
    handle: async ({ engine, query }) => routesView(engine, query.days),
  }),
  route("GET /routes/unrouted", {
    summary: "What no route took lately, grouped by likeness",
    role: "reader",
    query: Joi.object({ days: Joi.number().integer().min(1).max(30).default(3) }),
    answers:
      "The largest groups first, with a phrase that would take all of one. `whole` is false where only the newest thousand were looked at.",
    handle: async ({ engine, query }) => unroutedGroups(engine, query.days),
  }),
]
