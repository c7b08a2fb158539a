import type { OutgoingCall } from "../call.ts"

export const bearer = ["Bearer ", { secret: "pageToken" }]

export function graph(
  name: string,
  method: OutgoingCall["method"],
  path: OutgoingCall["address"],
  json?: unknown,
): OutgoingCall {
  return {
    name,
    method,
    address: [{ setting: "apiBase" }, "/", { setting: "apiVersion" }, "/", ...path],
    headers: { authorization: bearer },
    ...(json === undefined ? {} : { body: { json } }),
    speaks: false,
  }
}

const recipient = { id: { place: "address", as: "text" } }

/** A message of the Send API. Its metadata comes back in the echo. */
export function sendCall(name: string, message: { [field: string]: unknown }): OutgoingCall {
  const body = { recipient, messaging_type: "RESPONSE", message: { ...message, metadata: { mark: "call" } } }
  return { ...graph(name, "POST", ["me/messages"], body), speaks: true }
}

export function actionCall(action: "typing_on" | "mark_seen"): OutgoingCall {
  return graph(action, "POST", ["me/messages"], { recipient, sender_action: action })
}
