import { createHash } from "node:crypto"
import { changesOf } from "../../client/changes.ts"
import { longestState } from "../../core/message/longestState.ts"
import { storableJson } from "../../core/message/graphemes.ts"
import Joi from "joi"
import { Desk } from "../../engine/desk.ts"
import { notFound, Trouble } from "../../engine/trouble.ts"
import { record } from "../../store/access.ts"
import {
  changeState,
  conversationsAsBegun,
  listConversations,
  resetState,
  setAnsweredBy,
  stateOf,
  takeConversation,
  waitingConversations,
} from "../../store/conversations.ts"
import { interviewById } from "../../store/interviews.ts"
import { decideInterview } from "../../store/timers.ts"
import { interviewViews } from "../views/interviews.ts"
import { markConversation } from "../../store/tags.ts"
import { messagesOfConversation } from "../../store/messages.ts"
import type { ApiRoute } from "../routes.ts"
import { channelKey, cursorOf, ifMatch, limit, lookedPage, route, tags, tagWanted } from "../routes.ts"
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
      waiting: Joi.boolean().description("only those in which a person answers, the one handed over first first"),
      order: Joi.valid("spoken", "begun")
        .default("spoken")
        .description(
          "spoken: the one last spoken in first, for looking. begun: as they began, for copying them all: none changes its place meanwhile, and none is left out",
        ),
      cursor: cursorOf(/^(msg|cnv)_[0-9a-z]{10,26}$/),
    }),
    answers: "A page of conversations, with what was said last.",
    handle: async ({ engine, query }) => {
      const { cursor: below, order, waiting, ...filter } = query
      if (waiting === true) return { items: await waitingConversations(engine.reading, filter.limit), next: null }
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
  route("GET /conversations/{id}", {
    summary: "One conversation, what is remembered of it, and where its interviews stand",
    role: "reader",
    answers: "The conversation and its state. The ETag, also told as stateTag, changes with the state.",
    handle: async ({ engine, params, reply }) => {
      const found = await new Desk(engine).conversation(params.id!)
      const state = (await stateOf(engine.reading, found.id)) ?? {}
      const stateTag = `"${tagOfState(state)}"`
      void reply.header("etag", stateTag)
      return { ...found, state, stateTag, interviews: await interviewViews(engine.reading, found.id) }
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
    summary: "Choose who answers in a conversation, take it by name, and tag its place",
    role: "operator",
    body: Joi.object({
      answeredBy: Joi.valid("bot", "person"),
      take: Joi.valid(true).description("take it by name; refused where another has it"),
      addTags: tags,
      removeTags: tags,
    }).min(1),
    answers: "The conversation as it stands now.",
    troubles: ["changed"],
    handle: async ({ engine, params, body, by }) => {
      const desk = new Desk(engine)
      const { id } = await desk.conversation(params.id!)
      const { answeredBy, take, addTags: add = [], removeTags: remove = [] } = body
      if (take === true) {
        const has = await takeConversation(engine.database, id, by.name)
        if (has !== by.name)
          throw new Trouble(
            "changed",
            `${has} answers in ${id}.`,
            "Ask them, or give it back to the bot first.",
            "take",
          )
        await record(engine.database, by, "conversation taken", { id })
      }
      if (answeredBy !== undefined) {
        await setAnsweredBy(engine.database, id, answeredBy, by.name)
        await record(engine.database, by, "conversation given to", { id, answeredBy })
      }
      if (add.length + remove.length > 0) {
        await markConversation(engine.database, id, { add, remove })
        await record(engine.database, by, "conversation tagged", { id, add, remove })
      }
      engine.bell.ring("live")
      return desk.conversation(id)
    },
  }),
  route("POST /conversations/{id}/interviews", {
    summary: "End a running interview, or step it back to the question before",
    role: "operator",
    body: Joi.object({
      interview: Joi.string().max(60).required().description("its id"),
      do: Joi.valid("end", "back").required(),
    }),
    answers: "The message that stands for it in the conversation's line.",
    troubles: ["not-found", "bad-input"],
    handle: async ({ engine, params, body, by }) => {
      const found = await new Desk(engine).conversation(params.id!)
      const { address, kind, title, topic } = found
      const interview = await interviewById(engine.database, body.interview)
      if (interview?.conversation !== found.id)
        throw notFound("interview", body.interview, `See them with: wobbet conversation show ${found.id}`)
      if (interview.endedAt !== null)
        throw new Trouble(
          "bad-input",
          `The interview ${interview.id} has ended.`,
          "Only one that runs can be changed.",
          "interview",
        )
      const place = { address, kind: kind as "direct", ...(title ? { title } : {}), ...(topic ? { topic } : {}) }
      const moment = { interview: interview.id, what: body.do as "end" | "back", by: by.name }
      const message = await decideInterview(
        engine.database,
        { conversation: found.id, channel: found.channel, place },
        moment,
      )
      await record(engine.database, by, body.do === "end" ? "interview ended" : "interview stepped back", {
        id: interview.id,
      })
      engine.bell.ring("work")
      engine.bell.ring("live")
      return { message }
    },
  }),
  route("PUT /conversations/{id}/state", {
    summary: "Give a conversation another state",
    role: "operator",
    body: Joi.object({ state: Joi.object().required().description("the whole of it") }),
    headers: {
      "If-Match": ifMatch.description(
        "the ETag of the conversation as it was read; refused if its state changed since",
      ),
    },
    answers: "The new state.",
    troubles: ["changed", "bad-input"],
    handle: async ({ engine, params, body, by, headers }) => {
      const { id, channel } = await new Desk(engine).conversation(params.id!)
      const state = storableJson(body.state) as object
      if (JSON.stringify(state).length > longestState)
        throw new Trouble(
          "bad-input",
          `The state has more than ${longestState / 1024} kB.`,
          "Keep less in it.",
          "state",
        )
      const fault = await engine.stateFault(channel, state as { [field: string]: unknown })
      if (fault !== undefined)
        throw new Trouble("bad-input", `${fault[0]!.toUpperCase()}${fault.slice(1)}.`, "Correct that field.", "state")
      const before = (await stateOf(engine.database, id)) ?? {}
      const wanted = tagWanted(headers)
      const same = wanted === undefined || tagOfState(before) === wanted
      if (!same || !(await changeState(engine.database, id, state, before)))
        throw new Trouble(
          "changed",
          `The state of ${id} has changed meanwhile.`,
          "Read the conversation again, and decide on what it is now.",
          "If-Match",
        )
      const fields = changesOf(before, state).map(({ field }) => field)
      await record(engine.database, by, "state edited", { id, fields })
      engine.bell.ring("live")
      return { state: state as { [field: string]: unknown } }
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
