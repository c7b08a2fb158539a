import { parentPort } from "node:worker_threads"
import { kindOf } from "../../core/channels/registry.ts"
import { lookOn, renderReply } from "../../core/channels/renderReply.ts"
import { describedBy } from "../../core/gateway/examples/described.ts"
import { NotAnExample } from "../../core/gateway/examples/request.ts"
import type { DocumentAnswer, DocumentOrder } from "./documents.ts"
import type { RenderAnswer, RenderOrder } from "../replies/renderer.ts"

/** Does what may be heavy off the event loop of the service, which ends this thread when it takes too long. */
parentPort!.on("message", ({ id, order }: { id: number; order: RenderOrder | DocumentOrder }) => {
  parentPort!.postMessage({ id, answer: answerTo(order) })
})

function answerTo(order: RenderOrder | DocumentOrder): RenderAnswer | DocumentAnswer {
  try {
    if (order.do === "describe") return { described: describedBy(order.document, order.wanted) }
    const kind = kindOf(order.kind)
    if (order.do === "looks") return { looks: lookOn(kind, order.parts) }
    return { parts: renderReply(kind, order.parts, order.place, order.channel) }
  } catch (error) {
    const { message } = error as Error
    return { fault: message, ...(error instanceof NotAnExample ? { remedy: error.remedy } : {}) }
  }
}
