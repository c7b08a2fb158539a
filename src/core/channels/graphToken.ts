import { isObject, listAt, objectAt } from "../message/json.ts"
import { readAnswer } from "./graphErrors.ts"
import type { OutgoingCall, ProviderAnswer } from "./call.ts"

/**
 * What an access token may do, as WhatsApp and Messenger tell it: the token asks about itself.
 *
 * @param secret the token's name among the channel's secrets
 */
export function askPermissions(secret: string): OutgoingCall {
  return {
    name: "debug_token",
    method: "GET",
    address: [{ setting: "apiBase" }, "/", { setting: "apiVersion" }, "/debug_token?input_token=", { secret }],
    headers: { authorization: ["Bearer ", { secret }] },
    speaks: false,
  }
}

/** Which of the wanted permissions are missing; nothing where the provider does not tell. */
export function missingPermissions(answer: ProviderAnswer, wanted: readonly string[]): string[] | undefined {
  const data = "body" in answer && answer.status === 200 ? objectAt(readAnswer(answer.body), "data") : undefined
  if (!isObject(data) || !Array.isArray(data.scopes)) return undefined
  const has = listAt(data, "scopes")
  return wanted.filter((one) => !has.includes(one))
}
