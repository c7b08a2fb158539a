import type { OutgoingCall } from "../call.ts"

export const bearer = ["Bearer ", { secret: "botToken" }]

/** A method of the Web API: `POST <apiBase>/api/<method>`. */
export function call(method: string, body: { [field: string]: unknown }, speaks: boolean): OutgoingCall {
  return {
    name: method,
    method: "POST",
    address: [{ setting: "apiBase" }, `/api/${method}`],
    headers: { authorization: bearer },
    body: { json: body },
    speaks,
  }
}

/** A method that reads; its arguments stand in the address. */
export function ask(method: string, query: { [field: string]: string }): OutgoingCall {
  return {
    name: method,
    method: "GET",
    address: [{ setting: "apiBase" }, `/api/${method}?${new URLSearchParams(query).toString()}`],
    headers: { authorization: bearer },
    speaks: false,
  }
}
