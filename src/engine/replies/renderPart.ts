import { kindOf } from "../../core/channels/registry.ts"
import type { RenderedPart } from "../../core/channels/renderReply.ts"
import { renderReply } from "../../core/channels/renderReply.ts"
import type { Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
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

/** Renders one short part for a place, as the message to be sent. */
export function renderPart(reply: ReplyPart, place: Place, known: KnownChannel) {
  return messageOf(renderReply(kindOf(known.row.kind), [reply], place, known.channel)[0]!)
}

/** A rendered part as the message to be sent. */
export function messageOf({ part, rendered, words }: RenderedPart): Omit<OutboundMessage, "origin"> {
  return { id: newId("msg"), event: events[part.part] ?? "text", body: part, words, calls: rendered.calls }
}
