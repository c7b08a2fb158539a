import Joi from "joi"
import type { Relay } from "../../core/relay/relay.ts"
import { relaySchema } from "../../core/relay/relay.ts"
import type { HandlerKind } from "./handler.ts"

/** `handler: { relay: { to: … } }`: shows what was said in another place, and what is answered there back here. */
export const relay: HandlerKind = {
  kind: "relay",
  schema: Joi.object({ relay: relaySchema.required() }),
  async run(written) {
    return { outcome: {}, log: [], relay: written.relay as Relay }
  },
}
