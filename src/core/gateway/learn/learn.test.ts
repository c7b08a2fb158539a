import { createHash, createHmac } from "node:crypto"
import fc from "fast-check"
import type { InboundCall } from "../../channels/call.ts"
import { proposeCalls } from "../examples/propose.ts"
import { readExample } from "../examples/request.ts"
import { propose } from "./propose.ts"
import { refusalsIn, unreadRefusal } from "./refusals.ts"
import { echoIn } from "./sample.ts"
import { writeProfile } from "./write.ts"

const secret = "tern-point"
const hmac = (over: string, encoding: "hex" | "base64" = "hex", algorithm = "sha256") =>
  createHmac(algorithm, secret).update(over).digest(encoding)

function call(body: string, headers: InboundCall["headers"] = {}, address = "/in/new"): InboundCall {
  return { method: "POST", address, headers, body: Buffer.from(body) }
}

const learned = (given: InboundCall, secrets: { [name: string]: string } = { signingSecret: secret }) =>
  propose([given], { secrets, publicBase: "https://bot.example" })

/** Shapes in use, with what a person would say is what. */
test.each<[string, string, { [role: string]: string }]>([
  [
    "plain JSON",
    '{"from":"+447700900123","to":"+447700900999","message":"Next boat?","id":"a1b2","timestamp":1763899200}',
    { from: "/from", text: "/message", id: "/id", time: "/timestamp" },
  ],
  [
    "a bridge's JSON",
    '{"event":"in","data":{"key":{"id":"3EB0","chatId":"447700900123@c.x"},"pushName":"Ines","sender":"447700900123@c.x","body":"is there a boat"}}',
    { from: "/data/sender", text: "/data/body", id: "/data/key/id", name: "/data/pushName", place: "/data/key/chatId" },
  ],
  [
    "a list of messages",
    '{"messages":[{"msisdn":"447700900123","text":"hi there","messageId":"77aa","receivedAt":"2026-11-23T10:00:00Z"}]}',
    {
      from: "/messages/0/msisdn",
      text: "/messages/0/text",
      id: "/messages/0/messageId",
      time: "/messages/0/receivedAt",
    },
  ],
  [
    "nested sender",
    '{"uuid":"9f3c-11","author":{"id":"+12025550123","display_name":"Ada"},"content":"two seats please","created":"2026-11-23 10:00:00"}',
    { from: "/author/id", text: "/content", id: "/uuid", name: "/author/display_name" },
  ],
  [
    "a form",
    "sender=%2B447700900123&recipient=%2B447700900999&content=two+seats&msg_id=99x&date=2026-11-23",
    { from: "sender", text: "content", id: "msg_id", time: "date" },
  ],
  [
    "XML",
    "<sms><MsgId>1007</MsgId><Sender>447700900123</Sender><Receiver>447700900999</Receiver><Body>hello quay</Body></sms>",
    { from: "/sms/Sender", text: "/sms/Body", id: "/sms/MsgId" },
  ],
  [
    "names of its own",
    '{"kind":"inbound","data":{"uid":"iq-1","origin":{"msisdn":"447700900455","label":"Rui Costa"},"content":{"plain":"next crossing"},"when":"2026-11-25T09:20:01Z"}}',
    {
      from: "/data/origin/msisdn",
      text: "/data/content/plain",
      id: "/data/uid",
      name: "/data/origin/label",
      time: "/data/when",
    },
  ],
  [
    "values that say what they are",
    '{"sig":"9f86d081884c7d659a2feaa0c55ad015","z":"01J9ZK3V7Q8M2N4P6R8T","a":"447700900455","phone":"447700900455","b":"is there a boat","c":"2026-11-25T09:20:01Z"}',
    { from: "/phone", text: "/b", id: "/z", time: "/c" },
  ],
])("%s: sender, text, id and time are proposed", (_what, body, wanted) => {
  expect(learned(call(body)).roles).toMatchObject(wanted)
})

const body = '{"from":"+447700900123","text":"Next boat?","id":"1"}'
test.each<[string, InboundCall, object]>([
  [
    "the body, in hexadecimal",
    call(body, { "x-signature": hmac(body) }),
    { scheme: "body", header: "x-signature", algorithm: "sha256", encoding: "hex" },
  ],
  ["the body, with a prefix", call(body, { "x-hub": `sha256=${hmac(body)}` }), { scheme: "body", header: "x-hub" }],
  [
    "the body, SHA-1 in base64",
    call(body, { "x-sig": hmac(body, "base64", "sha1") }),
    { scheme: "body", algorithm: "sha1", encoding: "base64" },
  ],
  [
    "a time and the body",
    call(body, { "x-time": "17", "x-sig": hmac(`17.${body}`) }),
    { scheme: "template", over: "{header:x-time}.{body}" },
  ],
  [
    "the address",
    call(body, { "x-sig": hmac("https://bot.example/in/new", "base64", "sha1") }),
    { scheme: "address-and-form" },
  ],
  ["a word in a header", call(body, { "x-key": secret }), { scheme: "word", header: "x-key" }],
  ["a word in the address", call(body, {}, `/in/new?k=${secret}`), { scheme: "word", query: "k" }],
  [
    "a sorted hash",
    call(
      "<a><from>x</from></a>",
      {},
      `/in/new?signature=${createHash("sha1").update(["17", "n", secret].sort().join("")).digest("hex")}&timestamp=17&nonce=n`,
    ),
    { scheme: "sorted-hash", of: ["timestamp", "nonce"] },
  ],
])("with its secret at hand, how a call is signed is found: %s", (_what, given, scheme) => {
  expect(learned(given).proofs[0]).toMatchObject({ certain: true, scheme: { ...scheme, secret: "signingSecret" } })
})

test("without its secret, what looks like a signature is named, and that nothing is certain", () => {
  const { proofs } = learned(call(body, { "x-acme-signature": hmac(body) }), {})
  expect(proofs).toEqual([
    expect.objectContaining({
      certain: false,
      says: expect.stringContaining("give its secret as signingSecret") as unknown,
    }),
  ])
  expect(learned(call(body), {}).lacks).toContainEqual(expect.stringContaining("nothing in the call proves"))
})

test("a gateway's check of the address hears its echo", () => {
  expect(echoIn({ ...call("", {}, "/in/new?challenge=abc"), method: "GET" })).toBe("abc")
  expect(echoIn(call(body))).toBeUndefined()
})

test("what was agreed to becomes a profile that reads", () => {
  const written = writeProfile({
    name: "new-gateway",
    incoming: {
      body: "json",
      places: { from: "/from", text: "/text", id: "/id" },
      proof: { scheme: "body", secret: "signingSecret", header: "x-signature", algorithm: "sha256", encoding: "hex" },
    },
    sending: { address: "{apiBase}/out", body: "json", send: { to: "{to}", text: "{text}" }, bearer: "apiKey" },
    addresses: "numbers",
  })
  expect(written).toMatchObject({
    profile: { profile: "new-gateway", secrets: { signingSecret: {}, apiKey: { required: true } } },
  })
})

test("without a sender it is not written, and the place is named", () => {
  const written = writeProfile({
    name: "x",
    incoming: {
      body: "json",
      places: { text: "/text" },
      proof: { scheme: "word", secret: "w", query: "w" },
    },
    sending: { address: "https://x.example", body: "json", send: { text: "{text}" } },
    addresses: "numbers",
  })
  expect(written).toEqual({ faults: [expect.stringContaining("inbound.message.from")] })
})

test("no sample breaks it", () => {
  fc.assert(
    fc.property(fc.oneof(fc.string(), fc.json(), fc.constant("<a>")), fc.string(), (text, query) => {
      expect(learned(call(text, {}, `/in/new?${query}`))).toHaveProperty("lacks")
    }),
  )
})

const sampleOf = (value: object) => call(JSON.stringify(value))
const toldOf = (...values: object[]) => propose(values.map(sampleOf), { secrets: {}, publicBase: "" }).more
const said = { event: "message.in", from: "447700900123", body: "is there a boat", id: "m-1" }

test.each<[string, object, object]>([
  [
    "the name of what happened",
    { event: "session.disconnected", session: "quay", reason: "logged out" },
    {
      event: {
        only: { "/event": expect.arrayContaining(["session.disconnected", "session.connected"]) },
        state: "/event",
      },
      bad: { "session.disconnected": expect.any(String) },
      good: expect.arrayContaining(["session.connected"]),
    },
  ],
  [
    "a name with its own capitals",
    { event: "DisconnectedEvent", instance: "quay" },
    { bad: { DisconnectedEvent: expect.any(String) }, good: expect.arrayContaining(["ConnectedEvent"]) },
  ],
  [
    "a yes or no",
    { type: "connection", connected: false, phone: "447700900999", message: "logged out on the phone" },
    { event: { when: ["/connected"], state: "/connected" }, bad: { false: expect.any(String) }, good: ["true"] },
  ],
])("the account's state is told by %s", (_what, event, state) => {
  expect(toldOf(said, event).state).toMatchObject(state)
})

test("a word for the state of a message is none for the account's", () => {
  const proposal = learned(
    sampleOf({ phone: "447700900123", message: "is there a boat", status: "active", id: "m-71" }),
  )
  expect(proposal.roles).toMatchObject({ from: "/phone", text: "/message" })
  expect(proposal.more.state).toBeUndefined()
})

test("a receipt in capitals is one, and messages of other sorts than the sample's stay messages", () => {
  const receipt = { event: "message.ack", id: "m-0", ack: "DELIVERED" }
  expect(toldOf(said, receipt).status).toMatchObject({ status: "/ack", words: { READ: "read" } })
  const typed = { type: "text", phone: "447700900123", text: { message: "is there a boat" }, messageId: "m-1" }
  expect(toldOf(typed, { type: "ConnectedEvent", connected: false }).message?.only).toBeUndefined()
})

test.each<[string, object, { [role: string]: string | undefined }]>([
  [
    "our own number beside the sender's",
    {
      phone: "447700900123",
      ownPhone: "447700900999",
      text: { message: "is there a boat" },
      moment: 1764237600000,
    },
    { from: "/phone", time: "/moment", id: undefined },
  ],
  [
    "the id of a chat is none of a message",
    { chat_id: "447700900123@c.x", chat: { id: 4711 }, body: "is there a boat" },
    { id: undefined },
  ],
  ["small numbers", { message: { id: 1, chat: { id: 7700123456 }, text: "is there a boat" } }, { id: "/message/id" }],
])("%s", (_what, value, roles) => {
  const proposal = learned(sampleOf(value))
  expect(proposal.doubts).toEqual([])
  for (const [role, where] of Object.entries(roles)) expect([role, proposal.roles[role as "id"]]).toEqual([role, where])
})

test.each<[string, object]>([
  ['{"ok":true,"result":{"message_id":70}}', { "/ok": [false] }],
  ['{"success":false,"error":"no such chat"}', { "/success": [false], "/error": [true] }],
  ['{"data":{"status":"queued"}}', { "/data/status": expect.arrayContaining(["failed"]) }],
  ['{"error":{"code":5,"text":"no"}}', { "/error": [true] }],
  ['{"id":"m-1"}', {}],
  ["no JSON", {}],
])("of the answer %s is learned what refuses", (answer, refused) => {
  expect(refusalsIn(answer)).toEqual(refused)
})

test("a profile that is written repeats nothing by a reference", () => {
  const call = proposeCalls([
    readExample(`curl https://x.example/send -d '{"to":"447700900123","text":"Hello there"}'`),
  ]).calls[0]!
  const written = writeProfile({ name: "made", addresses: "numbers", calls: [call] })
  expect("source" in written && written.source).toContain("/result:")
  expect("source" in written && written.source).not.toMatch(/[&*]a\d/)
})

test("an answer that refuses in the usual words is pointed at where the profile does not read it", () => {
  expect(unreadRefusal('{"ok":false,"why":"no such chat"}', undefined)).toEqual({
    refused: { "/ok": [false] },
    says: "no such chat",
  })
  expect(unreadRefusal('{"error":0,"id":"m-1"}', undefined)).toBeUndefined()
  expect(unreadRefusal('{"ok":false}', { "/sent": [false] })).toBeUndefined()
})
