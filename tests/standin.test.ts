import type { Standin } from "./support/harness.ts"
import { endAll, freePort, startStandin } from "./support/harness.ts"
import { createServer } from "node:http"
import type { Server } from "node:http"

let standin: Standin
let bot: { token: string; username: string; id: number }
let person: { id: number }
let stranger: { id: number }

beforeAll(async () => {
  standin = await startStandin({ pace: true })
  bot = await standin.post("bots", { username: "strict_bot", name: "Strict" })
  person = await standin.post("people", { first_name: "Ada" })
  stranger = await standin.post("people", { first_name: "Ruth" })
  await standin.post("say", { bot: bot.username, from: person.id, text: "hello" })
})
afterAll(endAll)

interface Answer {
  ok: boolean
  error_code?: number
  description?: string
  parameters?: { retry_after?: number; migrate_to_chat_id?: number }
  result?: { [field: string]: unknown }
}

async function call(method: string, body: object = {}, token = bot.token): Promise<Answer> {
  const answer = await fetch(`${standin.address}/bot${token}/${method}`, {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify(body),
  })
  return (await answer.json()) as Answer
}
const send = (more: object) => call("sendMessage", { chat_id: person.id, text: "hi", ...more })
const keyboard = (button: object) => ({ reply_markup: { inline_keyboard: [[button]] } })
/** A bot and a person of their own, for what counts messages. */
async function fresh(name: string) {
  const made = await standin.post<typeof bot>("bots", { username: name, name })
  const someone = await standin.post<{ id: number }>("people", { first_name: "Tom" })
  await standin.post("say", { bot: name, from: someone.id, text: "hello" })
  return { ...made, person: someone.id }
}

test.each<[string, () => Promise<Answer>, number, string]>([
  ["a wrong token", () => call("getMe", {}, "123:wrong"), 401, "Unauthorized"],
  ["a malformed token", () => call("getMe", {}, "nonsense"), 404, "Not Found"],
  ["a method there is not", () => call("flyAway"), 404, "Not Found"],
  ["no chat", () => send({ chat_id: undefined }), 400, "chat_id is empty"],
  ["somebody who never wrote", () => send({ chat_id: stranger.id }), 400, "chat not found"],
  ["no text", () => send({ text: "" }), 400, "message text is empty"],
  ["only blanks once parsed", () => send({ text: "<b> </b>", parse_mode: "HTML" }), 400, "message text is empty"],
  ["a text too long", () => send({ text: "x".repeat(4097) }), 400, "message is too long"],
  ["a tag that is not known", () => send({ text: "<h1>x</h1>", parse_mode: "HTML" }), 400, "Unsupported start tag"],
  ["a tag not closed", () => send({ text: "<b>x", parse_mode: "HTML" }), 400, "Can't find end tag"],
  ["tags that cross", () => send({ text: "<b><i>x</b></i>", parse_mode: "HTML" }), 400, "Unmatched end tag"],
  ["a bare ampersand", () => send({ text: "a & b", parse_mode: "HTML" }), 400, "Unsupported entity"],
  [
    "bold inside code",
    () => send({ text: "<code><b>x</b></code>", parse_mode: "HTML" }),
    400,
    "can't contain other entities",
  ],
  ["a button without words", () => send(keyboard({ text: "", callback_data: "a" })), 400, "Text is empty"],
  [
    "a button's data too long",
    () => send(keyboard({ text: "a", callback_data: "ü".repeat(33) })),
    400,
    "BUTTON_DATA_INVALID",
  ],
  [
    "an answer to nothing",
    () => send({ reply_parameters: { message_id: 99_999 } }),
    400,
    "message to be replied not found",
  ],
  [
    "an album of one",
    () => call("sendMediaGroup", { chat_id: person.id, media: [{ type: "photo", media: "a" }] }),
    400,
    "wrong number of media",
  ],
  ["a photo without one", () => call("sendPhoto", { chat_id: person.id }), 400, "no photo in the request"],
  [
    "a caption too long",
    () => call("sendPhoto", { chat_id: person.id, photo: "a", caption: "x".repeat(1025) }),
    400,
    "caption is too long",
  ],
  ["a press it never saw", () => call("answerCallbackQuery", { callback_query_id: "1" }), 400, "query is too old"],
  [
    "somebody else's message to edit",
    () => call("editMessageText", { chat_id: person.id, message_id: 1, text: "x" }),
    400,
    "can't be edited",
  ],
  [
    "a secret with blanks",
    () => call("setWebhook", { url: "http://127.0.0.1:1/", secret_token: "a b" }),
    400,
    "unallowed characters",
  ],
  ["an address that is none", () => call("setWebhook", { url: "nowhere" }), 400, "bad webhook"],
])("refuses %s", async (_name, ask, code, says) => {
  expect(await ask()).toMatchObject({
    ok: false,
    error_code: code,
    description: expect.stringContaining(says) as unknown,
  })
})

test("takes what the documentation allows, and gives the message back as a person sees it", async () => {
  const sent = await send({
    text: '<b>a</b> &lt; <a href="https://x.example/?a=1&amp;b=2">b</a>',
    parse_mode: "HTML",
    ...keyboard({ text: "Yes", callback_data: "y" }),
  })
  expect(sent.result).toMatchObject({
    text: "a < b",
    entities: [
      { type: "bold", offset: 0, length: 1 },
      { type: "text_link", offset: 4, length: 1, url: "https://x.example/?a=1&b=2" },
    ],
  })
  const form = new FormData()
  form.append("chat_id", String(person.id))
  form.append("document", new Blob(["hello"]), "a.txt")
  const upload = await fetch(`${standin.address}/bot${bot.token}/sendDocument`, { method: "POST", body: form })
  expect(await upload.json()).toMatchObject({ ok: true, result: { document: { file_id: "upload-a.txt-5" } } })
  const edited = { chat_id: person.id, message_id: sent.result!.message_id, text: "c" }
  expect((await call("editMessageText", edited)).ok).toBe(true)
  expect((await call("editMessageText", edited)).description).toContain("message is not modified")
  expect((await call("deleteMessage", edited)).ok).toBe(true)
})

test("a person who blocked the bot gets nothing; a group that moved says where to", async () => {
  const own = await fresh("blocked_bot")
  await standin.post("block", { bot: own.username, from: own.person })
  expect(await call("sendMessage", { chat_id: own.person, text: "x" }, own.token)).toMatchObject({
    error_code: 403,
    description: "Forbidden: bot was blocked by the user",
  })
  const group = await standin.post<{ id: number }>("groups", { title: "Crew", type: "group", bots: [own.username] })
  const moved = await standin.post<{ id: number }>("upgrade", { bot: own.username, from: own.person, chat: group.id })
  const answer = await call("sendMessage", { chat_id: group.id, text: "x" }, own.token)
  expect([group.id < 0, String(moved.id).startsWith("-100")]).toEqual([true, true])
  expect(answer.parameters).toEqual({ migrate_to_chat_id: moved.id })
})

test("a stream of messages to one chat is slowed down, with the seconds to wait", async () => {
  const own = await fresh("eager_bot")
  const answers = []
  for (let n = 0; n < 8; n++) answers.push(await call("sendMessage", { chat_id: own.person, text: `n${n}` }, own.token))
  const refused = answers.filter((answer) => !answer.ok)
  expect(refused.length).toBeGreaterThan(0)
  expect(refused[0]).toMatchObject({ error_code: 429, parameters: { retry_after: expect.any(Number) as unknown } })
})

test("polling and webhook exclude each other; an offset confirms", async () => {
  const own = await fresh("polled_bot")
  await standin.post("say", { bot: own.username, from: own.person, text: "two" })
  const updates = (await call("getUpdates", {}, own.token)).result as unknown as {
    update_id: number
    message: { text: string }
  }[]
  expect(updates.map((update) => update.message.text)).toEqual(["hello", "two"])
  expect((await call("getUpdates", {}, own.token)).result).toHaveLength(2)
  expect((await call("getUpdates", { offset: updates[1]!.update_id }, own.token)).result).toHaveLength(1)
  const waiting = call("getUpdates", { offset: updates[1]!.update_id + 1, timeout: 5 }, own.token)
  await new Promise((done) => setTimeout(done, 100))
  const second = call("getUpdates", { timeout: 1 }, own.token)
  expect(await waiting).toMatchObject({
    error_code: 409,
    description: expect.stringContaining("terminated by other getUpdates") as unknown,
  })
  await second
  await call("setWebhook", { url: `http://127.0.0.1:${await freePort()}/` }, own.token)
  expect(await call("getUpdates", {}, own.token)).toMatchObject({
    error_code: 409,
    description: expect.stringContaining("webhook is active") as unknown,
  })
  await call("deleteWebhook", {}, own.token)
  expect((await call("getUpdates", {}, own.token)).ok).toBe(true)
})

describe("a webhook", () => {
  let server: Server
  let port: number
  const got: { secret: string | undefined; update: { update_id: number; message?: { text?: string } } }[] = []
  let failures = 0

  beforeAll(async () => {
    port = await freePort()
    server = createServer((request, answer) => {
      let body = ""
      request.on("data", (chunk) => (body += String(chunk)))
      request.on("end", () => {
        if (failures-- > 0) return void answer.writeHead(500).end()
        got.push({
          secret: request.headers["x-telegram-bot-api-secret-token"] as string | undefined,
          update: JSON.parse(body) as (typeof got)[0]["update"],
        })
        answer.end()
      })
    }).listen(port, "127.0.0.1")
  })
  afterAll(() => server.close())

  const settled = async (count: number) => {
    const end = Date.now() + 10_000
    while (got.length < count && Date.now() < end) await new Promise((done) => setTimeout(done, 30))
    return got
  }

  test("is called with its secret, again after a failure, twice or out of order when asked to be", async () => {
    const own = await fresh("hooked_bot")
    await call("setWebhook", { url: `http://127.0.0.1:${port}/hook`, secret_token: "word" }, own.token)
    await settled(1)
    failures = 2
    const say = (text: string) => standin.post("say", { bot: own.username, from: own.person, text })
    await say("again")
    await settled(2)
    expect(got.map((one) => [one.secret, one.update.message!.text])).toEqual([
      ["word", "hello"],
      ["word", "again"],
    ])
    const info = (await call("getWebhookInfo", {}, own.token)).result!
    expect(info).toMatchObject({
      url: `http://127.0.0.1:${port}/hook`,
      pending_update_count: 0,
      last_error_message: expect.stringContaining("500") as unknown,
    })
    await standin.post("faults", { kind: "duplicates", count: 1 })
    await say("double")
    await settled(4)
    expect(got.slice(2).map((one) => one.update.update_id)).toEqual([
      got[2]!.update.update_id,
      got[2]!.update.update_id,
    ])
  })

  test("gets reactions and member changes only when it asked for them", async () => {
    const own = await fresh("asking_bot")
    got.length = 0
    await call("setWebhook", { url: `http://127.0.0.1:${port}/hook` }, own.token)
    await settled(1)
    const react = () => standin.post("react", { bot: own.username, from: own.person, message: 1, emoji: "👍" })
    await react()
    await call(
      "setWebhook",
      { url: `http://127.0.0.1:${port}/hook`, allowed_updates: ["message", "message_reaction"] },
      own.token,
    )
    await react()
    await settled(2)
    expect(got.slice(1).map((one) => Object.keys(one.update)[1])).toEqual(["message_reaction"])
  })
})

test("faults come on demand: so many, of one method, and then no more", async () => {
  const own = await fresh("faulty_bot")
  const ask = () => call("sendMessage", { chat_id: own.person, text: "x" }, own.token)
  await standin.post("faults", { kind: "429", method: "sendMessage", count: 1, seconds: 9 })
  expect(await ask()).toMatchObject({ error_code: 429, parameters: { retry_after: 9 } })
  expect((await ask()).ok).toBe(true)
  await standin.post("faults", { kind: "drop", method: "sendMessage", count: 1 })
  await expect(ask()).rejects.toThrow()
  const said = await standin.get<{ from: { is_bot: boolean } }[]>(`chats/${own.person}`)
  expect(said.filter((one) => one.from.is_bot)).toHaveLength(2)
})

test("the phone page is there to play a person with", async () => {
  const page = await (await fetch(standin.address)).text()
  expect(page).toContain("A phone at the stand-in")
})
