import { resolve } from "node:path"
import Joi from "joi"
import type { Message } from "../../core/message/message.ts"
import { answersNowhere } from "../../core/routing/receiveOnly.ts"
import { instantIn } from "../../core/phrase/spans.ts"
import { tableOf } from "../../engine/handlers/tables.ts"
import { readBotFolder } from "../../engine/handlers/botFolder.ts"
import { handlerOf } from "../../engine/handlers/registry.ts"
import { notFound } from "../../engine/trouble.ts"
import { newestRelease, releaseById, releaseOfChannel } from "../../store/releases.ts"
import type { ApiRoute } from "../routes.ts"
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
      const reading = await readBotFolder(folder, engine.settings.sdk)
      if ("faults" in reading) return { folder, faults: reading.faults }
      const { bot, id } = reading.ready
      const faults = answersNowhere(bot, engine.care.silent(bot.bot))
      return { folder, bot: bot.bot, release: id, routes: bot.routes.map((route) => route.name), faults }
    },
  }),
  route("POST /bot/explain", {
    summary: "What would be decided about a text, and for each route why",
    role: "reader",
    body: Joi.object({
      text: Joi.string().allow("").max(20_000).required(),
      channel: Joi.string().max(63),
      choice: Joi.string().max(2000).description("explain a press of this choice instead of the text"),
      state: Joi.object().unknown(true).default({}),
      at: Joi.string()
        .isoDate()
        .raw()
        .description("as if it were said at this time, in the bot's zone where it names none; now when left out"),
      place: Joi.valid("direct", "group", "broadcast").default("direct"),
    }),
    answers: "The decision, and for each route the condition that failed.",
    troubles: ["not-found"],
    handle: async ({ engine, body }) => {
      const known = body.channel ? engine.care.known(body.channel) : engine.channels.all()[0]
      const id = known ? await releaseOfChannel(engine.reading, known.row.key) : await newestRelease(engine.reading)
      const release = id ? await releaseById(engine.reading, id) : undefined
      if (!release) throw notFound("release", "live", 'Start the service with "wobbet serve --bot <folder>".')
      const table = tableOf(release)
      const situation = {
        message: saidAs(body),
        channel: { key: known?.row.key ?? "any", kind: known?.row.kind ?? "telegram" },
        state: body.state,
        now: body.at === undefined ? new Date().toISOString() : instantIn(body.at, table.bot.zone),
      }
      const decision = table.decide(situation)
      const { handler, ...taken } = { handler: undefined, ...decision }
      const name = handler === undefined ? {} : { handler: handlerOf(handler).name }
      return { ...taken, ...name, release: release.id, routes: table.explain(situation) }
    },
  }),
]

function saidAs(body: { text: string; choice?: string; place: "direct" | "group" | "broadcast" }): Message {
  const place = { address: "0", kind: body.place }
  if (body.choice) return { event: "choice", place, choice: { id: body.choice } }
  const command = /^\/([A-Za-z0-9_]{1,32})(?:\s+([\s\S]*))?$/.exec(body.text)
  if (!command) return { event: "text", place, text: body.text }
  return {
    event: "command",
    place,
    text: body.text,
    command: { name: command[1]!.toLowerCase(), ...(command[2] ? { args: command[2] } : {}) },
  }
}
