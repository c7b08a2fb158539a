import { randomBytes } from "node:crypto"
import type { IncomingMessage, ServerResponse } from "node:http"
import { createServer, request } from "node:http"
import type { AddressInfo } from "node:net"
import { startMessenger } from "../../src/standins/messenger/server.ts"
import type { Postman, Stage } from "../../src/standins/shared/standin.ts"
import { startSlack } from "../../src/standins/slack/server.ts"
import { startSms } from "../../src/standins/sms/server.ts"
import { startWhatsApp } from "../../src/standins/whatsapp/server.ts"

/** A kind of channel that signs, tells statuses and brings several at once, with people who write there. */
export interface OtherKind {
  kind: string
  key: string
  standin: { address: string; stage: Stage; postman: Postman; stop: () => Promise<void> }
  people: { id: string; name: string }[]
  channel: { kind: string; key: string; settings: object; secrets: object }
  /** What is done in the provider's own pages, where the service cannot: says where calls go. */
  subscribe?: () => Promise<unknown>
}

const word = () => randomBytes(6).toString("hex")

/** Starts the stand-ins of the kinds beside Telegram; `hook` is where their calls go, before the channel's key. */
export async function startOtherKinds(hook: string, each: number): Promise<OtherKind[]> {
  const people = (id: (n: number) => string) =>
    Array.from({ length: each }, (_, n) => ({ id: id(n), name: `Ines ${n}` }))
  const phones = people((n) => `4477009001${String(n).padStart(2, "0")}`)
  const whatsapp = {
    account: "1001",
    number: { id: "2001", display: "447700900999", name: "Tern Point Ferry" },
    token: word(),
    appSecret: word(),
  }
  const messenger = { page: { id: "3001", name: "Tern Point Ferry" }, token: word(), appSecret: word() }
  const slack = {
    team: { id: "T1", name: "Tern Point" },
    bot: { id: "B1", user: "UBOT", name: "ferry" },
    token: `xoxb-${word()}`,
    signingSecret: word(),
    hook: `${hook}/in/slack`,
    scopes: ["chat:write", "im:history", "users:read", "files:read"],
    channels: [{ id: "C1", name: "quay-desk", botIn: true }],
  }
  const sms = {
    face: "json" as const,
    number: "+447700900999",
    account: "AC1",
    key: word(),
    secret: word(),
    hook: `${hook}/in/sms`,
  }
  const onPages = people((n) => String(7_000_001 + n))
  const atWork = people((n) => `U${String(n).padStart(8, "0")}`)
  const texting = people((n) => `+4477009002${String(n).padStart(2, "0")}`)
  const verifyToken = word()
  const made: OtherKind[] = []
  const add = (
    kind: string,
    standin: OtherKind["standin"],
    people: OtherKind["people"],
    settings: object,
    secrets: { [name: string]: string },
  ) => {
    const usual = { apiBase: standin.address, perSecond: 1000, gather: 0, pauseBetween: [0, 0] }
    const channel = { kind, key: kind, settings: { ...usual, ...settings }, secrets }
    made.push({ kind, key: kind, standin, people, channel })
  }
  add(
    "whatsapp",
    await startWhatsApp({ ...whatsapp, people: phones }),
    phones,
    { phoneNumberId: whatsapp.number.id, businessAccountId: whatsapp.account, onDoubt: "park" },
    { accessToken: whatsapp.token, appSecret: whatsapp.appSecret },
  )
  const page = await startMessenger({ ...messenger, people: onPages })
  add(
    "messenger",
    page,
    onPages,
    { pageId: messenger.page.id, onDoubt: "resend" },
    { pageToken: messenger.token, appSecret: messenger.appSecret, verifyToken },
  )
  add(
    "slack",
    await startSlack({ ...slack, people: atWork }),
    atWork,
    { onDoubt: "resend" },
    { botToken: slack.token, signingSecret: slack.signingSecret },
  )
  add(
    "sms",
    await startSms({ ...sms, people: texting }),
    texting,
    { number: sms.number, publicUrl: hook, profile: "plain-json", onDoubt: "park" },
    { apiKey: sms.key, signingSecret: sms.secret },
  )
  made[1]!.subscribe = async () => {
    const body = JSON.stringify({ url: `${hook}/in/messenger`, verifyToken })
    // Until every service knows the channel, one may refuse the handshake.
    while (!(await fetch(`${page.address}/standin/hook`, { method: "POST", body })).ok)
      await new Promise((done) => setTimeout(done, 300))
  }
  return made
}

/** What a front door keeps: how many calls it was given, and how many of them no service has taken yet. */
export interface FrontDoor {
  address: string
  /** Calls that no service has acknowledged yet. */
  waiting: () => number
  stop: () => void
}

/**
 * A proxy before the services, as an author's would be: it brings each call to one of them, again until one takes it, in
 * the order in which they came, and now and then to several at once.
 */
export async function startFrontDoor(
  targets: () => string[],
  dice: { random: () => number; note: (fault: string) => void },
): Promise<FrontDoor> {
  let stopped = false
  let waiting = 0
  const lines = new Map<string, Promise<unknown>>()
  const once = (call: IncomingMessage, body: Buffer): Promise<{ status: number; type: string; text: string }> =>
    new Promise((done, fail) => {
      const all = targets()
      const { hostname, port, host } = new URL(all[Math.floor(dice.random() * all.length)]!)
      const headers = { ...call.headers, host, connection: "close" }
      const onward = request(
        { hostname, port, method: call.method, path: call.url, headers, timeout: 20_000 },
        (found) => {
          let text = ""
          found.on("data", (chunk) => (text += String(chunk)))
          found.on("end", () =>
            done({ status: found.statusCode!, type: String(found.headers["content-type"] ?? "text/plain"), text }),
          )
          found.on("error", fail)
        },
      )
      onward.on("timeout", () => onward.destroy(new Error("no answer in time")))
      onward.on("error", fail)
      onward.end(body)
    })
  const through = async (call: IncomingMessage, body: Buffer) => {
    const patience = performance.now() + 15_000
    for (;;) {
      const several = call.method === "POST" && dice.random() < 0.1
      if (several) dice.note(`${call.url!.split("/")[2]}: a call brought twice at once`)
      const answers = await Promise.allSettled(Array.from({ length: several ? 2 : 1 }, () => once(call, body)))
      const answer = answers.flatMap((one) => (one.status === "fulfilled" ? [one.value] : []))
      // One whose clock is wrong takes a signature for too old; another does not.
      const taken = answer.find(({ status }) => status < 400) ?? (call.method === "GET" ? answer[0] : undefined)
      if (taken || stopped) return taken
      // Refused by everybody for so long: whoever brought it signs it again.
      const refused = answer.find(({ status }) => status === 401 || status === 403)
      if (refused && performance.now() > patience) return refused
      await new Promise((done) => setTimeout(done, 150 + dice.random() * 500))
    }
  }
  const serve = async (call: IncomingMessage, answer: ServerResponse) => {
    const chunks: Buffer[] = []
    for await (const chunk of call) chunks.push(chunk as Buffer)
    const key = call.url!.split("?")[0]!
    waiting++
    const mine = (lines.get(key) ?? Promise.resolve()).then(() => through(call, Buffer.concat(chunks)))
    lines.set(key, mine)
    const taken = await mine
    waiting--
    if (answer.destroyed) return
    if (taken) answer.writeHead(taken.status, { "content-type": taken.type }).end(taken.text)
    else answer.writeHead(503).end()
  }
  const server = createServer((call, answer) => void serve(call, answer).catch(() => answer.destroy()))
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  return {
    address: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    waiting: () => waiting,
    stop: () => {
      stopped = true
      server.closeAllConnections()
      server.close()
    },
  }
}
