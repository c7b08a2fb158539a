import { parentPort } from "node:worker_threads"
import { kindOf } from "../../core/channels/registry.ts"
import { lookOn, renderReply } from "../../core/channels/renderReply.ts"
import type { RenderAnswer, RenderOrder } from "./renderer.ts"

/** Renders long replies off the event loop of the service, which ends this thread when one takes too long. */
parentPort!.on("message", (order: RenderOrder) => {
  parentPort!.postMessage(answerTo(order))
})

function answerTo(order: RenderOrder): RenderAnswer {
  try {
    const kind = kindOf(order.kind)
    if (order.do === "looks") return { id: order.id, looks: lookOn(kind, order.parts) }
    return { id: order.id, parts: renderReply(kind, order.parts, order.place, order.channel) }
  } catch (error) {
    return { id: order.id, fault: (error as Error).message }
  }
}
