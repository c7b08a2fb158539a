import { readFileSync } from "node:fs"
import { connect } from "node:net"
import type { Client } from "../../src/client/client.ts"
import type { ServiceProcess, Standin } from "../support/harness.ts"
import { atEnd, endAll, eventually, pause, Stage, startProcess, startStandin, tempFolder } from "../support/harness.ts"
import { long } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"

/** Promise 10: a stranger costs little. */
let service: ServiceProcess
let standin: Standin
let stage: Stage
let owner: Client

beforeAll(async () => {
  standin = await startStandin()
  service = await startProcess({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin)
  owner = service.client
}, 60_000)
afterAll(endAll)

const ask = (path: string) => fetch(`${service.address}${path}`)
const post = (path: string, body: object) =>
  fetch(`${service.address}${path}`, {
    method: "POST",
    body: JSON.stringify(body),
    headers: { "content-type": "application/json", authorization: `Bearer ${service.token}` },
  })

/** Bytes of bodies that the service holds, as it counts them. */
async function bytesUnderWay(): Promise<number> {
  const figures = await fetch(`${service.address}/metrics`, { headers: { authorization: `Bearer ${service.token}` } })
  return Number(/^wobbet_bodies_bytes (-?\d+)$/m.exec(await figures.text())![1])
}

describe("what is said cannot stop the service", () => {
  /** How often the service answers somebody else until a request is done. */
  async function othersServed(until: Promise<unknown>): Promise<number> {
    let done = false
    void until.catch(() => undefined).then(() => (done = true))
    let served = 0
    while (!done) {
      expect((await ask("/health/live")).status).toBe(200)
      served++
      await pause(5)
    }
    return served
  }

  test.each([
    ...long(
      ["asterisks and underscores", "*_".repeat(60_000)],
      ["quotes in quotes", "> ".repeat(50_000)],
      ["lists in lists", "- ".repeat(50_000)],
      ["links without an end", "[a](".repeat(40_000)],
    ),
    ["many links", "[a](https://x.example) ".repeat(2000)],
  ])(
    "How it looks, asked for %s, answers, and others meanwhile",
    async (_name, text) => {
      const looking = post("/api/v1/looks", { replies: [{ part: "text", text }] })
      const served = await othersServed(looking)
      // Shown, or refused with a reason; never a fault.
      expect([200, 422, 503]).toContain((await looking).status)
      expect(served).toBeGreaterThan(1)
    },
    60_000,
  )

  test("4 KB that a handler gives back are answered", async () => {
    const before = (await stage.answers()).length
    await stage.say(`say boat ${"*_".repeat(2000)}`)
    await stage.answered(before + 1)
  })
})

describe("bodies", () => {
  test("that many strangers hold open take no memory from others", async () => {
    const rss = () => Number(readFileSync(`/proc/${service.child.pid}/statm`, "utf8").split(" ")[1]) / 256
    await owner.addChannel({
      kind: "whatsapp",
      key: "held",
      settings: { apiBase: standin.address, phoneNumberId: "1", businessAccountId: "1" },
      secrets: { accessToken: "made-up", appSecret: "made-up" },
    })
    const before = rss()
    const { hostname, port } = new URL(service.address)
    const megabyte = Buffer.alloc(1024 * 1024, 0x20)
    const size = Math.floor(3.9 * 1024 * 1024)
    const held = await Promise.all(
      Array.from({ length: 120 }, async () => {
        const socket = connect(Number(port), hostname)
        socket.on("error", () => undefined).resume()
        atEnd(() => void socket.destroy())
        socket.write(
          `POST /in/held HTTP/1.1\r\nhost: x\r\nx-hub-signature-256: sha256=${"0".repeat(64)}\r\ncontent-length: ${4 * 1024 * 1024}\r\n\r\n`,
        )
        for (let sent = 0; sent < size && !socket.destroyed; sent += megabyte.length)
          await new Promise<void>((done) => {
            socket.write(megabyte.subarray(0, Math.min(megabyte.length, size - sent)), () => done())
            socket.once("close", () => done())
          })
        return socket
      }),
    )
    // 468 MB were sent, and 64 may be held. What the system still holds for the service is read meanwhile.
    for (let look = 0; look < 20; look++) {
      expect(await bytesUnderWay()).toBeLessThanOrEqual(64 * 1024 * 1024)
      await pause(100)
    }
    expect(rss() - before).toBeLessThan(300)
    const answers = (await stage.answers()).length
    await stage.say("say genuine")
    await stage.answered(answers + 1)
    held.forEach((socket) => socket.destroy())
  }, 60_000)

  test("of a call whose headers refute it are not read", async () => {
    const { hostname, port } = new URL(service.address)
    // Of half a megabyte only a little is ever sent: whoever waits for the rest gives no answer.
    const answer = await new Promise<string>((done) => {
      let got = ""
      const socket = connect(Number(port), hostname)
      socket.on("data", (chunk) => (got += String(chunk)))
      socket.on("close", () => done(got))
      socket.write(
        `POST /in/${stage.key} HTTP/1.1\r\nhost: x\r\nx-telegram-bot-api-secret-token: guessed\r\ncontent-length: 500000\r\n\r\n${"x".repeat(30_000)}`,
      )
    })
    expect(answer).toContain("HTTP/1.1 401 ")
    const passage = await eventually(async () => {
      const [last] = (await owner.passages({ channel: stage.key, genuine: false, limit: 1 })).items
      const whole = last && (await owner.passage(last.id))
      return whole?.intake?.notes.some((note) => note.includes("of its 500000 bytes")) ? whole : undefined
    }, "the refused call")
    expect(passage.intake!.verdict.genuine).toBe(false)
  }, 30_000)

  test("count no longer once their calls were answered, however they ended", async () => {
    const guess = (key: string, size: number) =>
      fetch(`${service.address}/in/${key}`, {
        method: "POST",
        headers: { "x-telegram-bot-api-secret-token": "guessed" },
        body: "x".repeat(size),
      }).then((answer) => answer.status)
    const sizes = [10, 20_000, 200_000, 900_000, 2_000_000]
    // Refuted by their headers and cut short, too long, or for nobody.
    expect(await Promise.all(sizes.map((size) => guess(stage.key, size)))).toEqual([401, 401, 401, 401, 401])
    expect(await Promise.all(sizes.map((size) => guess("nobody", size)))).toEqual([404, 404, 404, 404, 404])
    await eventually(async () => (await bytesUnderWay()) === 0, "no body to count")
  }, 60_000)
})
