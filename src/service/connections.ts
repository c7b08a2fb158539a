import type { Server as HttpServer } from "node:http"
import type { Socket } from "node:net"
import { problemOf } from "./problem.ts"
import { Trouble } from "../engine/trouble.ts"

/**
 * Bounds how many connections are open at once. Those that ask for nothing make room for those that do; where all are
 * busy, a new one is closed.
 */
export function boundConnections(server: HttpServer, most: number): void {
  let open = 0
  server.maxConnections = most
  server.on("connection", (socket: Socket) => {
    open++
    socket.once("close", () => open--)
    if (open > 0.9 * most) server.closeIdleConnections()
  })
}

const statuses: { [code: string]: [status: number, reason: string, says: string, remedy: string] } = {
  HPE_HEADER_OVERFLOW: [
    431,
    "Request Header Fields Too Large",
    "The request's headers are longer than 16 kB.",
    "Send fewer or shorter ones.",
  ],
  ERR_HTTP_REQUEST_TIMEOUT: [
    408,
    "Request Timeout",
    "The request did not come whole in time.",
    "Send it again, faster.",
  ],
}

/** Answers what is no HTTP that can be read with problem details too, and closes the connection. */
export function refuseUnreadable(error: Error & { code?: string }, socket: Socket): void {
  if (error.code === "ECONNRESET" || socket.destroyed || !socket.writable) return void socket.destroy()
  const [status, reason, says, remedy] = statuses[error.code ?? ""] ?? [
    400,
    "Bad Request",
    "The request is no HTTP/1.1 that can be read.",
    "Correct the request and send it again.",
  ]
  const problem = problemOf(new Trouble("bad-input", says, remedy), status)
  const body = JSON.stringify(problem)
  socket.end(
    `HTTP/1.1 ${status} ${reason}\r\ncontent-type: application/problem+json\r\ncontent-length: ${Buffer.byteLength(body)}\r\nconnection: close\r\n\r\n${body}`,
  )
}
