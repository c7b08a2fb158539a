import { shorten } from "../../message/graphemes.ts"
import { limits } from "./limits.ts"
import type { FormPart, OutgoingCall } from "../call.ts"

/** Opens a topic in a group that has topics. The bot must be an administrator there who may manage them. */
export function openTopic(name: string): OutgoingCall {
  const chat = { place: "address", as: "number" }
  return call("createForumTopic", { chat_id: chat, name: shorten(name, limits.topic) }, { speaks: true })
}

/** A call of a Bot API method. The address is `<apiBase>/bot<token>/<method>`. */
export function call(
  method: string,
  body: { [field: string]: unknown } | FormPart[],
  options: { speaks: boolean; timeout?: number },
): OutgoingCall {
  const made: OutgoingCall = {
    name: method,
    method: "POST",
    address: [{ setting: "apiBase" }, "/bot", { secret: "token" }, `/${method}`],
    body: Array.isArray(body) ? { form: body } : { json: body },
    speaks: options.speaks,
  }
  if (options.timeout) made.timeout = options.timeout
  return made
}
