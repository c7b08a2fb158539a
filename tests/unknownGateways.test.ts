import { createHash, createHmac } from "node:crypto"
import { join } from "node:path"
import { writeFileSync } from "node:fs"
import type { Service } from "./support/harness.ts"
import { endAll, eventually, run, startService, tempFolder } from "./support/harness.ts"
import type { Came } from "./support/gateway.ts"
import { startGateway } from "./support/gateway.ts"
import { quayBot } from "./support/quayBot.ts"

/**
 * Gateways nobody here has seen, each connected from what its documentation shows: sample calls and example
 * requests. No profile is written by hand. What a person gives is counted.
 */
let service: Service
beforeAll(async () => {
  const fields = `routes:\n  - { name: fields, when: { fields: { campaign: spring } }, handler: { text: "spring it is" } }\n`
  service = await startService({
    bot: tempFolder({ ...quayBot, "bot.yaml": quayBot["bot.yaml"]!.replace("routes:\n", fields) }),
  })
}, 60_000)
afterAll(endAll)

/** Writes files as a person would save them from the documentation, and gives their paths. */
function files(contents: { [name: string]: string }): string[] {
  const folder = tempFolder()
  return Object.entries(contents).map(([name, text]) => {
    writeFileSync(join(folder, name), text)
    return join(folder, name)
  })
}

/** Connects with the command line, and gives how many things a person gave: settings, secrets, files. */
async function connects(key: string, ...args: string[]): Promise<{ inputs: number; out: string }> {
  const added = await run(["channel", "add", "custom", key], service.env)
  expect(added.err).toBe("")
  const learned = await run(["channel", "learn", key, "--yes", ...args], service.env)
  expect({ code: learned.code, err: learned.err, out: learned.code === 0 ? "" : learned.out }).toEqual({
    code: 0,
    err: "",
    out: "",
  })
  return {
    inputs: args.filter((one) => /^--(set|secret|sample|request|answer|remedy|also)$/.test(one)).length,
    out: learned.out,
  }
}

const inlet = (key: string, query = "") => `${service.address}/in/${key}${query}`
const post = (
  url: string,
  body: string,
  headers: { [name: string]: string } = { "content-type": "application/json" },
) => fetch(url, { method: "POST", headers, body }).then((answer) => answer.status)

const posts = (came: Came[], path: RegExp) => came.filter((call) => call.method === "POST" && path.test(call.url))

test("bearer JSON: a signed sample and one example", async () => {
  const { address, came } = await startGateway()
  const signed = (body: string) => createHmac("sha256", "sign-me").update(body).digest("hex")
  const body = (id: string, text: string) =>
    JSON.stringify({
      event: "sms.received",
      data: {
        uid: id,
        sender: "+447700900301",
        recipient: "+447700900999",
        content: text,
        received_at: "2026-11-27T10:00:00Z",
        meta: { campaign: "spring" },
      },
    })
  const first = body("m-1", "say first words")
  const [sample, request] = files({
    "sample.http": `POST /hook HTTP/1.1\nHost: you.example\nContent-Type: application/json\nX-Lines-Signature: ${signed(first)}\n\n${first}`,
    "send.txt": `curl -X POST ${address}/v1/messages -H "Authorization: Bearer lk_0123456789" -H "Content-Type: application/json" -d '{"to":"+447700900301","text":"Hello there","reference":"abc"}'`,
  })
  const { inputs, out } = await connects(
    ...["lines", "--sample", sample!, "--request", request!, "--also", "campaign=/data/meta/campaign"],
    ...["--secret", "signingSecret=sign-me", "--secret", "apiKey=lk_0123456789"],
  )
  expect(inputs).toBe(5)
  expect(out).not.toContain("lk_0123456789")
  const second = body("m-2", "two words")
  expect(
    await post(inlet("lines"), second, { "content-type": "application/json", "x-lines-signature": signed(second) }),
  ).toBe(200)
  expect(await post(inlet("lines"), second, { "content-type": "application/json", "x-lines-signature": "00" })).toBe(
    401,
  )
  await eventually(async () => posts(came, /messages/).length === 1, "the answer")
  expect(came[0]!.headers.authorization).toBe("Bearer lk_0123456789")
  expect(JSON.parse(came[0]!.body)).toEqual({
    to: "+447700900301",
    text: "spring it is",
    reference: expect.stringMatching(/^msg_/) as unknown,
  })
})

test("a form with a signed address: one call and one example", async () => {
  const { address, came } = await startGateway(() => ({ sid: "SM2" }))
  const signed = (key: string, form: { [name: string]: string }) =>
    createHmac("sha1", "tok-123456")
      .update(
        inlet(key) +
          Object.keys(form)
            .sort()
            .map((name) => name + form[name])
            .join(""),
      )
      .digest("base64")
  const form = (id: string, text: string) => ({
    MessageSid: id,
    From: "+447700900302",
    To: "+447700900999",
    Body: text,
    NumMedia: "0",
  })
  const call = (one: { [name: string]: string }) =>
    post(inlet("forms"), new URLSearchParams(one).toString(), {
      "content-type": "application/x-www-form-urlencoded",
      "x-forms-signature": signed("forms", one),
    })
  const [request] = files({
    "send.txt": `curl ${address}/2010/Accounts/AC99/Messages.json -X POST --data-urlencode "To=+447700900302" --data-urlencode "From=+447700900999" --data-urlencode "Body=Hello there" -u AC99:your_auth_token`,
  })
  const waiting = connects(
    ...["forms", "--request", request!, "--set", "accountId=AC99", "--set", "number=+447700900999"],
    ...["--secret", "authToken=tok-123456"],
  )
  await eventually(
    async () => (await service.client.channels()).items.some((one) => one.key === "forms" && one.learning),
    "the wait",
  )
  expect(await call(form("SM1", "say hello form"))).toBe(200)
  expect((await waiting).inputs).toBe(4)
  await eventually(async () => came.length === 1, "the answer")
  expect(came[0]!.url).toBe("/2010/Accounts/AC99/Messages.json")
  expect(came[0]!.headers.authorization).toBe(`Basic ${Buffer.from("AC99:tok-123456").toString("base64")}`)
  expect(Object.fromEntries(new URLSearchParams(came[0]!.body))).toEqual({
    To: "+447700900302",
    From: "+447700900999",
    Body: "you said hello form",
  })
})

test("a queue with receipts and account states: three samples and three examples", async () => {
  const waiting: { receiptId: number; body: object }[] = []
  const { address, came } = await startGateway(({ method, url }) => {
    if (url.includes("receiveNotification")) return waiting[0] ?? null
    if (method !== "DELETE") return { idMessage: "q-out-1" }
    waiting.splice(
      waiting.findIndex((one) => url.endsWith(`/${one.receiptId}`)),
      1,
    )
    return { result: true }
  })
  const message = (id: string, text: string) => ({
    typeWebhook: "incomingMessageReceived",
    instanceData: { wid: "447700900999@c.us" },
    idMessage: id,
    timestamp: 1764237600,
    senderData: { chatId: "447700900303@c.us", sender: "447700900303@c.us", senderName: "Ines" },
    messageData: { textMessage: text },
  })
  const status = (id: string, word: string) => ({
    typeWebhook: "outgoingMessageStatus",
    chatId: "447700900303@c.us",
    idMessage: id,
    status: word,
    timestamp: 1764237601,
  })
  const state = (word: string) => ({ typeWebhook: "stateInstanceChanged", stateInstance: word, timestamp: 1764237602 })
  const given = files({
    "message.json": JSON.stringify(message("in-0", "hello from the pier")),
    "status.json": JSON.stringify(status("q-out-0", "delivered")),
    "state.json": JSON.stringify(state("notAuthorized")),
    "send.txt": `curl "${address}/waInstance1101000001/sendMessage/{{apiTokenInstance}}" -H 'Content-Type: application/json' -d '{"chatId":"447700900303@c.us","message":"Hello there"}'`,
    "receive.txt": `GET ${address}/waInstance1101000001/receiveNotification/{{apiTokenInstance}} HTTP/1.1\nAccept: application/json\n\nHTTP/1.1 200 OK\n\n{"receiptId":1234567,"body":{"typeWebhook":"incomingMessageReceived"}}`,
    "delete.txt": `curl -X DELETE "${address}/waInstance1101000001/deleteNotification/{{apiTokenInstance}}/1234567"`,
  })
  const [first, second, third, send, receive, remove] = given
  const { inputs, out } = await connects(
    ...["pier", "--sample", first!, "--sample", second!, "--sample", third!],
    ...["--request", send!, "--request", receive!, "--request", remove!],
    ...[
      "--set",
      "accountId=waInstance1101000001",
      "--secret",
      "apiTokenInstance=t-0123456789",
      "--remedy",
      "Scan the code again.",
    ],
  )
  expect(inputs).toBe(9)
  expect(out).toContain("reports of delivery; the account's state")
  waiting.push({ receiptId: 11, body: message("in-1", "say pier words") })
  await eventually(async () => posts(came, /sendMessage/).length === 1, "the answer")
  const [sent] = posts(came, /sendMessage/)
  expect([sent!.url, JSON.parse(sent!.body)]).toEqual([
    "/waInstance1101000001/sendMessage/t-0123456789",
    { chatId: "447700900303@c.us", message: "you said pier words" },
  ])
  await eventually(async () => waiting.length === 0, "its removal")
  waiting.push({ receiptId: 12, body: status("q-out-1", "delivered") })
  await eventually(
    async () => (await service.client.messages({ channel: "pier", direction: "out" })).items[0]!.status === "delivered",
    "the report of delivery",
  )
  waiting.push({ receiptId: 13, body: state("notAuthorized") })
  await eventually(async () => (await service.client.channel("pier")).state === "locked out", "the pause")
  expect(await service.client.channel("pier")).toMatchObject({
    remedy: "Scan the code again.",
    reason: expect.stringContaining("notAuthorized") as unknown,
  })
}, 60_000)

test("a sorted hash with XML, answered inside the call: one check, one call and an example of the answer", async () => {
  const word = "beacon-word"
  const proven = (more: { [name: string]: string } = {}) => {
    const at = String(Math.floor(Date.now() / 1000))
    const salt = "n0nce77"
    const sig = createHash("sha1").update([word, at, salt].sort().join("")).digest("hex")
    return `?${new URLSearchParams({ sig, at, salt, ...more })}`
  }
  const xml = (id: string, text: string) =>
    `<xml><ToUserName><![CDATA[gh_beacon]]></ToUserName><FromUserName><![CDATA[person-7]]></FromUserName><CreateTime>1764237600</CreateTime><MsgType><![CDATA[text]]></MsgType><Content><![CDATA[${text}]]></Content><MsgId>${id}</MsgId></xml>`
  const [answer] = files({
    "answer.xml": `<xml><ToUserName>person-1</ToUserName><FromUserName>gh_1</FromUserName><CreateTime>1460541339</CreateTime><MsgType>text</MsgType><Content>hello back</Content></xml>`,
  })
  const waiting = connects("beacon", "--answer", answer!, "--secret", `sharedWord=${word}`)
  await eventually(
    async () => (await service.client.channels()).items.some((one) => one.key === "beacon" && one.learning),
    "the wait",
  )
  const checked = await fetch(inlet("beacon", proven({ echostr: "5577" })))
  expect(await checked.text()).toBe("5577")
  expect(await post(inlet("beacon", proven()), xml("9001", "say lit"), { "content-type": "text/xml" })).toBe(200)
  expect((await waiting).inputs).toBe(2)
  const again = await fetch(inlet("beacon", proven({ echostr: "5578" })))
  expect([again.status, await again.text()]).toEqual([200, "5578"])
  expect((await fetch(inlet("beacon", "?sig=00&at=1&salt=2&echostr=1"))).status).toBe(403)
  const called = await fetch(inlet("beacon", proven()), {
    method: "POST",
    headers: { "content-type": "text/xml" },
    body: xml("9002", "say lit"),
  })
  const said = await called.text()
  expect(said).toMatch(
    /<ToUserName>person-7<\/ToUserName><FromUserName>gh_beacon<\/FromUserName><CreateTime>\d{10}<\/CreateTime><MsgType>text<\/MsgType><Content>you said lit<\/Content>/,
  )
})

test("a bridge with instances, nested payloads and echoes: it registers, and stays silent to itself", async () => {
  let hook = ""
  let n = 0
  const message = (text: string, more: object = {}) => ({
    event: "messages.upsert",
    instance: "quay",
    data: {
      key: { remoteJid: "447700900305@s.whatsapp.net", fromMe: false, id: `B5E0F${++n}` },
      pushName: "Rui",
      message: { conversation: text },
      messageTimestamp: 1764237600,
      ...more,
    },
  })
  const { address, came } = await startGateway(({ method, url, body }) => {
    if (url.startsWith("/webhook/set")) {
      hook = (JSON.parse(body) as { url: string }).url
      return { webhook: { url: hook } }
    }
    if (url.startsWith("/webhook/find")) return hook === "" ? {} : { url: hook, enabled: true }
    if (url.startsWith("/message/sendText")) {
      const { text } = JSON.parse(body) as { text: string }
      // It brings back what it was given, as if a person had said it.
      setTimeout(
        () =>
          void post(
            hook,
            JSON.stringify({
              ...message(text),
              data: {
                ...message(text).data,
                key: { remoteJid: "447700900305@s.whatsapp.net", fromMe: true, id: `B5E0F${++n}` },
              },
            }),
          ),
        50,
      )
    }
    return method === "GET" ? {} : { key: { id: `OUT${++n}` } }
  })
  const [sample, send, set, find] = files({
    "sample.json": JSON.stringify(message("hello from a phone")),
    "send.txt": `curl -X POST "${address}/message/sendText/{instance}" ^\n  -H "apikey: <api-key>" ^\n  -H "Content-Type: application/json" ^\n  -d "{\\"number\\":\\"447700900305\\",\\"text\\":\\"Hello there\\"}"`,
    "set.txt": `curl -X POST ${address}/webhook/set/{instance} -H 'apikey: <api-key>' -H 'Content-Type: application/json' -d '{"enabled":true,"url":"https://you.example/hook","events":["MESSAGES_UPSERT"]}'`,
    "find.txt": `curl ${address}/webhook/find/{instance} -H 'apikey: <api-key>'`,
  })
  const { inputs, out } = await connects(
    ...["bridge", "--sample", sample!, "--request", send!, "--request", set!, "--request", find!],
    ...["--set", "instance=quay", "--secret", "apiKey=ak-0123456789", "--secret", "sharedWord=a word & more"],
  )
  expect(inputs).toBe(7)
  expect(out).toContain("our own words: where /data/key/fromMe is true")
  const before = await service.client.channelRecord("bridge")
  expect(before.differences).toEqual([expect.stringContaining("has no address on record")])
  const connected = await service.client.connectChannel("bridge")
  // The address is registered with the word in it, and read back without.
  expect(hook).toBe(`${inlet("bridge")}?word=a%20word%20%26%20more`)
  expect(connected).toMatchObject({ differences: [], onRecord: { address: `${inlet("bridge")}?word=•••` } })
  expect(posts(came, /webhook\/set\/quay$/)[0]!.headers.apikey).toBe("ak-0123456789")
  expect(await post(hook, JSON.stringify(message("say over the bridge")))).toBe(200)
  await eventually(async () => posts(came, /sendText\/quay$/).length === 1, "the answer")
  expect(JSON.parse(posts(came, /sendText/)[0]!.body)).toEqual({
    number: "447700900305",
    text: "you said over the bridge",
  })
  await eventually(
    async () => (await service.client.messages({ channel: "bridge", direction: "in" })).items.length >= 2,
    "the echo",
  )
  await new Promise((done) => setTimeout(done, 1500))
  expect(posts(came, /sendText/)).toHaveLength(1)
  // Another address there is told, and which part differs.
  hook = "https://elsewhere.example/hook"
  expect((await service.client.channelRecord("bridge")).differences).toEqual([
    expect.stringContaining("they differ in the scheme"),
  ])
}, 60_000)

test("a hub with many accounts and attachments by two ids", async () => {
  const png = Buffer.from(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==",
    "base64",
  )
  const { address, came } = await startGateway(({ url }) =>
    url.includes("/attachments/") ? png : { object: "MessageSent", message_id: "h-out" },
  )
  const message = (id: string, text: string, account = "acc_quay", attachments: object[] = []) => ({
    event: "message_received",
    account_id: account,
    chat_id: "chat_AAbb11",
    message_id: id,
    message: text,
    sender: { attendee_name: "Mara", attendee_provider_id: "p-1" },
    is_sender: false,
    is_group: false,
    timestamp: "2026-11-27T10:00:00.000Z",
    attachments,
  })
  const [sample, send, fetchOne] = files({
    "sample.json": JSON.stringify(
      message("h-0", "hello from the hub", "acc_quay", [
        { id: "att_1", mimetype: "image/png", size: 70, file_name: "boat.png" },
      ]),
    ),
    "send.txt": `POST ${address}/api/v1/chats/chat_AAbb11/messages HTTP/1.1\nX-API-KEY: {YOUR_API_KEY}\nContent-Type: application/json\n\n{"text": "Hello there"}`,
    "fetch.txt": `curl ${address}/api/v1/messages/{message_id}/attachments/{attachment_id} -H 'X-API-KEY: {YOUR_API_KEY}'`,
  })
  const { inputs } = await connects(
    ...["hub", "--sample", sample!, "--request", send!, "--request", fetchOne!],
    ...["--set", "accountId=acc_quay", "--secret", "apiKey=hk-0123456789", "--secret", "sharedWord=lantern-word"],
  )
  expect(inputs).toBe(6)
  const call = (body: object) => post(inlet("hub", "?word=lantern-word"), JSON.stringify(body))
  expect(await call(message("h-1", "say lantern"))).toBe(200)
  await eventually(async () => posts(came, /chats/).length === 1, "the answer")
  expect([posts(came, /chats/)[0]!.url, JSON.parse(posts(came, /chats/)[0]!.body)]).toEqual([
    "/api/v1/chats/chat_AAbb11/messages",
    { text: "you said lantern" },
  ])
  // Another account's messages are none of this channel's.
  expect(await call(message("h-2", "say other", "acc_other"))).toBe(200)
  expect(
    await call(
      message("h-3", "a picture for you", "acc_quay", [
        { id: "att 7/x", mimetype: "image/png", size: 70, file_name: "boat.png" },
      ]),
    ),
  ).toBe(200)
  await eventually(async () => {
    const [found] = (await service.client.messages({ channel: "hub", direction: "in", event: "media" })).items
    return found?.kept?.[0]?.state === "kept"
  }, "the attachment")
  const [fetched] = came.filter(({ url }) => url.includes("/attachments/"))
  expect([fetched!.url, fetched!.headers["x-api-key"]]).toEqual([
    "/api/v1/messages/h-3/attachments/att%207%2Fx",
    "hk-0123456789",
  ])
  expect(
    (await service.client.messages({ channel: "hub", direction: "in" })).items.some((one) => one.text === "say other"),
  ).toBe(false)
}, 60_000)

const word = "a-word-of-theirs"
const json = (value: object) => JSON.stringify(value)
/** A sample as a call with the shared word in its address. */
const called = (value: object) => `POST /hook?word=${word} HTTP/1.1\nContent-Type: application/json\n\n${json(value)}`

test("numbers as ids, our own beside the sender's, and refusals answered with 200", async () => {
  let taken = true
  const { address, came } = await startGateway(() =>
    taken ? { ok: true, result: { message_id: 71 } } : { ok: false, error: "chat not found" },
  )
  const update = (chat: number, text: string, n: number) => ({
    update: n,
    me: { phone: "+447700900999", name: "Quay" },
    message: { id: n, date: 1764237600, chat: { id: chat, name: "Ines" }, text: { body: text } },
  })
  const [sample, send, answer] = files({
    "sample.http": called(update(7_700_123_456, "say hello there", 1)),
    "send.txt": `curl -X POST ${address}/bot/v2/sendMessage -H 'X-Skiff-Token: sk-4f9a8b7c6d5e' -H 'Content-Type: application/json' -d '{"chat_id": 7700123456, "text": "Hello there", "silent": false}'`,
    "answer.json": json({ ok: true, result: { message_id: 70 } }),
  })
  await connects(
    ...["skiff", "--sample", sample!, "--request", send!, "--answer", `send=${answer}`, "--names"],
    ...["--secret", `sharedWord=${word}`, "--secret", "skiffToken=sk-4f9a8b7c6d5e"],
  )
  const call = (n: number) => post(inlet("skiff", `?word=${word}`), json(update(7_700_123_457, "say number words", n)))
  expect(await call(2)).toBe(200)
  const sent = await eventually(async () => posts(came, /sendMessage/)[0], "the answer")
  expect([sent.headers["x-skiff-token"], JSON.parse(sent.body)]).toEqual([
    "sk-4f9a8b7c6d5e",
    { chat_id: 7_700_123_457, text: "you said number words", silent: false },
  ])
  taken = false
  expect(await call(3)).toBe(200)
  const refused = await eventually(async () => {
    const { items } = await service.client.messages({ channel: "skiff", direction: "out" })
    return items.find(({ status }) => status === "parked")
  }, "the refusal")
  expect(refused.reason).toBe("chat not found")
  const said = (await service.client.messages({ channel: "skiff" })).items.map(({ providerId }) => providerId)
  expect(said).toEqual([null, "3", "71", "2"])
})

test("one key under three names, a session asked for once, receipts in capitals, and states told by an event's name", async () => {
  const hooks: { url: string }[] = [{ url: "https://elsewhere.example/hook" }]
  const { address, came } = await startGateway(({ method, url, body }) => {
    if (!url.includes("webhooks")) return { id: "true_out_1" }
    if (method === "POST") hooks.push(...(JSON.parse(body) as { hooks: { url: string }[] }).hooks)
    return { hooks }
  })
  const event = (name: string, payload: object) => ({ event: name, session: "harbor", payload })
  const message = (from: string, text: string, id: string) =>
    event("message.received", { from, to: "447700900999@c.us", body: text, id, fromMe: false, timestamp: 1764237600 })
  const ack = (id: string, word: string) => event("message.ack", { id, ack: word })
  const lost = event("session.disconnected", { reason: "logged out on the phone" })
  const key = "dk_9f8e7d6c5b4a"
  const given = files({
    "message.http": called(message("447700900311@c.us", "is there a boat", "in-0")),
    "lost.http": called(lost),
    "ack.http": called(ack("out-0", "DELIVERED")),
    "send.txt": `curl -X POST ${address}/api/device/send -H 'apikey: ${key}' -H 'Content-Type: application/json' -d '{"session":"harbor","to":"447700900311@c.us","text":"Hello there"}'`,
    "set.txt": `curl -X POST ${address}/api/sessions/harbor/webhooks -H 'X-Api-Key: ${key}' -H 'Content-Type: application/json' -d '{"hooks":[{"url":"https://you.example/hook","events":["message"]}]}'`,
    "read.txt": `GET ${address}/api/sessions/harbor/webhooks?token=${key} HTTP/1.1\n\nHTTP/1.1 200 OK\n\n{"hooks":[{"url":"https://you.example/hook"}]}`,
  })
  const [sample, state, receipt, send, set, read] = given
  const { out } = await connects(
    ...["dinghy", "--sample", sample!, "--sample", state!, "--sample", receipt!],
    ...["--request", send!, "--request", set!, "--request", read!, "--remedy", "Scan the code again."],
    ...["--set", "session=harbor", "--secret", `sharedWord=${word}`, "--secret", `apikey=${key}`],
  )
  expect(out).not.toContain(key)
  const known = await service.client.channel("dinghy")
  const { settings, secrets } = (await service.client.profiles()).items.find(({ name }) => name === "dinghy")!
  expect([settings, secrets, known.settings.session]).toEqual([["session"], ["sharedWord", "apikey"], "harbor"])
  // Another address is on record there, too, and stands before ours.
  expect((await service.client.connectChannel("dinghy")).differences).toEqual([])
  expect(hooks[1]!.url).toBe(`${inlet("dinghy")}?word=${word}`)
  const bring = (value: object) => post(hooks[1]!.url, json(value))
  expect(await bring(message("447700900312@c.us", "say device words", "in-1"))).toBe(200)
  const sent = await eventually(async () => posts(came, /device/)[0], "the answer")
  expect([sent.url, JSON.parse(sent.body)]).toEqual([
    "/api/device/send",
    { session: "harbor", to: "447700900312@c.us", text: "you said device words" },
  ])
  expect(await bring(ack("true_out_1", "READ"))).toBe(200)
  await eventually(
    async () => (await service.client.messages({ channel: "dinghy", direction: "out" })).items[0]!.status === "read",
    "the receipt",
  )
  expect(await bring(lost)).toBe(200)
  await eventually(async () => (await service.client.channel("dinghy")).state === "locked out", "the state")
  expect((await service.client.channel("dinghy")).reason).toContain("logged out on the phone")
  expect(await bring(event("session.connected", {}))).toBe(200)
  await eventually(async () => (await service.client.channel("dinghy")).state === "on", "the way back")
})

test("multipart, and people whose ids are UUIDs", async () => {
  const { address, came } = await startGateway(() => ({ success: true, messageId: "t-1" }))
  const person = (n: number) => `${n}b9f3a52-6c1d-4e0f-9a77-3f2c5d1e8b64`
  const message = (from: string, text: string, id: string) => ({ contact: { uid: from, name: "Rui" }, note: text, id })
  const [sample, send] = files({
    "sample.http": called(message(person(1), "is there a boat", "t-in-0")),
    "send.txt": `curl ${address}/v1/messages -u ferry:tk_0123456789abcdef -F "contact=${person(1)}" -F "message=Hello there" -F "ref=my-1"`,
  })
  await connects(
    ...["tender", "--sample", sample!, "--request", send!, "--field", "from=/contact/uid"],
    ...["--set", "accountId=ferry", "--secret", `sharedWord=${word}`, "--secret", "apiSecret=tk_0123456789abcdef"],
  )
  expect(await post(inlet("tender", `?word=${word}`), json(message(person(2), "say in parts", "t-in-1")))).toBe(200)
  const sent = await eventually(async () => posts(came, /messages/)[0], "the answer")
  expect(sent.headers["content-type"]).toMatch(/^multipart\/form-data; boundary=/)
  const parts = [...sent.body.matchAll(/name="(\w+)"\r\n\r\n(.*)\r\n/g)].map(([, name, value]) => [name, value])
  expect(parts).toEqual([
    ["contact", person(2)],
    ["message", "you said in parts"],
    ["ref", expect.stringMatching(/^msg_/)],
  ])
})

test("conversations in base64, twice in the call, and a text that stands deeper than they", async () => {
  const { address, came } = await startGateway()
  const place = (name: string) => Buffer.from(`conv:${name}`).toString("base64")
  const message = (where: string, text: string, id: string) => ({
    data: [{ id, text, conversation: where, sender: { id: "person.77", display: "Ines" } }],
  })
  const [sample, send] = files({
    "sample.http": called(message(place("7"), "is there a boat", "b-0")),
    "send.txt": `curl -X POST ${address}/v3/conversations/${place("7")}/reply -H 'Authorization: Bearer bk_0a1b2c3d4e' -H 'Content-Type: application/json' -d '{"conversation":"${place("7")}","content":{"type":"text","value":"Hello there"},"priority":5}'`,
  })
  await connects(
    ...["barge", "--sample", sample!, "--request", send!],
    ...["--secret", `sharedWord=${word}`, "--secret", "apiKey=bk_0a1b2c3d4e"],
  )
  expect(await post(inlet("barge", `?word=${word}`), json(message(place("8"), "say deeper words", "b-1")))).toBe(200)
  const sent = await eventually(async () => posts(came, /reply/)[0], "the answer")
  expect([decodeURIComponent(sent.url), JSON.parse(sent.body)]).toEqual([
    `/v3/conversations/${place("8")}/reply`,
    { conversation: place("8"), content: { type: "text", value: "you said deeper words" } },
  ])
})

test("a key in the path of every call, and a queue in which a yes or no tells of the account", async () => {
  const key = "wt7Qx02LmVb81kZp55Rs9"
  const waiting: object[] = []
  let n = 0
  const { address, came } = await startGateway(({ method, url }) => {
    if (method === "GET") return url.includes("updates") ? (waiting[0] ?? {}) : {}
    if (method === "DELETE") waiting.shift()
    return { messageId: "y-out" }
  })
  const wrapped = (body: object) => ({ receipt: `r-${++n}`, update: body })
  const message = (from: string, text: string, id: string) => ({
    type: "text",
    phone: from,
    ownPhone: "447700900999",
    text: { message: text },
    messageId: id,
    moment: 1764237600000,
    senderName: "Ines",
  })
  const state = (connected: boolean) => ({ type: "ConnectedEvent", connected, phone: "447700900999" })
  const base = `${address}/units/harbor/${key}`
  const given = files({
    "message.json": json(message("447700900313", "is there a boat", "y-0")),
    "state.json": json(state(false)),
    "send.txt": `curl -X POST ${base}/text -H 'Content-Type: application/json' -d '{"phone":"447700900313","message":"Hello there"}'`,
    "ask.txt": `GET ${base}/updates HTTP/1.1\n\nHTTP/1.1 200 OK\n\n${json({ receipt: "r-0", update: state(true) })}`,
    "drop.txt": `curl -X DELETE ${base}/updates/r-0`,
  })
  const [sample, second, send, ask, drop] = given
  const { out } = await connects(
    ...["yawl", "--sample", sample!, "--sample", second!, "--request", send!, "--request", ask!],
    ...["--request", `remove=${drop}`, "--secret", `token=${key}`],
  )
  expect(out).not.toContain(key)
  expect(json(await service.client.channel("yawl"))).not.toContain(key)
  waiting.push(wrapped(state(false)))
  await eventually(async () => (await service.client.channel("yawl")).state === "locked out", "the state")
  waiting.push(wrapped(message("447700900314", "say path words", "y-1")), wrapped(state(true)))
  const sent = await eventually(async () => posts(came, /text$/)[0], "the answer, once it is linked again")
  expect([sent.url, JSON.parse(sent.body)]).toEqual([
    `/units/harbor/${key}/text`,
    { phone: "447700900314", message: "you said path words" },
  ])
  expect((await service.client.channel("yawl")).state).toBe("on")
}, 60_000)

test("OMA: a profile that ships, and nothing to learn", async () => {
  const { address, came } = await startGateway(() => ({
    resourceReference: { resourceURL: "https://oma.example/requests/1" },
  }))
  const given = [
    "--set",
    "profile=oma-messaging",
    "--set",
    `apiBase=${address}`,
    "--set",
    "number=+447700900999",
    "--set",
    "user=ferry",
    "--secret",
    "password=p-0123456789",
    "--secret",
    "sharedWord=oma-word",
  ]
  const added = await run(["channel", "add", "sms", "oma", ...given], service.env)
  expect(added.err).toBe("")
  const body = {
    inboundSMSMessageNotification: {
      inboundSMSMessage: {
        messageId: "o-1",
        senderAddress: "tel:+447700900307",
        destinationAddress: "tel:+447700900999",
        message: "say standard",
        dateTime: "2026-11-27T10:00:00Z",
      },
    },
  }
  expect(await post(inlet("oma", "?word=oma-word"), JSON.stringify(body))).toBe(204)
  await eventually(async () => came.length === 1, "the answer")
  expect(came[0]!.url).toBe("/smsmessaging/v1/outbound/tel%3A%2B447700900999/requests")
  expect(came[0]!.body).toContain("you said standard")
})
