import { createHash } from "node:crypto"
import Joi from "joi"
import { Desk } from "../../engine/desk.ts"
import { Trouble } from "../../engine/trouble.ts"
import { record } from "../../store/access.ts"
import {
  conversationsAsBegun,
  listConversations,
  listPeople,
  resetState,
  setAnsweredBy,
  stateOf,
} from "../../store/conversations.ts"
import { messagesOfConversation } from "../../store/messages.ts"
import type { ApiRoute } from "../routes.ts"
import { channelKey, cursorOf, ifMatch, limit, lookedPage, route, tagWanted } from "../routes.ts"
import { withStops } from "./messages.ts"

function tagOfState(state: object): string {
  return createHash("sha256").update(JSON.stringify(state)).digest("base64url").slice(0, 16)
}

export const conversationRoutes: ApiRoute[] = [
  route("GET /conversations", {
    summary: "Conversations, the one last spoken in first",
    role: "reader",
    query: Joi.object({
      channel: channelKey,
      kind: Joi.valid("direct", "group", "broadcast"),
      text: Joi.string().max(200).description("part of the title, or an id"),
      limit,
      order: Joi.valid("spoken", "begun")
        .default("spoken")
        .description(
          "spoken: the one last spoken in first, for looking. begun: as they began, for copying them all: none changes its place meanwhile, and none is left out",
        ),
      cursor: cursorOf(/^(msg|cnv)_[0-9a-z]{10,26}$/),
    }),
    answers: "A page of conversations, with what was said last.",
    handle: async ({ engine, query }) => {
      const { cursor: below, order, ...filter } = query
      if (below !== undefined && below.startsWith("cnv_") !== (order === "begun"))
        throw new Trouble(
          "bad-input",
          "The cursor comes from a list in another order.",
          "Go on in the order in which the list was begun.",
          "cursor",
        )
      const list = order === "begun" ? conversationsAsBegun : listConversations
      return lookedPage(await list(engine.reading, { ...filter, ...(below ? { below } : {}) }))
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
    answers: "The conversation and its state. The ETag changes with the state.",
    handle: async ({ engine, params, reply }) => {
      const found = await new Desk(engine).conversation(params.id!)
      const state = (await stateOf(engine.reading, found.id)) ?? {}
      void reply.header("etag", `"${tagOfState(state)}"`)
      return { ...found, state }
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
    headers: {
      "If-Match": ifMatch.description(
        "the ETag of the conversation as it was read; refused if its state changed since",
      ),
    },
    answers: "Nothing.",
    troubles: ["changed"],
    handle: async ({ engine, params, by, headers }) => {
      const { id } = await new Desk(engine).conversation(params.id!)
      const wanted = tagWanted(headers)
      const expected = wanted === undefined ? undefined : ((await stateOf(engine.database, id)) ?? {})
      const same = expected === undefined || tagOfState(expected) === wanted
      if (!same || !(await resetState(engine.database, id, expected)))
        throw new Trouble(
          "changed",
          `The state of ${id} has changed meanwhile.`,
          "Read the conversation again, and decide on what it is now.",
          "If-Match",
        )
      await record(engine.database, by, "conversation reset", { id })
    },
  }),
]
