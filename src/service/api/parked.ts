import Joi from "joi"
import { Desk } from "../../engine/desk.ts"
import { listParked } from "../../store/parked.ts"
import type { ApiRoute } from "../routes.ts"
import { channelKey, cursorOf, limit, page, route } from "../routes.ts"

export const parkedRoutes: ApiRoute[] = [
  route("GET /parked", {
    summary: "What was taken out of the line until a person decides",
    role: "reader",
    query: Joi.object({
      channel: channelKey,
      open: Joi.boolean().default(true).description("false shows what was decided, too"),
      limit,
      cursor: cursorOf("prk"),
    }),
    answers: "A page of parked messages, with the reason and what can be done.",
    handle: async ({ engine, query }) => {
      const { limit: most, cursor: below, ...filter } = query
      return page(
        await listParked(engine.reading, { ...filter, limit: most + 1, ...(below ? { below } : {}) }),
        most,
        (one) => one.id,
      )
    },
  }),
  route("POST /parked/{id}/retry", {
    summary: "Put it back, at the end of its conversation's line",
    role: "operator",
    answers: "The item, decided.",
    troubles: ["decided"],
    handle: ({ engine, params, by }) => new Desk(engine).retry(params.id!, by),
  }),
  route("POST /parked/{id}/edit", {
    summary: "Send other words instead",
    role: "operator",
    body: Joi.object({ text: Joi.string().max(200_000).required() }),
    answers: "The conversation and the new message.",
    troubles: ["decided", "cannot-be-said", "opted-out"],
    handle: ({ engine, params, body, by }) => new Desk(engine).edit(params.id!, body.text, by),
  }),
  route("POST /parked/{id}/drop", {
    summary: "Leave it unsent or unanswered for good",
    role: "operator",
    answers: "The item, decided.",
    troubles: ["decided"],
    handle: ({ engine, params, by }) => new Desk(engine).drop(params.id!, by),
  }),
]
