import { createHmac } from "node:crypto"
import type { IncomingMessage, ServerResponse } from "node:http"
import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import type { AskedEvent } from "../../src/core/elsewhere/asked.ts"
import { atEnd } from "./harness.ts"

/** A call as an endpoint received it. */
export interface Received {
  event: AskedEvent
  headers: IncomingMessage["headers"]
  body: string
  url: string
}

/** An endpoint of a test's own: everything it was asked, and how it answers, which may be changed at any time. */
export async function startEndpoint(answers: (call: Received, answer: ServerResponse) => unknown) {
  const calls: Received[] = []
  const endpoint = { answers }
  const server = createServer((request, answer) => {
    let body = ""
    request.on("data", (chunk) => (body += String(chunk)))
    request.on("end", () => {
      const event = JSON.parse(body || "{}") as AskedEvent
      const call = { event, headers: request.headers, body, url: request.url! }
      calls.push(call)
      void endpoint.answers(call, answer)
    })
  })
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  atEnd(() => new Promise((done) => (server.closeAllConnections(), server.close(done))))
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  return Object.assign(endpoint, { url, calls, close: () => (server.closeAllConnections(), server.close()) })
}

/** Answers with JSON. */
export function json(
  answer: ServerResponse,
  value: unknown,
  status = 200,
  headers: { [name: string]: string } = {},
): void {
  answer.writeHead(status, { "content-type": "application/json", ...headers }).end(JSON.stringify(value))
}

/** Whether a call is signed by a key, as the Standard Webhooks specification says. */
export function isSigned({ headers, body }: Received, key: string): boolean {
  const signed = `${String(headers["webhook-id"])}.${String(headers["webhook-timestamp"])}.${body}`
  const expected = `v1,${createHmac("sha256", key).update(signed).digest("base64")}`
  return String(headers["webhook-signature"]).split(" ").includes(expected)
}
