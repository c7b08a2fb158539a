import { accountFault, readAnswer } from "../graphErrors.ts"
import { askPermissions, missingPermissions } from "../graphToken.ts"
import type { Account, Fetching, Uploading } from "../kind.ts"
import type { OutgoingCall } from "../call.ts"
import { idAt, listAt, numberAt, objectAt, textAt } from "../../message/json.ts"
import { bearer } from "./calls.ts"
import { judgeAnswer } from "./judge.ts"

const graph = (name: string, method: "GET" | "POST" | "DELETE", ...path: OutgoingCall["address"]): OutgoingCall => ({
  name,
  method,
  address: [{ setting: "apiBase" }, "/", { setting: "apiVersion" }, "/", ...path],
  headers: { authorization: bearer },
  speaks: false,
})

/** States of a number in which it cannot send, and what they mean. */
const states: { [state: string]: string } = {
  PENDING: "it is not registered yet",
  OFFLINE: "it is not registered any more",
  FLAGGED: "people complained about its messages",
  RESTRICTED: "it has sent all it may until the limit is lifted",
  RATE_LIMITED: "too many tries to register it were made",
  BANNED: "nothing can be sent from it any more",
  UNVERIFIED: "its ownership is not proven yet",
}

export const account: Account = {
  check: () =>
    graph(
      "phone number",
      "GET",
      { setting: "phoneNumberId" },
      "?fields=id,display_phone_number,verified_name,quality_rating,status",
    ),
  readCheck(answer) {
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    const id = idAt(body, "id")
    if (id === undefined) return accountFault(judgeAnswer(answer))
    const name = textAt(body, "verified_name")
    const handle = textAt(body, "display_phone_number")
    const rating = textAt(body, "quality_rating")
    const state = textAt(body, "status")
    const barred = state === undefined ? undefined : states[state]
    return {
      identity: {
        id,
        ...(name ? { name } : {}),
        ...(handle ? { handle } : {}),
        remarks:
          rating && rating !== "GREEN" && rating !== "UNKNOWN" ? [`The provider rates this number ${rating}.`] : [],
        ...(barred ? { restricted: [`WhatsApp says the number is ${state}: ${barred}.`] } : {}),
      },
    }
  },
  permissions: () => askPermissions("accessToken"),
  readPermissions: (answer) =>
    missingPermissions(answer, ["whatsapp_business_messaging", "whatsapp_business_management"]),
  /** Subscribes the app to the account's events, with this channel's address in place of the app's own. */
  connect: (_channel, address) => ({
    ...graph("subscribed_apps", "POST", { setting: "businessAccountId" }, "/subscribed_apps"),
    body: { json: { override_callback_uri: address, verify_token: { secret: "verifyToken" } } },
  }),
  disconnect: () => graph("subscribed_apps", "DELETE", { setting: "businessAccountId" }, "/subscribed_apps"),
  lookUp: () => graph("subscribed_apps", "GET", { setting: "businessAccountId" }, "/subscribed_apps"),
  readLookUp(answer) {
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    if (!body) return accountFault(judgeAnswer(answer))
    const apps = listAt(body, "data")
    const address = apps.map((app) => textAt(app, "override_callback_uri")).find(Boolean)
    const names = apps.map((app) => textAt(objectAt(app, "whatsapp_business_api_data"), "name") ?? "an app")
    return { onRecord: { ...(address ? { address } : {}), ...(names.length > 0 ? { events: names } : {}) } }
  },
  compare(channel, onRecord, address) {
    const again = `Run "wobbet channel connect ${channel.key}".`
    if (!onRecord.events) return [`No app is subscribed to the account's events, so WhatsApp sends nothing. ${again}`]
    if (onRecord.address === undefined)
      return [
        `The account's events go to the address set in the app's own settings, which the provider does not tell. If that is not ${address}: ${again}`,
      ]
    if (onRecord.address === address) return []
    return [`WhatsApp has ${onRecord.address} on record, but this channel's inlet is ${address}. ${again}`]
  },
  byHand: ({ identity }, address) => [
    { field: "Callback URL", value: address },
    { field: "Verify token", value: "the secret verifyToken" },
    { field: "Webhook fields", value: "messages, message_template_status_update" },
    {
      field: "Access token",
      value: "of a system user, without an end, with whatsapp_business_messaging and whatsapp_business_management",
      ...(identity?.missing === undefined ? {} : { done: identity.missing.length === 0 }),
    },
    {
      field: "Phone number",
      value: "registered, and its name approved",
      ...(identity === undefined ? {} : { done: (identity.restricted ?? []).length === 0 }),
    },
    { field: "App mode", value: "Live: an app in development brings nothing but tests" },
    { field: "Payment method", value: "one is set: without it, templates are refused" },
    { field: "Test numbers only", value: "each receiver in the list of up to five" },
  ],
}

/** Uploaded media are kept for 30 days. */
export const uploading: Uploading = {
  ask: (upload) => ({
    ...graph("media", "POST", { setting: "phoneNumberId" }, "/media"),
    body: {
      form: [
        { name: "messaging_product", value: "whatsapp" },
        { name: "type", value: upload.mime },
        { name: "file", data: upload.data, filename: upload.name, mime: upload.mime },
      ],
    },
    timeout: 60_000,
  }),
  read(answer) {
    const ref = "body" in answer && answer.status === 200 ? idAt(readAnswer(answer.body), "id") : undefined
    return ref === undefined ? undefined : { ref, lasts: 30 * 86_400 }
  },
}

/** Where the content lies is told on asking; that address lives five minutes and wants the token too. */
export const fetching: Fetching = {
  find: (ref) => graph("media", "GET", encodeURIComponent(ref)),
  readFind(answer) {
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    const address = textAt(body, "url")
    if (address === undefined) return undefined
    const mime = textAt(body, "mime_type")
    const size = numberAt(body, "file_size")
    return { address, ...(mime ? { mime } : {}), ...(size !== undefined ? { size } : {}) }
  },
  fetch: (address) => ({
    name: "media content",
    method: "GET",
    address: [address],
    headers: { authorization: bearer },
    speaks: false,
  }),
}
