import { render as renderGateway } from "../../gateway/render.ts"
import type { Place } from "../../message/message.ts"
import type { ReplyPart } from "../../message/reply.ts"
import type { Channel, Rendered } from "../kind.ts"

export function render(part: ReplyPart, place: Place, channel: Channel, offered = 0): Rendered {
  return renderGateway(part, place, channel, offered, { name: "this gateway" })
}
