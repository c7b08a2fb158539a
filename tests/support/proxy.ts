import type { IncomingMessage, ServerResponse } from "node:http"
import { createServer, request } from "node:http"
import type { AddressInfo } from "node:net"
import { atEnd, pause } from "./harness.ts"

/** A proxy as it stands before a service, with the faults of its kind. */
export interface Proxy {
  address: string
  /** What it does to calls, until it is changed. */
  now: {
    /** Answers 502 instead of asking. */
    down: boolean
    /** Milliseconds a call waits before it is handed on. */
    slow: number
    /** Hands a call on and drops its answer. */
    loses: (call: IncomingMessage) => boolean
  }
  /** Breaks off everything that is open. */
  cut(): void
}

export async function startProxy(target: string): Promise<Proxy> {
  const { hostname, port } = new URL(target)
  const now: Proxy["now"] = { down: false, slow: 0, loses: () => false }
  const open = new Set<ServerResponse>()
  const server = createServer(async (call, answer) => {
    open.add(answer)
    answer.on("close", () => open.delete(answer))
    if (now.down) {
      answer.writeHead(502, { "content-type": "text/html" }).end("<h1>Bad gateway</h1>")
      return
    }
    if (now.slow > 0 && call.method === "POST") await pause(now.slow)
    const loses = now.loses(call)
    const onward = request({ hostname, port, method: call.method, path: call.url, headers: call.headers }, (found) => {
      if (loses) {
        found.resume().on("end", () => answer.destroy())
        return
      }
      answer.writeHead(found.statusCode!, found.headers)
      found.pipe(answer)
      found.on("error", () => answer.destroy())
    })
    onward.on("error", () => answer.headersSent || answer.writeHead(502).end())
    answer.on("close", () => onward.destroy())
    call.pipe(onward)
  })
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  const cut = () => open.forEach((answer) => answer.destroy())
  atEnd(async () => {
    cut()
    await new Promise((done) => {
      server.close(done)
      server.closeAllConnections()
    })
  })
  return { address: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, now, cut }
}
