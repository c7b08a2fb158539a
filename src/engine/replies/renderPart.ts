import { kindOf } from "../../core/channels/registry.ts"
import { storable, storableJson } from "../../core/message/graphemes.ts"
import type { Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { plainWords } from "../../core/message/reply.ts"
import { newId } from "../../store/ids.ts"
import type { OutboundMessage } from "../../store/turns.ts"
import type { KnownChannel } from "../channels.ts"

/** What a part becomes that is not simply text. */
const events: { [part: string]: string } = {
  media: "media",
  location: "location",
  contact: "contact",
  reaction: "reaction",
  amend: "edited",
  remove: "deleted",
}

/** Renders one part for a place, as the message to be sent. */
export function renderPart(reply: ReplyPart, place: Place, known: KnownChannel, offered = 0) {
  const body = storableJson(reply)
  const rendered = kindOf(known.row.kind).render(body, place, known.channel, offered)
  const message: Omit<OutboundMessage, "origin"> = {
    id: newId("msg"),
    event: events[reply.part] ?? "text",
    body,
    words: storable(plainWords(reply)),
    calls: rendered.calls,
  }
  return { ...rendered, message }
}
