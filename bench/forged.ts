import type { Socket } from "node:net"
import { connect } from "node:net"
import type { Channel } from "../src/core/channels/kind.ts"
import type { InboundCall } from "../src/core/channels/call.ts"
import { kinds } from "../src/core/channels/registry.ts"
import { readSettings } from "../src/core/channels/settings.ts"
import { nearMiss } from "../src/core/signature/nearMiss.ts"
import type { OwnedSecret } from "../src/core/signature/secrets.ts"
import { callsOf, channelsFor } from "./calls.ts"

/** How long it takes to find out why a forged call was refused, in milliseconds. */
export interface SearchTime {
  kind: string
  /** Bytes of the call's body. */
  size: number
  p50: number
  p99: number
}

/** Genuine messages handled a second alone, and beside a flood of forged calls; and what of the flood was kept. */
export interface FloodResult {
  perSecond: number
  without: number[]
  beside: number[]
  forged: number
  kept: number
  bytes: number
}

/** Forged calls under secrets that match nothing, beside sixty of other channels: every neighbour is tried. */
export function searchTimes(count = 300): SearchTime[] {
  const others: OwnedSecret[] = Array.from({ length: 60 }, (_none, n) => ({
    channel: `other-${n}`,
    name: "appSecret",
    value: `a-secret-of-another-channel-${n}`,
  }))
  return channelsFor("https://provider.example", "https://bots.example").flatMap(({ kind, settings, secrets }) => {
    const known = kinds[kind]!
    const channel: Channel = {
      key: "quay",
      kind,
      settings: readSettings(known, settings).value,
      secrets: Object.fromEntries(Object.keys(secrets).map((name) => [name, "another secret altogether"])),
      publicBase: "https://bots.example",
    }
    return [200, 20_000].map((length) => {
      const text = "Is the boat to Höfn on time? ".repeat(Math.ceil(length / 29)).slice(0, length)
      const times: number[] = []
      let size = 0
      for (let n = 0; n < count; n++) {
        const made = callsOf[kind]!({ n, person: 1_000_000, text, address: "https://bots.example/in/quay" })
        const headers = Object.fromEntries(
          Object.entries(made.headers).map(([name, value]) => [name.toLowerCase(), value]),
        )
        const call: InboundCall = { method: "POST", address: "/in/quay", headers, body: Buffer.from(made.body) }
        size = call.body.length
        const verdict = known.verify(call, channel, new Date())
        // What follows is done for refused calls alone; a genuine one never comes here.
        const begun = performance.now()
        const proof = known.proof(call, channel)
        if (verdict.genuine || !proof || !("tried" in nearMiss(proof, call, channel, others)))
          throw new Error(`the forged call on ${kind} is not refused for nothing`)
        times.push(performance.now() - begun)
      }
      // The first ones warm up.
      const sorted = times.slice(50).sort((a, b) => a - b)
      const at = (part: number) => sorted[Math.floor((sorted.length - 1) * part)]!
      return { kind, size, p50: at(0.5), p99: at(0.99) }
    })
  })
}

/** Sends forged calls at an even pace until it is ended; gives how many there were. */
export function flood(port: number, path: string, perSecond: number): () => Promise<number> {
  const body = JSON.stringify({ update_id: 1, message: { text: "forged ".repeat(40) } })
  const bytes = `POST ${path} HTTP/1.1\r\nhost: 127.0.0.1:${port}\r\ncontent-type: application/json\r\nx-telegram-bot-api-secret-token: guessed-word\r\ncontent-length: ${Buffer.byteLength(body)}\r\nconnection: keep-alive\r\n\r\n${body}`
  const idle: Socket[] = []
  const all: Socket[] = []
  let sent = 0
  const open = () => {
    const socket = connect(port, "127.0.0.1")
    all.push(socket)
    socket.setNoDelay(true)
    socket.on("data", () => idle.push(socket))
    socket.on("error", () => socket.destroy())
    socket.once("connect", () => idle.push(socket))
  }
  for (let n = 0; n < 20; n++) open()
  const begun = performance.now()
  const timer = setInterval(() => {
    const due = ((performance.now() - begun) / 1000) * perSecond
    while (sent < due && idle.length > 0) {
      idle.pop()!.write(bytes)
      sent++
    }
  }, 5)
  return async () => {
    clearInterval(timer)
    await new Promise((resolve) => setTimeout(resolve, 100))
    for (const socket of all) socket.destroy()
    return sent
  }
}
