import type { IncomingHttpHeaders, ServerResponse } from "node:http"
import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import { atEnd } from "./harness.ts"

/** A call that a gateway received. */
export interface Came {
  method: string
  url: string
  headers: IncomingHttpHeaders
  body: string
}

/**
 * A gateway whose answers are said by the test: an object as JSON, a text as it is, a picture. A test that says nothing
 * answers by itself, through the response.
 */
export async function startGateway(
  answer: (call: Came, response: ServerResponse) => unknown = () => ({ id: "g-1" }),
): Promise<{ address: string; came: Came[] }> {
  const came: Came[] = []
  const server = createServer((request, response) => {
    let body = ""
    request.on("data", (piece: Buffer) => (body += String(piece)))
    request.on("end", () => {
      const call = { method: request.method!, url: request.url!, headers: request.headers, body }
      came.push(call)
      const said = answer(call, response)
      if (said === undefined) return
      response.setHeader("content-type", Buffer.isBuffer(said) ? "image/png" : "application/json")
      response.end(typeof said === "string" || Buffer.isBuffer(said) ? said : JSON.stringify(said))
    })
  })
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  atEnd(() => server.closeAllConnections())
  atEnd(() => void server.close())
  return { address: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, came }
}
