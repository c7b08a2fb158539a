import Joi from "joi"
import type { NoticeView, RecipientView } from "../../client/types.ts"
import type { NoticeEvent } from "../../core/notice/notice.ts"
import { cloudEventSchema, eventType } from "../../core/notice/notice.ts"
import type { Engine } from "../../engine/engine.ts"
import { fromCloudEvent } from "../../engine/notices/applications.ts"
import { likeFor } from "../../engine/notices/recipients.ts"
import { notFound } from "../../engine/trouble.ts"
import type { NoticeCounts, NoticeRow, RecipientRow } from "../../store/notices.ts"
import { listNotices, noticeById, recipientsOf } from "../../store/notices.ts"
import { releaseById } from "../../store/releases.ts"
import type { ApiRoute } from "../routes.ts"
import { cursorOf, limit, page, route } from "../routes.ts"

const bot = Joi.string().max(100).description("of this bot alone; otherwise of every bot that has a notice for it")
const lane = Joi.string().max(60).description("of this lane; otherwise of the lane live")

const plain = Joi.object({
  type: eventType.required().description("what happened, such as claim.reassigned"),
  data: Joi.object().unknown(true).default({}).description("about what: the fields that the notice's texts name"),
  bot,
  lane,
})

/** Bytes of an event. */
const longest = 256 * 1024

const event = Joi.alternatives().conditional(Joi.object({ specversion: Joi.exist() }).unknown(true), {
  then: cloudEventSchema,
  otherwise: plain,
})

const body = Joi.object()
  .unknown(true)
  .custom((given: object, helpers) => {
    const { error, value } = event.validate(given) as { error?: Error; value: object }
    return error ? helpers.message({ custom: "{#says}" }, { says: error.message }) : value
  })
  .description(
    "an event: its type and data; or a CloudEvent 1.0 in structured JSON mode, whose source and id are its key",
  )

type Given =
  | { type: string; data: NoticeEvent["data"]; bot?: string; lane?: string }
  | { specversion: "1.0"; id: string; source: string; type: string; data: NoticeEvent["data"] }

function eventOf(given: Given, key?: string): NoticeEvent {
  if ("specversion" in given) return fromCloudEvent(given)
  return { type: given.type, data: given.data, ...(key === undefined ? {} : { key: `key ${key}` }) }
}

function wantedOf(given: Given): { bot?: string | undefined; lane?: string | undefined } {
  return "specversion" in given ? {} : { bot: given.bot, lane: given.lane }
}

function noticeView(row: NoticeRow & NoticeCounts): NoticeView {
  const { id, bot, lane, type, source, data, by, at, state, waiting, said, refused, failed, unmatched } = row
  const counts = { waiting, said, refused, failed, unmatched }
  return { id, bot, lane, type, source, data, by, at: at.toISOString(), known: state === "spread", ...counts }
}

/** Of a page, whoever is not known, for whom people that would match are looked for. */
const mostLikened = 20

async function recipientViews(engine: Engine, notice: NoticeRow, rows: RecipientRow[]): Promise<RecipientView[]> {
  const unknown = rows.filter(({ state }) => state === "unmatched").flatMap(({ named }) => named ?? [])
  const release = unknown.length > 0 ? await releaseById(engine.reading, notice.release) : undefined
  const rule = release?.definition.notices?.find(({ on }) => on === notice.type)
  const like = rule ? await likeFor(engine.reading, rule.match, unknown.slice(0, mostLikened)) : undefined
  return rows.map(({ due, ...row }) => {
    const found = row.state === "unmatched" && row.named !== null ? like?.get(row.named) : undefined
    return { ...row, due: due && due.toISOString(), ...(found ? { like: found } : {}) }
  })
}

/** What applications tell. */
export const noticeRoutes: ApiRoute[] = [
  route("POST /notices", {
    summary: "Tell people what happened, by the notices of the bot",
    role: "operator",
    body,
    bodyLimit: longest,
    headers: { "Idempotency-Key": Joi.string().max(200).description("the same key tells once") },
    status: 202,
    answers: "The notices that were kept: each is told once, whatever happens.",
    troubles: ["bad-input", "key-reused"],
    handle: async ({ engine, body, headers, by }) => {
      const key = headers["idempotency-key"]
      const given = body as unknown as Given
      const kept = await engine.notices.take(
        eventOf(given, typeof key === "string" ? key : undefined),
        by.name,
        wantedOf(given),
      )
      return { items: kept, next: null }
    },
  }),
  route("POST /notices/try", {
    summary: "See what would be said of an event, and to whom; nothing is said",
    role: "reader",
    body,
    bodyLimit: longest,
    answers: "Each as it would be said, who cannot be told, and how many are told in all.",
    troubles: ["bad-input"],
    handle: async ({ engine, body }) => {
      const given = body as unknown as Given
      const { told, not, count } = await engine.notices.tryOut(engine.reading, eventOf(given), wantedOf(given))
      return { told: told.map((one) => ({ ...one, part: { ...one.part } })), not, count }
    },
  }),
  route("GET /notices", {
    summary: "What applications have told, the newest first",
    role: "reader",
    query: Joi.object({ limit, cursor: cursorOf(/^ntc_[0-9a-z]{26}$/), type: eventType }),
    answers: "Each with how many were told, wait, or could not be told.",
    handle: async ({ engine, query }) => {
      const { cursor, type } = query
      const found = await listNotices(engine.reading, { limit: query.limit + 1, below: cursor, type })
      return page(found.map(noticeView), query.limit, ({ id }) => id)
    },
  }),
  route("GET /notices/{id}", {
    summary: "One notice",
    role: "reader",
    answers: "The notice, with how many were told, wait, or could not be told.",
    troubles: ["not-found"],
    handle: async ({ engine, params }) => {
      const found = await noticeById(engine.reading, params.id!)
      if (!found) throw notFound("notice", params.id!, '"wobbet notice list" shows those there are.')
      return noticeView(found)
    },
  }),
  route("GET /notices/{id}/recipients", {
    summary: "Whom a notice is told",
    role: "reader",
    query: Joi.object({
      limit,
      cursor: cursorOf(/^rcp_[0-9a-z]{26}$/),
      state: Joi.valid("waiting", "said", "refused", "failed", "unmatched").description("only those"),
    }),
    answers: "Each with how it stands; whoever is not known, with people who would match.",
    troubles: ["not-found"],
    handle: async ({ engine, params, query }) => {
      const notice = await noticeById(engine.reading, params.id!)
      if (!notice) throw notFound("notice", params.id!, '"wobbet notice list" shows those there are.')
      const { cursor, state } = query
      const found = await recipientsOf(engine.reading, notice.id, { limit: query.limit + 1, after: cursor, state })
      const views = await recipientViews(engine, notice, found)
      return page(views, query.limit, ({ id }) => id)
    },
  }),
]
