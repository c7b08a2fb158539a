import type { FastifyRequest } from "fastify"
import Joi from "joi"
import type { AskedTurnView, ElsewhereAnswer, LeaseView, QueuedView } from "../../client/types.ts"
import type { ElsewhereOutcome } from "../../core/elsewhere/answer.ts"
import { outcomeFields } from "../../core/elsewhere/answer.ts"
import { replyList } from "../../core/message/replyList.ts"
import { turnOfToken } from "../../engine/elsewhere/turnToken.ts"
import type { Engine } from "../../engine/engine.ts"
import { queueName } from "../../engine/handlers/queue.ts"
import { Trouble } from "../../engine/trouble.ts"
import { messagesById } from "../../store/messages.ts"
import type { Held, LeasedWait, QueuedRow } from "../../store/waits.ts"
import {
  answerLease,
  answerTurn,
  extendLease,
  leased,
  listEndpoints,
  listQueued,
  listQueues,
  releaseLease,
} from "../../store/waits.ts"
import type { ApiRoute } from "../routes.ts"
import { cursorOf, goneWith, limit, page, route } from "../routes.ts"

const lease = Joi.string().max(100).required().description("the lease, as the turn was given with it")
const seconds = (usual: number) =>
  Joi.number().min(1).max(86_400).default(usual).description("seconds from now after which it comes back by itself")

/** Bytes of an answer. */
const longestAnswer = 1024 * 1024

/** What a worker reads: the turn, and by which name it holds it. */
function leaseView({ lease, place, leases, since, until, leasedUntil, asked }: LeasedWait): LeaseView {
  return {
    lease,
    queue: place,
    leases,
    since: since.toISOString(),
    until: until.toISOString(),
    leasedUntil: leasedUntil.toISOString(),
    // The same over the wire.
    turn: asked as unknown as AskedTurnView,
  }
}

function queuedView({ since, until, leasedAt, leasedUntil, place: _, ...rest }: QueuedRow): QueuedView {
  return {
    ...rest,
    since: since.toISOString(),
    until: until.toISOString(),
    leasedAt: leasedAt && leasedAt.toISOString(),
    leasedUntil: leasedUntil && leasedUntil.toISOString(),
  }
}

/** The queue and the lease's holder; throws where the lease is no more. */
async function heldLease(engine: Engine, queue: string, lease: string): Promise<Held> {
  const found = await leased(engine.database, lease)
  if (!found || found.place !== queue)
    throw new Trouble(
      "over",
      `The lease ${lease} of the queue "${queue}" is not held any more: its time is over, or its turn is.`,
      "Leave it; whoever leases the turn next answers it.",
      "lease",
    )
  if (found.answered) throw answeredBefore()
  if (found.over) throw timeOver()
  return found
}

const answeredBefore = () =>
  new Trouble("decided", "This turn was answered already.", "Nothing is to be done: the first answer counts.")
const timeOver = () => new Trouble("over", "This turn is over: nobody waits for its answer any more.", "Leave it.")

function outcomeOf({ replies, state, contact, leave }: ElsewhereAnswer): ElsewhereOutcome {
  return {
    replies: replyList(replies),
    ...(state === undefined ? {} : { state }),
    ...(contact === undefined ? {} : { contact }),
    ...(leave === undefined ? {} : { leave }),
  }
}

/** A state that does not fit the bot's schema is refused while whoever gives it can still do something about it. */
async function mustFit(engine: Engine, message: string, { state }: ElsewhereOutcome): Promise<void> {
  if (!state) return
  const [row] = await messagesById(engine.reading, [message])
  const fault = row && (await engine.stateFault(row.channel, state))
  if (fault === undefined) return
  throw new Trouble("bad-input", fault, "Give a state that fits the bot's schema.", "state")
}

/** The turn whose token came along. Throws for whoever has none. */
function tokenTurn(request: FastifyRequest, engine: Engine) {
  const [, token = ""] = /^Bearer (.+)$/i.exec(request.headers.authorization ?? "") ?? []
  const turn = turnOfToken(engine.seal, token)
  if (turn) return turn
  throw new Trouble(
    "not-signed-in",
    "An answer needs the token of its turn.",
    'Send "Authorization: Bearer …" with the token that came with the turn, under data.answer.',
  )
}

/** Answers that come later, and turns that workers fetch off queues. */
export const queueRoutes: ApiRoute[] = [
  route("POST /answers", {
    summary: "Answer a turn later: after an endpoint has said 202",
    body: Joi.object(outcomeFields),
    bodyLimit: longestAnswer,
    admit: (request, engine) => void tokenTurn(request, engine),
    answers: "Nothing: the answer is kept, and said once.",
    troubles: ["not-signed-in", "decided", "over"],
    handle: async ({ engine, request, body }) => {
      const turn = tokenTurn(request, engine)
      const outcome = outcomeOf(body)
      await mustFit(engine, turn.message, outcome)
      const call = { to: "the API", at: new Date().toISOString(), came: "answered" }
      const came = await answerTurn(engine.database, turn, { outcome }, call)
      if (came === "answered") throw answeredBefore()
      if (came === "over") throw timeOver()
      engine.bell.ring("work")
      engine.bell.ring("live")
    },
  }),
  route("GET /queues", {
    summary: "The queues at which turns wait",
    role: "reader",
    answers: "Each with how many wait (counted up to 10,000), how many are leased, and since when the oldest waits.",
    handle: async ({ engine }) => ({ items: await listQueues(engine.reading), next: null }),
  }),
  route("GET /queues/{name}", {
    summary: "The turns that wait at a queue, the longest waiting first",
    role: "reader",
    query: Joi.object({ limit, cursor: cursorOf(/^\S{20,30} cnv_\w{10,26}$/) }),
    answers: "Each with what was said, since when it waits, and who holds it.",
    handle: async ({ engine, params, query }) => {
      const [since, conversation] = query.cursor?.split(" ") ?? []
      if (since !== undefined && Number.isNaN(Date.parse(since)))
        throw new Trouble("bad-input", "The cursor is not the next of the list before.", "Begin without one.", "cursor")
      const after = since === undefined ? {} : { after: { since, conversation: conversation! } }
      const rows = await listQueued(engine.reading, params.name!, { limit: query.limit + 1, ...after })
      const found = page(rows, query.limit, (one) => `${one.place} ${one.conversation}`)
      return { ...found, items: found.items.map(queuedView) }
    },
  }),
  route("POST /queues/{name}/lease", {
    summary: "Take turns off a queue, to answer them",
    role: "operator",
    forQueue: true,
    body: Joi.object({
      most: Joi.number().integer().min(1).max(100).default(1).description("how many at most"),
      wait: Joi.number().min(0).max(30).default(0).description("seconds to wait when there is none"),
      seconds: seconds(60),
      bot: Joi.string().max(100).description("of this bot alone"),
      lane: Joi.string().max(60).description("of this lane alone"),
    }),
    answers: "The turns, the longest waiting first: each is this worker's until it is finished, or its lease is over.",
    troubles: ["too-many", "bad-input"],
    handle: async ({ engine, params, body, reply, by }) => {
      const { error, value: queue } = queueName.validate(params.name) as { error?: Error; value: string }
      if (error) throw new Trouble("bad-input", `"${params.name}" is no queue: ${error.message}.`, "Name one.", "name")
      const taken = await engine.lending.lease({ queue, by: by.name, ...body }, goneWith(reply))
      if (taken.length > 0) engine.bell.ring("live")
      return { items: taken.map(leaseView), next: null }
    },
  }),
  route("POST /queues/{name}/finish", {
    summary: "Answer a turn that was leased",
    role: "operator",
    forQueue: true,
    body: Joi.object({ lease, ...outcomeFields }),
    bodyLimit: longestAnswer,
    answers: "The conversation and the message that are answered by it.",
    troubles: ["decided", "over", "bad-input"],
    handle: async ({ engine, params, body: { lease, ...given } }) => {
      const { by, at, message } = await heldLease(engine, params.name!, lease)
      const outcome = outcomeOf(given)
      const now = new Date()
      const took = now.getTime() - at.getTime()
      const call = { to: params.name!, at: at.toISOString(), took, came: "finished", by }
      await mustFit(engine, message, outcome)
      const done = await answerLease(engine.database, lease, { outcome }, [call])
      if (!done) throw timeOver()
      engine.bell.ring("work")
      engine.bell.ring("live")
      return done
    },
  }),
  route("POST /queues/{name}/release", {
    summary: "Give a lease back, unanswered",
    role: "operator",
    forQueue: true,
    body: Joi.object({
      lease,
      after: Joi.number().min(0).max(86_400).default(0).description("seconds before anybody gets it again"),
    }),
    answers: "Nothing: others may lease the turn.",
    troubles: ["decided", "over"],
    handle: async ({ engine, params, body }) => {
      const { by, at } = await heldLease(engine, params.name!, body.lease)
      const took = Date.now() - at.getTime()
      const call = { to: params.name!, at: at.toISOString(), took, came: "given back", by }
      if (!(await releaseLease(engine.database, body.lease, [call], body.after * 1000))) throw timeOver()
      engine.bell.ring("queues")
      engine.bell.ring("live")
    },
  }),
  route("POST /queues/{name}/extend", {
    summary: "Keep a lease for longer, at most as long as the turn waits",
    role: "operator",
    forQueue: true,
    body: Joi.object({ lease, seconds: seconds(60) }),
    answers: "Until when it is held now.",
    troubles: ["decided", "over"],
    handle: async ({ engine, params, body }) => {
      await heldLease(engine, params.name!, body.lease)
      const until = await extendLease(engine.database, body.lease, body.seconds)
      if (!until) throw timeOver()
      return { until: until.toISOString() }
    },
  }),
  route("GET /endpoints", {
    summary: "The endpoints that bots ask: those with turns that wait, and those that were left alone",
    role: "reader",
    answers: "Each with whether it is asked at the moment, and since when its oldest turn waits.",
    handle: async ({ engine }) => ({ items: await listEndpoints(engine.reading), next: null }),
  }),
]
