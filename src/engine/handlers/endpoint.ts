import Joi from "joi"
import { duration, list, oneOrMore } from "../../core/routing/parts.ts"
import { secretName } from "../../core/routing/botSchema.ts"
import type { AsksElsewhere } from "./elsewhere.ts"
import { cameBack, elsewhereKeys, insteadOf, meanwhileOf } from "./elsewhere.ts"
import type { HandlerKind } from "./handler.ts"

interface EndpointHandler extends AsksElsewhere {
  endpoint: string
  secret: string[]
  limit: number
  atOnce: number
}

/** Milliseconds that one call may take at most. */
const longestCall = 5 * 60_000

/** `handler: { endpoint: https://… }`: posts the turn to an address of the author's own, and says what it answers. */
export const endpoint: HandlerKind = {
  kind: "endpoint",
  asksElsewhere: true,
  insteadOf,
  schema: Joi.object({
    endpoint: Joi.string()
      .uri({ scheme: ["http", "https"] })
      .max(1000)
      .required()
      .custom((value: string, helpers) => {
        if (!URL.canParse(value)) return value
        const { username, password } = new URL(value)
        if (username === "" && password === "") return value
        return helpers.message(
          { custom: "{#says}" },
          { says: "an endpoint's address must not contain a name or a password" },
        )
      }),
    secret: oneOrMore(secretName)
      .custom((value: string | string[]) => list(value))
      .default([]),
    limit: duration
      .default(10_000)
      .custom((value: number, helpers) =>
        value >= 100 && value <= longestCall
          ? value
          : helpers.message({ custom: "{#says}" }, { says: "limit is from 100ms to 5m" }),
      ),
    atOnce: Joi.number().integer().min(1).max(1000).default(100),
    ...elsewhereKeys,
  }),
  secretsOf: (written) => (written as unknown as EndpointHandler).secret,
  async run(written, turn, release, given) {
    const handler = written as unknown as EndpointHandler
    const { asking, secrets } = given
    if (!asking) throw new Error("An endpoint is asked only by turns.")
    const { standing } = asking
    if (standing?.came) return cameBack(handler, standing.came, turn, release, given)
    if (standing) return { outcome: {}, log: [], waits: "still" }
    const asked = await asking.endpoint(
      {
        address: handler.endpoint,
        limit: Math.min(handler.limit, handler.within),
        atOnce: handler.atOnce,
        signedBy: handler.secret,
        secrets: Object.keys(secrets),
      },
      handler,
    )
    if ("answer" in asked) return { ...cameBack(handler, asked.answer, turn, release, given), calls: asked.calls }
    const meanwhile = meanwhileOf(handler, turn, release, given)
    return { outcome: {}, log: [], waits: { ...asked.waits, meanwhile }, calls: asked.calls }
  },
}
