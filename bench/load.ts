import { createServer, connect } from "node:net"
import type { Socket } from "node:net"
import { answerTo, callsOf } from "./calls.ts"

/**
 * The load, the same for whatever is measured: a crowd that writes, and a provider that takes every message at once.
 * A process of its own on bare sockets, so that it takes as little as possible of the processors it shares with what
 * it measures.
 */
export interface Wave {
  /** Where the calls go. */
  port: number
  path: string
  /** The kind of channel; Telegram when left out. */
  kind?: string
  /** The first update id, and how many there are. */
  from: number
  count: number
  /** Calls under way at once. */
  atOnce: number
  /** How many people write in turn, from which chat id on. */
  people: number
  firstPerson: number
  text: string
  /** Milliseconds between two calls of one connection; 0 for as fast as they are answered. */
  gap?: number
  /** Set where nobody is answered, since the channel is paused. */
  unanswered?: boolean
}

export interface WaveResult {
  /** Seconds from the first call to the last 2xx. */
  acknowledged: number
  /** Seconds from the first call to the last call that the provider took. */
  replied: number
  /** Milliseconds from each call to the provider's call for the same chat, as far as both were seen, sorted. */
  waits: number[]
  refused: number
}

/** What the load was told, and what it says back. */
export type ToLoad = { wave: Wave }
export type FromLoad = { provider: number } | { done: WaveResult }

/** Reads whole HTTP messages with a Content-Length off a socket. */
function reading(socket: Socket, whole: (head: string, body: string) => void): void {
  let kept = ""
  socket.setNoDelay(true)
  socket.setEncoding("latin1")
  socket.on("data", (chunk: string) => {
    kept += chunk
    for (;;) {
      const end = kept.indexOf("\r\n\r\n")
      if (end === -1) return
      const head = kept.slice(0, end)
      const length = Number(/content-length: *(\d+)/i.exec(head)?.[1] ?? 0)
      if (kept.length < end + 4 + length) return
      const body = kept.slice(end + 4, end + 4 + length)
      kept = kept.slice(end + 4 + length)
      whole(head, body)
    }
  })
  socket.on("error", () => socket.destroy())
}

let replies = 0
let heard: (() => void) | undefined
const sentAt = new Map<string, number>()
let waits: number[] = []

const provider = createServer((socket) => {
  reading(socket, (head, body) => {
    const { body: answer, message } = answerTo(head.slice(head.indexOf(" ") + 1, head.indexOf(" HTTP/")))
    socket.write(
      `HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: ${answer.length}\r\nconnection: keep-alive\r\n\r\n${answer}`,
    )
    if (!message) return
    const chat = /"chat_id": ?"?(-?\d+)/.exec(body)?.[1]
    const from = chat === undefined ? undefined : sentAt.get(chat)
    if (from !== undefined) waits.push(performance.now() - from)
    replies++
    heard?.()
  })
})

function callOf(wave: Wave, n: number): { chat: string; bytes: string } {
  const chat = String(wave.firstPerson + (n % wave.people))
  const kind = wave.kind ?? "telegram"
  const { headers, body } = callsOf[kind]!({
    n: wave.from + n,
    person: wave.firstPerson + (n % wave.people),
    text: wave.text,
    address: `http://127.0.0.1:${wave.port}${wave.path}`,
  })
  const lines = Object.entries(headers).map(([name, value]) => `${name}: ${value}\r\n`)
  const bytes = `POST ${wave.path} HTTP/1.1\r\nhost: 127.0.0.1:${wave.port}\r\n${lines.join("")}content-length: ${Buffer.byteLength(body)}\r\nconnection: keep-alive\r\n\r\n${body}`
  return { chat, bytes }
}

async function run(wave: Wave): Promise<WaveResult> {
  replies = 0
  waits = []
  sentAt.clear()
  let next = 0
  let refused = 0
  const begun = performance.now()
  const allReplied = new Promise<number>((resolve) => {
    heard = () => {
      if (replies >= wave.count - refused) resolve(performance.now())
    }
  })
  const line = () =>
    new Promise<void>((resolve, reject) => {
      const socket = connect(wave.port, "127.0.0.1")
      const more = () => {
        if (next >= wave.count) {
          socket.end()
          resolve()
          return
        }
        const { chat, bytes } = callOf(wave, next++)
        sentAt.set(chat, performance.now())
        socket.write(bytes)
      }
      reading(socket, (head) => {
        if (!head.startsWith("HTTP/1.1 2")) refused++
        if (wave.gap) setTimeout(more, wave.gap)
        else more()
      })
      socket.once("error", reject)
      socket.once("connect", more)
    })
  await Promise.all(Array.from({ length: wave.atOnce }, line))
  const acknowledged = (performance.now() - begun) / 1000
  heard?.()
  const last = wave.unanswered ? performance.now() : await allReplied
  return { acknowledged, replied: (last - begun) / 1000, waits: waits.sort((a, b) => a - b), refused }
}

process.on("message", (order: ToLoad) => {
  void run(order.wave).then((done) => process.send?.({ done } satisfies FromLoad))
})
process.on("disconnect", () => process.exit(0))
provider.listen(0, "127.0.0.1", () => {
  process.send?.({ provider: (provider.address() as { port: number }).port } satisfies FromLoad)
})
