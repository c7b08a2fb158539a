import Joi from "joi"
import { messageEvents } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { replySchema } from "../../core/message/reply.ts"
import { Desk } from "../../engine/desk.ts"
import { notFound } from "../../engine/trouble.ts"
import type { MessageRow } from "../../store/messages.ts"
import { findMessages } from "../../store/messageLists.ts"
import { inboundStatuses, messagesById, outboundStatuses } from "../../store/messages.ts"
import type { Engine } from "../../engine/engine.ts"
import type { MessageView } from "../../client/types.ts"
import { doubtsOf } from "../views/doubts.ts"
import { messageView } from "../views/passages.ts"
import { messageStops } from "../views/stops.ts"
import type { ApiRoute } from "../routes.ts"
import { channelKey, cursorOf, limit, lookedPage, route } from "../routes.ts"

const statuses = [...new Set([...inboundStatuses, ...outboundStatuses])]

/** Messages with their small rails. */
export async function withStops(engine: Engine, rows: MessageRow[]): Promise<MessageView[]> {
  const replies = await messagesById(engine.reading, [...new Set(rows.flatMap((row) => row.replies ?? []))])
  const doubts = await doubtsOf(engine.reading, rows)
  return rows.map((row) => ({
    ...messageView(row),
    ...(doubts.has(row.id) ? { doubt: doubts.get(row.id)! } : {}),
    stops: messageStops(
      row,
      replies.filter((reply) => row.replies?.includes(reply.id)),
    ),
  }))
}

export const messageRoutes: ApiRoute[] = [
  route("GET /messages", {
    summary: "Find messages, the newest first",
    role: "reader",
    query: Joi.object({
      channel: channelKey,
      conversation: Joi.string().max(100).description("a conversation's id"),
      direction: Joi.valid("in", "out"),
      event: Joi.valid(...messageEvents),
      status: Joi.valid(...statuses).description("how far it got"),
      route: Joi.string().max(200).description("taken by this route of the bot"),
      doubtful: Joi.boolean().description("whether it was ever open if the provider took it"),
      from: Joi.date().iso().description("received or sent at this time or later"),
      to: Joi.date().iso().description("received or sent before this time"),
      text: Joi.string().max(500).description("words that must all be there; the last may be unfinished"),
      limit,
      cursor: cursorOf("msg"),
    }),
    answers: "A page of messages, each with its stops.",
    handle: async ({ engine, query }) => {
      const { cursor: below, ...filter } = query
      const found = lookedPage(await findMessages(engine.reading, { ...filter, ...(below ? { below } : {}) }))
      return { ...found, items: await withStops(engine, found.items) }
    },
  }),
  route("GET /messages/{id}", {
    summary: "One message",
    role: "reader",
    answers: "The message, how far it got, and why.",
    handle: async ({ engine, params }) => {
      const found = await messagesById(engine.reading, [params.id!])
      if (found.length === 0)
        throw notFound("message", params.id!, '"wobbet message find" looks for messages by their words.')
      return (await withStops(engine, found))[0]!
    },
  }),
  route("POST /messages", {
    summary: "Say something in a conversation",
    role: "operator",
    headers: { "Idempotency-Key": Joi.string().max(200).description("the same key by the same caller sends once") },
    body: Joi.object({
      to: Joi.string()
        .max(500)
        .required()
        .description("a conversation's id, or the provider's id of a person, group or broadcast channel"),
      channel: Joi.string().max(63).description("the channel, where `to` is a provider's id"),
      text: Joi.string().max(200_000).description("words in light markup; short for one text part"),
      replies: replySchema.min(1).description("the parts to say"),
      extra: Joi.object()
        .pattern(/^[a-z][A-Za-z0-9]*$/, Joi.string().allow("").max(2000))
        .max(20)
        .description("said along with the text, by the names of the channel's extras"),
    })
      .xor("text", "replies")
      .oxor("extra", "replies"),
    answers: "The conversation, and the ids of the messages, which now wait in its line.",
    status: 202,
    troubles: ["not-found", "opted-out", "forgotten", "cannot-be-said", "key-reused"],
    handle: ({ engine, body, visitor, headers }) => {
      const key = headers["idempotency-key"]
      return new Desk(engine).send({
        to: body.to,
        ...(body.channel ? { channel: body.channel } : {}),
        replies: (body.replies as ReplyPart[] | undefined) ?? [
          { part: "text", text: body.text!, ...(body.extra ? { extra: body.extra } : {}) },
        ],
        author: visitor.name,
        origin: visitor.csrf ? "person" : "api",
        ...(typeof key === "string" ? { key } : {}),
      })
    },
  }),
]
