import Joi from "joi"
import type { AsksElsewhere } from "./elsewhere.ts"
import { cameBack, elsewhereKeys, insteadOf, meanwhileOf } from "./elsewhere.ts"
import type { HandlerKind } from "./handler.ts"

/** Names of queues. */
export const queueName = Joi.string()
  .pattern(/^[a-z0-9][a-z0-9-]{0,62}$/)
  .message("a queue's name is small letters, digits and hyphens, such as baggage")

interface QueueHandler extends AsksElsewhere {
  queue: string
}

/** `handler: { queue: baggage }`: the turn waits until a worker fetches it, and says what the worker answers. */
export const queue: HandlerKind = {
  kind: "queue",
  asksElsewhere: true,
  insteadOf,
  schema: Joi.object({ queue: queueName.required(), ...elsewhereKeys }),
  async run(written, turn, release, given) {
    const handler = written as unknown as QueueHandler
    const { asking } = given
    if (!asking) throw new Error("Only turns wait at a queue.")
    const { standing } = asking
    if (standing?.came) return cameBack(handler, standing.came, turn, release, given)
    if (standing) return { outcome: {}, log: [], waits: "still" }
    const waits = await asking.queue(handler.queue, handler)
    return { outcome: {}, log: [], waits: { ...waits, meanwhile: meanwhileOf(handler, turn, release, given) } }
  },
}
