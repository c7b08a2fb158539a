import Joi from "joi"
import type { Channel, ChannelKind } from "../../core/channels/kind.ts"
import { choicesOffered } from "../../core/channels/options.ts"
import { kinds } from "../../core/channels/registry.ts"
import { readSettings } from "../../core/channels/settings.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { replySchema } from "../../core/message/reply.ts"
import type { KindLook } from "../../client/types.ts"
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
    handle: async ({ body }) => {
      const { replies, kinds: only } = body as { replies: ReplyPart[]; kinds?: string[] }
      const shown = Object.values(kinds).filter((kind) => !only || only.includes(kind.kind))
      return { items: shown.map((kind) => lookOn(kind, replies)), next: null }
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
]

function lookOn(kind: ChannelKind, replies: ReplyPart[]): KindLook {
  const channel: Channel = {
    key: "how-it-looks",
    kind: kind.kind,
    settings: readSettings(kind, kind.example ?? {}).value,
    secrets: {},
    publicBase: "https://bots.example",
  }
  let offered = 0
  const parts = replies.map((part) => {
    const { calls, degraded, impossible, leftOut } = kind.render(
      part,
      { address: "1", kind: "direct" },
      channel,
      offered,
    )
    offered += choicesOffered(part).length
    return {
      part: part.part,
      looks: calls.map((call) => kind.looks(call)),
      degraded: [...new Set(degraded)],
      ...(impossible ? { impossible } : {}),
      ...(leftOut ? { leftOut } : {}),
    }
  })
  return { kind: kind.kind, provider: kind.provider, title: kind.title ?? kind.provider, parts }
}
