import Joi from "joi"
import { Desk } from "../../engine/desk.ts"
import { record } from "../../store/access.ts"
import { listConversations, listPeople, resetState, setAnsweredBy, stateOf } from "../../store/conversations.ts"
import { messagesOfConversation } from "../../store/messages.ts"
import type { ApiRoute } from "../routes.ts"
import { channelKey, cursorOf, limit, lookedPage, route } from "../routes.ts"
import { withStops } from "./messages.ts"

export const conversationRoutes: ApiRoute[] = [
  route("GET /conversations", {
    summary: "Conversations, the one last spoken in first",
    role: "reader",
    query: Joi.object({
      channel: channelKey,
      kind: Joi.valid("direct", "group", "broadcast"),
      text: Joi.string().max(200).description("part of the title, or an id"),
      limit,
      cursor: cursorOf("msg"),
    }),
    answers: "A page of conversations, with what was said last.",
    handle: async ({ engine, query }) => {
      const { cursor: below, ...filter } = query
      return lookedPage(await listConversations(engine.reading, { ...filter, ...(below ? { below } : {}) }))
    },
  }),
  route("GET /people", {
    summary: "Everybody who ever spoke, with the provider's id of each",
    role: "reader",
    query: Joi.object({
      channel: channelKey,
      text: Joi.string().max(200).description("part of a name, or an id"),
      limit,
      cursor: cursorOf(/^[a-z0-9][a-z0-9-]{0,62} .+$/s),
    }),
    answers: "A page of people, by channel and id.",
    handle: async ({ engine, query }) => {
      const { cursor: after, ...filter } = query
      return lookedPage(await listPeople(engine.reading, { ...filter, ...(after ? { after } : {}) }))
    },
  }),
  route("GET /conversations/{id}", {
    summary: "One conversation and what is remembered of it",
    role: "reader",
    answers: "The conversation and its state.",
    handle: async ({ engine, params }) => {
      const found = await new Desk(engine).conversation(params.id!)
      return { ...found, state: (await stateOf(engine.reading, found.id)) ?? {} }
    },
  }),
  route("GET /conversations/{id}/messages", {
    summary: "What was said in a conversation, in the order of its line",
    role: "reader",
    query: Joi.object({ limit, cursor: cursorOf(/^[1-9]\d{0,15}$/) }),
    answers: "The newest messages, oldest first; `next` goes back in time.",
    handle: async ({ engine, params, query }) => {
      const { id } = await new Desk(engine).conversation(params.id!)
      const below = query.cursor ? { below: Number(query.cursor) } : {}
      const found = await messagesOfConversation(engine.reading, id, { ...below, limit: query.limit })
      const next = found.length === query.limit && found[0]!.position > 1 ? String(found[0]!.position) : null
      return { items: await withStops(engine, found), next }
    },
  }),
  route("PATCH /conversations/{id}", {
    summary: "Choose who answers in a conversation",
    role: "operator",
    body: Joi.object({ answeredBy: Joi.valid("bot", "person").required() }),
    answers: "The conversation as it stands now.",
    handle: async ({ engine, params, body, by }) => {
      const desk = new Desk(engine)
      const { id } = await desk.conversation(params.id!)
      await setAnsweredBy(engine.database, id, body.answeredBy)
      await record(engine.database, by, "conversation given to", { id, answeredBy: body.answeredBy })
      engine.bell.ring("live")
      return desk.conversation(id)
    },
  }),
  route("POST /conversations/{id}/reset", {
    summary: "Forget a conversation's state; what was said stays",
    role: "operator",
    answers: "Nothing.",
    handle: async ({ engine, params, by }) => {
      const { id } = await new Desk(engine).conversation(params.id!)
      await resetState(engine.database, id)
      await record(engine.database, by, "conversation reset", { id })
    },
  }),
]
