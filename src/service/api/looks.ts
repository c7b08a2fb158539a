import Joi from "joi"
import { kinds } from "../../core/channels/registry.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { replySchema } from "../../core/message/reply.ts"
import { cannotBeRendered } from "../../engine/desk.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

export const looksRoutes: ApiRoute[] = [
  route("POST /looks", {
    summary: "How a reply looks on every kind of channel; nothing is sent",
    role: "reader",
    body: Joi.object({
      replies: replySchema.min(1).required().description("the reply, in parts"),
      kinds: Joi.array()
        .items(Joi.valid(...Object.keys(kinds)))
        .description("only on these kinds"),
    }),
    answers: "For each kind what a person sees, what was degraded and why, and the segments of a text message.",
    troubles: ["cannot-be-said"],
    handle: async ({ body, engine }) => {
      const { replies, kinds: only } = body as { replies: ReplyPart[]; kinds?: string[] }
      const shown = Object.values(kinds).filter((kind) => !only || only.includes(kind.kind))
      const looks = shown.map((kind) => engine.renderer.looks(kind, replies).catch(cannotBeRendered))
      return { items: await Promise.all(looks), next: null }
    },
  }),
  route("GET /kinds", {
    summary: "The kinds of channel, and how each shows the parts of a reply",
    role: "reader",
    answers: "For each kind its provider's name, its limits and how it shows each part.",
    handle: async () => ({
      items: Object.values(kinds).map(({ kind, provider, abilities }) => ({ kind, provider, abilities })),
      next: null,
    }),
  }),
  route("GET /kinds/{kind}", {
    summary: "What a channel of this kind is asked for: settings and secrets, with what each means",
    role: "reader",
    query: Joi.object({
      profile: Joi.string().max(63).description("the gateway's profile, for kinds that speak by one"),
    }),
    answers: "The settings and secrets of the kind. Secrets that Wobbet makes itself are left out.",
    handle: async ({ engine, params, query }) => engine.care.fields(params.kind!, query.profile),
  }),
]
