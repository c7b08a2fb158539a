import type { OutgoingCall } from "../call.ts"

export const bearer = ["Bearer ", { secret: "accessToken" }]

/** A message of the Cloud API: `POST <apiBase>/<apiVersion>/<phoneNumberId>/messages`. */
export function sendCall(type: string, content: { [field: string]: unknown }): OutgoingCall {
  return {
    name: `messages ${type}`,
    method: "POST",
    address: messagesAddress,
    headers: { authorization: bearer },
    body: {
      json: {
        messaging_product: "whatsapp",
        recipient_type: "individual",
        to: { place: "address", as: "text" },
        biz_opaque_callback_data: { mark: "call" },
        type,
        ...content,
      },
    },
    speaks: true,
  }
}

/** The same to a group, where it says something at all. */
export function toGroup(call: OutgoingCall): OutgoingCall {
  if (!call.speaks || !call.body || !("json" in call.body)) return call
  return { ...call, body: { json: { ...(call.body.json as object), recipient_type: "group" } } }
}

const messagesAddress: OutgoingCall["address"] = [
  { setting: "apiBase" },
  "/",
  { setting: "apiVersion" },
  "/",
  { setting: "phoneNumberId" },
  "/messages",
]

/** Marks what the person said as read and, if asked, shows that an answer is being written. */
export function readCall(message: string, typing: boolean): OutgoingCall {
  return {
    name: typing ? "typing" : "read mark",
    method: "POST",
    address: messagesAddress,
    headers: { authorization: bearer },
    body: {
      json: {
        messaging_product: "whatsapp",
        status: "read",
        message_id: message,
        ...(typing ? { typing_indicator: { type: "text" } } : {}),
      },
    },
    speaks: false,
  }
}
