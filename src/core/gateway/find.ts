import { readAnswer } from "../channels/graphErrors.ts"
import type { Doubts } from "../channels/kind.ts"
import { callOf } from "./calls.ts"
import { at, textAt } from "./fields.ts"
import { hasProfile, profileOf } from "./shipped.ts"

/**
 * Asking a gateway for one message by our own mark. An answer that holds the message settles a doubt, and so does one that
 * says there is none: 404, or a list without it.
 */
export const doubts: Doubts = {
  within: 20,
  // A message is asked for by our mark only where the gateway was told it.
  covers(call, channel) {
    const find = hasProfile(channel) ? profileOf(channel).find : undefined
    return find !== undefined && call.inline === undefined && JSON.stringify(find).includes("{mark}")
  },
  ask: (_place, _since, channel) => callOf(profileOf(channel).find!, channel, { name: "message" }),
  read(answer, mark, channel) {
    if ("failure" in answer) return { arrived: "unknown" }
    if (answer.status === 404) return { arrived: "no" }
    const body = answer.status < 300 ? readAnswer(answer.body) : undefined
    if (body === undefined) return { arrived: "unknown" }
    const { each, id, mark: where } = profileOf(channel).find!.answer
    const found = each === undefined ? [body] : at({ json: body }, each, channel.settings)
    const items = found === undefined ? [] : Array.isArray(found) ? (found as unknown[]) : [found]
    for (const json of items) {
      const providerId = textAt({ json }, id, channel.settings)
      const isOurs = where === undefined || textAt({ json }, where, channel.settings) === mark
      if (providerId !== undefined && isOurs) return { arrived: "yes", providerId }
    }
    return { arrived: "no" }
  },
}
