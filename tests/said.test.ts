import { createHmac } from "node:crypto"
import type { ServerResponse } from "node:http"
import { createServer } from "node:http"
import { railWord } from "../src/client/rail.ts"
import type { MessageView } from "../src/client/types.ts"
import type { Service, Standin } from "./support/harness.ts"
import {
  atEnd,
  endAll,
  eventually,
  freePort,
  run,
  Stage,
  startService,
  startStandin,
  tempFolder,
} from "./support/harness.ts"

const bot = (gate: number) => ({
  "bot.yaml": `
bot: quay
groups: always
gather: 300ms
deadline: 60s
routes:
  - { name: approvals, when: { event: template-status }, handler: approvals }
  - { name: taken back, when: { event: deleted }, handler: { text: "You took something back." } }
  - { name: form, when: { event: form }, handler: form }
  - { name: boat, when: { phrase: "boat" }, handler: { text: "14:20" } }
  - { name: silent, when: { phrase: "thanks" }, handler: silent }
  - { name: slow, when: { phrase: "slowly" }, handler: slow }
  - { name: throws, when: { phrase: "throw" }, handler: throws }
unrouted: { text: "Nobody knows." }
`,
  "handlers/approvals.ts": `export default ({ message }) => ({ replies: [], state: { told: message.text } })`,
  "handlers/form.ts": `export default ({ message }) => \`\${message.form.fields.seats} seats on \${message.form.fields.day}\``,
  "handlers/silent.ts": `export default () => ({ replies: [] })`,
  "handlers/slow.ts": `export default async () => { await fetch("http://127.0.0.1:${gate}"); return "at last" }`,
  "handlers/throws.ts": `export default () => { throw new Error("the fog is too thick") }`,
})

let service: Service
let standin: Standin
/** Lets the handler go that waits. */
let open: () => void
beforeAll(async () => {
  standin = await startStandin()
  const port = await freePort()
  const waiting: ServerResponse[] = []
  const gate = createServer((_request, answer) => void waiting.push(answer)).listen(port, "127.0.0.1")
  atEnd(() => void gate.close())
  open = () => waiting.splice(0).forEach((answer) => answer.end())
  service = await startService({ bot: tempFolder(bot(port)) })
})
afterAll(endAll)

/** A provider that takes everything it is sent, and keeps it. */
async function taker(): Promise<{ address: string; taken: { [field: string]: unknown }[] }> {
  const taken: { [field: string]: unknown }[] = []
  const port = await freePort()
  const server = createServer((request, answer) => {
    let body = ""
    request.on("data", (chunk) => (body += String(chunk)))
    request.on("end", () => {
      if (request.method === "POST") taken.push(JSON.parse(body || "{}") as (typeof taken)[0])
      const id = `out.${port}.${taken.length}`
      answer.setHeader("content-type", "application/json")
      answer.end(JSON.stringify({ messages: [{ id }], message_id: id, recipient_id: "7" }))
    })
  }).listen(port, "127.0.0.1")
  atEnd(() => void server.close())
  return { address: `http://127.0.0.1:${port}`, taken }
}

/** A channel of a kind whose calls are signed with the app's secret, called as its provider calls it. */
async function hub(kind: "whatsapp" | "messenger") {
  const { address, taken } = await taker()
  const key = `${kind}-${await freePort()}`
  const settings = { whatsapp: { phoneNumberId: "2001", businessAccountId: "1001" }, messenger: { pageId: "300" } }[
    kind
  ]
  const tokens = { whatsapp: ["accessToken"], messenger: ["pageToken", "verifyToken"] }[kind]
  const secrets = Object.fromEntries([...tokens.map((name) => [name, "t"]), ["appSecret", "the-app-secret"]]) as {
    [name: string]: string
  }
  await service.client.addChannel({ kind, key, settings: { apiBase: address, ...settings }, secrets })
  const call = async (body: object) => {
    const text = JSON.stringify(body)
    const signature = `sha256=${createHmac("sha256", "the-app-secret").update(text).digest("hex")}`
    const headers = { "content-type": "application/json", "x-hub-signature-256": signature }
    const answer = await fetch(`${service.address}/in/${key}`, { method: "POST", headers, body: text })
    expect(answer.status).toBe(200)
  }
  const page = (...messaging: object[]) => call({ object: "page", entry: [{ id: "300", time: 1, messaging }] })
  const change = (value: object, field = "messages") =>
    call({
      object: "whatsapp_business_account",
      entry: [{ id: "1001", changes: [{ field, value: { metadata: { phone_number_id: "2001" }, ...value } }] }],
    })
  const messages = async (query: object = {}) => (await service.client.messages({ channel: key, ...query })).items
  const found = (query: object) => eventually(async () => (await messages(query))[0], JSON.stringify(query))
  return { key, taken, page, change, messages, found }
}

const text = (id: string, body: string, more: object = {}) => ({
  messages: [{ from: "447700900123", id, timestamp: "1795000000", type: "text", text: { body }, ...more }],
})
const said = (mid: string, message: object) => ({
  sender: { id: "7" },
  recipient: { id: "300" },
  timestamp: Date.now(),
  message: { mid, ...message },
})

describe("what staff write with the account in their own hands", () => {
  test("on Messenger stands in our column, by whom, in the person's conversation, and gets no turn", async () => {
    const { page, found, messages } = await hub("messenger")
    const echo = { sender: { id: "300" }, recipient: { id: "7" }, timestamp: Date.now() }
    await page({ ...echo, message: { mid: "m_staff", is_echo: true, app_id: 26, text: "I will look for it" } })
    const staff = await found({ direction: "out" })
    expect(staff).toMatchObject({ origin: "elsewhere", author: "another application (26)", status: "sent" })
    expect(railWord(staff.stops!).word).toBe("sent")
    await page(said("m_1", { text: "boat" }))
    const asked = await found({ direction: "in" })
    await found({ direction: "out", text: "14:20" })
    expect(asked.conversation).toBe(staff.conversation)
    expect(await messages({ direction: "in" })).toHaveLength(1)
    const [conversation] = (await service.client.conversations({ channel: asked.channel })).items
    expect(conversation).toMatchObject({ address: "7", messages: 3 })
    const passage = await service.client.passage(staff.id)
    expect(passage.stops[3]).toMatchObject({ stop: "routed", state: "skipped" })
    expect(passage.paths[0]!.turns).toEqual([])
  })

  test("on WhatsApp is seen to be delivered, and a person's message behind it is answered", async () => {
    const { change, found } = await hub("whatsapp")
    const echo = { from: "447700900999", to: "447700900123", id: "wamid.S", timestamp: "1795000000", type: "text" }
    await change({ message_echoes: [{ ...echo, text: { body: "On its way" } }] }, "smb_message_echoes")
    const staff = await found({ direction: "out" })
    expect(staff).toMatchObject({ author: "the business app", origin: "elsewhere", text: "On its way" })
    await change({ statuses: [{ id: "wamid.S", status: "delivered", timestamp: "1795000001" }] })
    await found({ direction: "out", status: "delivered" })
    await change(text("wamid.1", "boat"))
    await found({ direction: "out", text: "14:20" })
  })
})

test("a Messenger deletion is an event of its own, whether or not its message was seen", async () => {
  const { page, found, taken } = await hub("messenger")
  await page(said("m_1", { text: "boat" }))
  await found({ direction: "out" })
  await page(said("m_1", { is_deleted: true }))
  const gone = await found({ event: "deleted" })
  expect(gone.body).toMatchObject({ replyTo: "m_1" })
  await page(said("m_never", { is_deleted: true }))
  await eventually(async () => taken.length === 3, "both deletions to be answered")
})

test("a template's approval can be routed", async () => {
  const { change, found } = await hub("whatsapp")
  const approved = { event: "APPROVED", message_template_id: "1", message_template_name: "hold" }
  await change({ ...approved, message_template_language: "en" }, "message_template_status_update")
  const told = await found({ event: "template-status", status: "handled" })
  expect(told.route).toBe("approvals")
  expect((await service.client.conversation(told.conversation)).state).toEqual({ told: "hold (en) APPROVED" })
})

test("a form that was filled in reaches its handler, field by field", async () => {
  const { change, found } = await hub("whatsapp")
  const filled = { name: "flow", body: "Sent", response_json: '{"seats":3,"day":"friday"}' }
  await change(text("wamid.F", "", { type: "interactive", interactive: { type: "nfm_reply", nfm_reply: filled } }))
  expect((await found({ direction: "out" })).text).toBe("3 seats on friday")
})

test("a WhatsApp group is the place: the answer goes there, and never to the person alone", async () => {
  const { change, taken, found } = await hub("whatsapp")
  await change(text("wamid.G", "boat", { group_id: "Y2FwaV9ncm91cA" }))
  await found({ direction: "out" })
  await eventually(async () => taken.length > 0, "the answer")
  expect(taken[0]).toMatchObject({ recipient_type: "group", to: "Y2FwaV9ncm91cA", text: { body: "14:20" } })
})

test("a number is one person's however it is written, on the command line and by the API", async () => {
  const { key, found } = await hub("whatsapp")
  const conversations = new Set<string>()
  for (const to of ["447700900123", "+447700900123", "+44 7700 900123"])
    conversations.add((await service.client.send({ to, channel: key, text: "Hello" })).conversation)
  const sent = await run(["send", "+447700900123", "Hello", "--channel", key, "--json"], service.env)
  conversations.add((JSON.parse(sent.out) as { conversation: string }).conversation)
  expect(conversations.size).toBe(1)
  expect(await found({ direction: "out" })).toMatchObject({ address: "447700900123" })
  expect((await service.client.conversations({ text: "+44 7700 900123", channel: key })).items).toHaveLength(1)
})

/** The word for a message's state on every surface: two lists, the message, its passage, the commands. */
async function words(message: MessageView): Promise<string[]> {
  const { client, env } = service
  const [listed] = (await client.messages({ conversation: message.conversation, direction: message.direction })).items
  const inConversation = (await client.conversationMessages(message.conversation)).items
  const passage = await client.passage(message.id)
  const shown = [
    listed,
    inConversation.findLast(({ id }) => id === listed?.id),
    await client.message(listed!.id),
    ...(message.direction === "in" ? [passage] : []),
  ].map((one) => railWord(one!.stops!).word)
  const commands = [
    await run(["message", "show", listed!.id], env),
    await run(["message", "find", "--conversation", message.conversation, "--direction", message.direction], env),
    ...(message.direction === "in" ? [await run(["passage", listed!.id], env)] : []),
  ]
  return [...shown, ...commands.map(({ out }) => (new RegExp(`[●◐✕○·] {2}${shown[0]}\\b`).test(out) ? shown[0]! : out))]
}

async function expectWord(stage: Stage, status: string, direction: "in" | "out", word: string): Promise<void> {
  const found = await eventually(async () => {
    const [newest] = await stage.messages({ direction })
    return newest?.status === status && railWord(newest.stops!).word === word ? newest : undefined
  }, `${direction} to be ${word}`)
  expect([...new Set(await words(found))]).toEqual([word])
}

describe("one state, one word, on every surface", () => {
  test.each<[string, string, string]>([
    ["boat", "handled", "answered"],
    ["thanks", "handled", "handled"],
    ["nobody knows this", "unrouted", "answered"],
  ])("said %s", async (line, status, word) => {
    const stage = await Stage.set(service, standin)
    await stage.say(line)
    await expectWord(stage, status, "in", word)
    if (word === "answered") await expectWord(stage, "sent", "out", "sent")
  })

  test("several texts gathered into one turn, answered by the fallback, are all answered", async () => {
    const stage = await Stage.set(service, standin)
    await stage.say("nobody")
    await stage.say("knows this")
    await stage.answered(1)
    const both = await eventually(async () => {
      const found = await stage.messages({ direction: "in", status: "unrouted" })
      return found.length === 2 && found.every((one) => one.replies?.length === 1) ? found : undefined
    }, "both to have their turn")
    for (const message of both) {
      const passage = await eventually(async () => {
        const shown = await service.client.passage(message.id)
        return shown.stops[5]!.state === "done" ? shown : undefined
      }, "the passage")
      expect(railWord(passage.stops).word).toBe("answered")
      expect(railWord((await service.client.message(message.id)).stops!).word).toBe("answered")
    }
  })

  test("a handler that runs for seconds is being handled: since when, and by which", async () => {
    const stage = await Stage.set(service, standin)
    await stage.say("slowly")
    await expectWord(stage, "being handled", "in", "being handled")
    const [message] = await stage.messages({ status: "being handled" })
    expect(message).toMatchObject({ reason: 'the handler "slow" is running', since: expect.any(String) as unknown })
    expect((await run(["message", "show", message!.id], service.env)).out).toMatch(
      /because +the handler "slow" is running \(since /,
    )
    open()
    await stage.answered(1)
    await expectWord(stage, "handled", "in", "answered")
  })

  test("what fails is being tried again, then parked; dropped, it says so", async () => {
    const stage = await Stage.set(service, standin)
    await stage.say("throw")
    await eventually(async () => {
      const [newest] = await stage.messages({ direction: "in" })
      return newest?.status === "retrying" && railWord(newest.stops!).word === "retrying"
    }, "it to be tried again")
    await expectWord(stage, "parked", "in", "parked")
    const [message] = await stage.messages({ status: "parked" })
    await service.client.dropParked(message!.parked!)
    await expectWord(stage, "dropped", "in", "dropped")
  })

  test("what waits for the day's cap says so and until when; another cap lets it go", async () => {
    const stage = await Stage.set(service, standin, { perDay: 1 })
    await stage.say("boat")
    await stage.answered(1)
    await service.client.send({ to: String(stage.person.id), channel: stage.key, text: "And back at 18:00" })
    const waiting = await eventually(async () => {
      const [found] = await stage.messages({ direction: "out", status: "waiting" })
      return found?.until ? found : undefined
    }, "the reason")
    expect(waiting.reason).toBe("waits for the day's cap of 1, which is reached (a day begins at midnight UTC)")
    expect(waiting.until).toMatch(/T00:00:0\d/)
    await expectWord(stage, "waiting", "out", "waiting")
    await service.client.changeChannel(stage.key, { settings: { perDay: 2 } })
    await stage.answered(2)
  })

  test("a person never heard from is shown by their address", async () => {
    const { key, found } = await hub("whatsapp")
    await service.client.send({ to: "447700900555", channel: key, text: "Hello" })
    await found({ direction: "out" })
    const list = await run(["message", "find", "--channel", key], service.env)
    expect(list.out).toContain("447700900555")
    expect(list.out).not.toContain(key)
  })
})
