import fc from "fast-check"
import { readProfile } from "../readProfile.ts"
import { writeProfile } from "../learn/write.ts"
import { placeholderIn, settingName } from "./placeholders.ts"
import type { Sort } from "./propose.ts"
import { proposeCalls } from "./propose.ts"
import { NotAnExample, readExample } from "./request.ts"

const proposed = (...texts: string[]) => proposeCalls(texts.map((text) => readExample(text)))
const one = (text: string) => proposed(text).calls[0]!

/** Requests as documentation shows them, and how a message is sent by each. */
test.each<[string, string, object, object?]>([
  [
    "curl, JSON and a bearer key",
    `curl -X POST https://api.gateway.example/v1/messages \\
      -H "Authorization: Bearer sk_live_8f3a9d" \\
      -H 'Content-Type: application/json' \\
      -d '{"to":"+447700900123","from":"+447700900999","text":"Hello there"}'`,
    {
      address: "{apiBase}/messages",
      authorization: { bearer: "apiKey" },
      body: "json",
      send: { to: "{to}", from: "{number}", text: "{text}" },
    },
  ],
  [
    "curl, a form with an account and a token",
    `curl 'https://api.forms.example/2010-04-01/Accounts/AC0123456789abcdef0123456789abcdef/Messages.json' -X POST \\
--data-urlencode 'To=+447700900123' --data-urlencode 'From=+447700900999' \\
--data-urlencode 'Body=Hi there, the boat leaves soon' -u AC0123456789abcdef0123456789abcdef:[AuthToken]`,
    {
      address: "{apiBase}/Accounts/{accountId}/Messages.json",
      authorization: { basic: ["accountId", "authToken"] },
      body: "form",
      send: { To: "{to}", From: "{number}", Body: "{text}" },
    },
  ],
  [
    "curl from the Windows command prompt",
    `curl -X POST "https://bridge.example/message/sendText/{instance}" ^
  -H "apikey: {{token}}" ^
  -H "Content-Type: application/json" ^
  -d "{\\"number\\":\\"447700900123\\",\\"text\\":\\"Hello from the quay\\"}"`,
    {
      address: "{apiBase}/message/sendText/{instance}",
      headers: { apikey: "{token}" },
      send: { number: "{to}", text: "{text}" },
    },
    { digits: true },
  ],
  [
    "curl as a browser copies it for the command prompt",
    `curl ^"https://panel.example/api/send^" ^
  -H ^"content-type: application/json^" ^
  -H ^"x-auth-token: 9a8b7c^" ^
  --data-raw ^"^{^\\^"msisdn^\\^":^\\^"447700900123^\\^",^\\^"body^\\^":^\\^"two words^\\^"^}^"`,
    { address: "{apiBase}/send", headers: { "x-auth-token": "{authToken}" }, send: { msisdn: "{to}", body: "{text}" } },
  ],
  [
    "curl from PowerShell",
    `curl.exe -X POST 'https://sms.example/rest/v2/sms' \`
  -H 'X-API-Key: YOUR_API_KEY' \`
  -H 'Content-Type: application/json' \`
  -d '{"recipient":"0044 7700 900123","message":"It''s leaving at two"}'`,
    { address: "{apiBase}/sms", headers: { "x-api-key": "{apiKey}" }, send: { recipient: "{to}", message: "{text}" } },
  ],
  [
    "curl with an ANSI-quoted body",
    `curl 'https://x.example/v3/out' -H 'authorization: Bearer $TOKEN' --data-raw $'{"phone":"+447700900123","content":"It\\'s \\u00e9t\\u00e9 again"}'`,
    { address: "{apiBase}/out", authorization: { bearer: "token" }, send: { phone: "{to}", content: "{text}" } },
  ],
  [
    "curl with everything in the query",
    `curl "https://http-api.example/send?user=demo&password=secret&to=447700900123&from=Ferry&text=Hello+World&dlr-url=https%3A%2F%2Fyou.example%2Fdlr"`,
    {
      method: "GET",
      address: "{apiBase}/send",
      body: "query",
      send: {
        user: "{user}",
        password: "{password}",
        to: "{to}",
        from: "{number}",
        text: "{text}",
        "dlr-url": "{inlet}",
      },
    },
  ],
  [
    "curl -G",
    `curl -G https://get.example/sms --data-urlencode "phone=+447700900123" --data-urlencode "msg=Hello there" -d key=abc123`,
    { method: "GET", address: "{apiBase}/sms", body: "query", send: { phone: "{to}", msg: "{text}", key: "{key}" } },
  ],
  [
    "HTTP as text",
    `POST /smsmessaging/v1/outbound/tel%3A%2B447700900999/requests HTTP/1.1
Host: oma.example
Authorization: Basic dXNlcjpwYXNz
Content-Type: application/json

{"outboundSMSMessageRequest":{"address":["tel:+447700900123","tel:+447700900124"],"senderAddress":"tel:+447700900999",
"outboundSMSTextMessage":{"message":"Hello World"},"clientCorrelator":"123456"}}`,
    {
      address: "{apiBase}/outbound/{sender}/requests",
      authorization: { basic: ["accountId", "apiSecret"] },
      send: {
        outboundSMSMessageRequest: {
          address: ["tel:{to}"],
          senderAddress: "tel:{number}",
          outboundSMSTextMessage: { message: "{text}" },
          clientCorrelator: "{mark}",
        },
      },
    },
  ],
  [
    "HTTP with an answer below it",
    `POST https://hub.example/api/v1/chats/chat_9a8b7c6d5e/messages
X-API-KEY: <api key>
Content-Type: application/json

{"text": "Hello world", "account_id": "acc_01"}

HTTP/1.1 201 Created
Content-Type: application/json

{"object":"MessageSent","message_id":"msg_1"}`,
    {
      address: "{apiBase}/chats/{to}/messages",
      headers: { "x-api-key": "{apiKey}" },
      send: { text: "{text}", account_id: "{accountId}" },
    },
    { names: true },
  ],
  [
    "a HAR entry",
    JSON.stringify({
      request: {
        method: "POST",
        url: "https://web.example/api/messages?session=default",
        headers: [
          { name: ":authority", value: "web.example" },
          { name: "Cookie", value: "sid=1" },
          { name: "X-Api-Key", value: "k-123456" },
        ],
        postData: { mimeType: "application/json", text: '{"chatId":"447700900123@c.us","text":"Hi there"}' },
      },
      response: { content: { text: '{"id":"true_1"}' } },
    }),
    {
      address: "{apiBase}/messages?session={session}",
      headers: { "x-api-key": "{apiKey}" },
      send: { chatId: "{to}@c.us", text: "{text}" },
    },
    { digits: true },
  ],
  [
    "XML",
    `curl -d '<sms><auth><login>demo</login><token>t0k3n</token></auth><to>447700900123</to><from>Ferry</from><content>Hello there</content></sms>' -H 'Content-Type: text/xml' https://xml.example/gateway`,
    {
      address: "{apiBase}",
      body: "xml",
      send: { sms: { auth: { login: "{login}", token: "{token}" }, to: "{to}", from: "{number}", content: "{text}" } },
    },
  ],
  [
    "multipart",
    `curl -F "chat_id=447700900123" -F "text=Hello there" -F apikey=@key https://multi.example/v2/send`,
    { body: "multipart", send: { chat_id: "{to}", text: "{text}", apikey: "{apikey}" } },
  ],
  [
    "JSON with comments, commas too many and placeholders",
    `$ curl https://doc.example/v1/sms \\
   -H "Authorization: App <API_KEY>" \\
   -H "Content-Type: application/json" \\
   -d '{
     // who gets it
     "messages": [{ "destinations": [{ "to": "447700900123" }], "from": "Ferry", "text": "Hello, quay" },],
   }'`,
    {
      address: "{apiBase}/sms",
      headers: { authorization: "App {apiKey}" },
      send: { messages: [{ destinations: [{ to: "{to}" }], from: "{number}", text: "{text}" }] },
    },
  ],
  [
    "a reference, a picture and a SIM",
    `curl https://phone.example/v1/messages -u demo:secret -H 'Content-Type: application/json' --data '{
      "phoneNumber": "+447700900123", "textMessage": {"text": "Hello there"}, "simNumber": 1,
      "externalId": "abc-1", "mediaUrl": "https://files.example/boat.jpg", "ttl": 3600 }'`,
    {
      authorization: { basic: ["accountId", "apiSecret"] },
      send: { phoneNumber: "{to}", textMessage: { text: "{text}" }, externalId: "{mark}" },
    },
    {
      media: { mediaUrl: "{media}" },
      extra: {
        simNumber: { says: "simNumber", send: { simNumber: "{value}" } },
        ttl: { says: "ttl", send: { ttl: "{value}" } },
      },
    },
  ],
  [
    "curly quotes of a word processor, options joined and unknown",
    `curl -sS --compressed -XPOST “https://typo.example/v1/out” -H “x-key: abc” --data ‘{"mobile":"+447700900123","sms":"Hello there"}’`,
    { address: "{apiBase}/out", headers: { "x-key": "{key}" }, send: { mobile: "{to}", sms: "{text}" } },
  ],
])("%s: how a message is sent is proposed", (_what, text, calling, more = {}) => {
  const call = one(text)
  expect(call).toMatchObject({ sort: "send", calling, ...more })
  expect(call.lacks).toEqual([])
  // No key of the example is in what is proposed.
  const written = JSON.stringify(call)
  for (const key of ["sk_live_8f3a9d", "9a8b7c^", "abc123", "t0k3n", "k-123456", "dXNlcjpwYXNz"])
    expect(written).not.toContain(key)
  // And what is proposed is a profile.
  const made = writeProfile({ name: "made", addresses: "numbers", calls: [call] })
  expect("source" in made && readProfile(made.source)).toHaveProperty("profile.outbound.address")
})

test.each([
  [
    `curl -X POST https://b.example/v1/instances/i-77/webhook -H 'apikey: k' -d '{"url":"https://you.example/hook","events":["messages.upsert"]}'`,
    "register",
    { address: "{apiBase}/instances/{instanceId}/webhook", send: { url: "{inlet}" } },
  ],
  [`curl https://b.example/v1/instances/i-77/webhook`, "address on record", {}],
  [`curl -X DELETE https://b.example/v1/webhooks/12345`, "unregister", {}],
  [`curl https://b.example/v1/me`, "who am I", { address: "{apiBase}/me" }],
  [
    `curl "https://b.example/waInstance1101000001/receiveNotification/{{apiToken}}"`,
    "fetch from the queue",
    { address: "{apiBase}/{accountId}/receiveNotification/{apiToken}" },
  ],
  [
    `curl -X DELETE "https://b.example/waInstance1101000001/deleteNotification/{{apiToken}}/1234567"`,
    "remove from the queue",
    { address: "{apiBase}/{accountId}/deleteNotification/{apiToken}/{handle}" },
  ],
  [
    `curl https://hub.example/api/v1/messages/msg_0123456789/attachments/att_0123456789 -H 'X-API-KEY: k'`,
    "attachment",
    { address: "{apiBase}/messages/{message}/attachments/{attachment}" },
  ],
  [`curl https://hub.example/v1/messages -H 'X-API-KEY: k'`, "history", { address: "{apiBase}/messages" }],
  [`curl https://hub.example/v1/messages/ref-00012`, "one message", { address: "{apiBase}/messages/{mark}" }],
])("%s is told for what it is", (text, sort, calling) => {
  expect(one(text)).toMatchObject({ sort, calling })
})

test("several examples share one address, and another host is told", () => {
  const { base, otherHosts, calls } = proposed(
    "curl https://b.example/api/v2/send -d to=+447700900123 -d text=hello",
    "curl https://b.example/api/v2/me",
    "curl https://files.example/media/1234567",
  )
  expect(base).toBe("https://b.example/api/v2")
  expect(otherHosts).toEqual(["https://files.example"])
  expect(calls.map(({ calling }) => calling.address)).toEqual([
    "{apiBase}/send",
    "{apiBase}/me",
    "https://files.example/media/{attachment}",
  ])
})

test.each([
  ["", "is empty"],
  ["hello", '"hello" is no request'],
  ["curl -d 'x", "is opened and not closed"],
  ['curl -d "x', "is opened and not closed"],
  ["curl -H", "followed by nothing"],
  ["curl -d x=1", "names no address"],
  ["curl ftp://x.example -d to=1", "no address of the web"],
  ["curl -I https://x.example", "HEAD request sends nothing"],
  ["POST /messages HTTP/1.1\nAccept: */*\n\n{}", "names no host"],
  ['curl https://x.example -H "content-type: application/json" -d "{\\"to\\": "', "not JSON"],
  ["curl https://x.example -d '<a><b></a>'", "not XML"],
  ['{"log":{"entries":[{},{}]}}', "has 2 entries"],
  ['{"a":1}', "holds no request"],
  ['{"request":', "not JSON"],
  [`curl https://x.example -d '${"x".repeat(600_000)}'`, "characters"],
])("%j is refused with what is wrong", (text, says) => {
  expect(() => readExample(text)).toThrow(NotAnExample)
  expect(() => readExample(text)).toThrow(says)
})

test("a body in a file, and one that is a list, are said to be lacking", () => {
  expect(one("curl https://x.example/send -d @body.json").lacks).toContainEqual(expect.stringContaining("body.json"))
  expect(one(`curl https://x.example/send --json '[{"to":"+447700900123","text":"hi there"}]'`).lacks).toContainEqual(
    expect.stringContaining("is a list"),
  )
})

test("hostile examples take no long time", () => {
  const began = performance.now()
  for (const text of [
    "\n".repeat(400_000) + "curl",
    `curl https://x.example -d '{"a":${"[".repeat(100_000)}'`,
    `curl https://x.example -d '${"/*".repeat(200_000)}'`,
    `curl https://x.example --json '{"a":${'"x",'.repeat(80_000)}'`,
    `curl https://x.example --json '{${'"a":1,'.repeat(60_000)}}'`,
    "curl " + "^".repeat(400_000),
    `curl https://x.example/${"a/".repeat(200_000)}`,
    "POST / HTTP/1.1\nhost: x\n\n" + "HTTP/1.1 ".repeat(50_000),
  ]) {
    try {
      proposed(text)
    } catch (error) {
      expect(error).toBeInstanceOf(NotAnExample)
    }
  }
  // Alone it takes a second; what grows with the square took minutes.
  expect(performance.now() - began).toBeLessThan(20_000)
})

test.each([
  "curl https://%E0:%@x.example/send",
  "curl https://x.example/%E0%A4%A/send/%",
  "curl -u %:%E0 https://x.example/bots/%FF/messages -d a=%E0",
])("signs that make up no text break nothing: %j", (text) => {
  expect(proposed(text)).toBeDefined()
})

test("no example breaks it", () => {
  fc.assert(
    fc.property(
      fc.string({ maxLength: 200 }),
      fc.constantFrom("curl ", "POST https://x.example ", "{", "curl https://x.example -d "),
      (text, before) => {
        try {
          proposed(before + text)
        } catch (error) {
          expect(error).toBeInstanceOf(NotAnExample)
        }
      },
    ),
  )
})

test.each([
  ["{instance}", "instance"],
  ["{{ api token }}", "api token"],
  ["<YOUR-KEY>", "YOUR-KEY"],
  ["$TOKEN", "TOKEN"],
  ["${API_KEY}", "API_KEY"],
  ["YOUR_API_KEY", "API_KEY"],
  ["your api key here", "api key"],
  ["xxxxxx", "value"],
  ["Ferry", undefined],
  ["447700900123", undefined],
])("%s is a placeholder for %s", (text, name) => {
  expect(placeholderIn(text)).toBe(name)
})

test.each([
  ["account_id", "accountId"],
  ["Account ID", "accountId"],
  ["X-Api-Key", "apiKey"],
  ["YOUR_KEY", "key"],
  ["2fa", "value2fa"],
])("%s becomes the setting %s", (given, name) => {
  expect(settingName(given)).toBe(name)
})

const send = (path: string, body: object = { text: "Hello there" }) =>
  `curl -X POST https://x.example/v1${path} -H "Content-Type: application/json" -d '${JSON.stringify(body)}'`
const addressOf = (text: string, receivers: string[] = [], as?: Sort) =>
  proposeCalls([{ ...readExample(text), ...(as ? { as } : {}) }], { receivers }).calls[0]!.calling

test.each(["chatA", "42", "ferry-crew", "QmV0dHk", "QmV0dHk=", "a.b.c", "0b9f3a52-6c1d-4e0f-9a77-3f2c5d1e8b64"])(
  "whatever stands behind a conversation's word is the receiver: %s",
  (id) => {
    expect(addressOf(send(`/chats/${encodeURIComponent(id)}/messages`)).address).toBe("{apiBase}/chats/{to}/messages")
    expect(addressOf(send(`/conversations/${encodeURIComponent(id)}/reply`)).address).toBe(
      "{apiBase}/conversations/{to}/reply",
    )
    // Where no word tells, a sample of what comes in does.
    expect(addressOf(send(`/inbox/${encodeURIComponent(id)}/messages`), [id]).address).toBe(
      "{apiBase}/inbox/{to}/messages",
    )
    expect(addressOf(send(`/contacts/c1/chats/${encodeURIComponent(id)}/messages`)).address).toBe(
      "{apiBase}/contacts/{contactId}/chats/{to}/messages",
    )
    expect(
      addressOf(`curl https://x.example/v1/media/${encodeURIComponent(id)}/download`, [], "attachment").address,
    ).toBe("{apiBase}/media/{attachment}/download")
  },
)

test("what is done is no receiver", () => {
  for (const path of ["/chats/messages", "/chats/send", "/conversations/reply", "/contacts/sendText"])
    expect(addressOf(send(path, { to: "chatA", text: "Hello there" })).address).toBe(`{apiBase}${path}`)
})

test("what is short is the receiver only where its place says so", () => {
  const body = { text: "Hello there", chat: { id: "42" }, ttl: 42, kind: "42" }
  expect(addressOf(send("/chats/42/messages", body), ["42"])).toMatchObject({
    address: "{apiBase}/chats/{to}/messages",
    send: { text: "{text}", chat: { id: "{to}" }, kind: "42" },
  })
})

test("the same in two places is the same", () => {
  expect(addressOf(send("/chats/chatA/messages", { text: "Hello there", room: "chatA" }), ["chatA"])).toMatchObject({
    address: "{apiBase}/chats/{to}/messages",
    send: { text: "{text}", room: "{to}" },
  })
})

test("whatever address a registration holds is ours, or is asked", () => {
  for (const key of ["request_url", "target", "event_hook_uri", "x"])
    expect(addressOf(send("/hooks", { [key]: "https://hook.example/x" }), [], "register").send).toEqual({
      [key]: "{inlet}",
    })
  const { calls } = proposeCalls([
    {
      ...readExample(send("/hooks", { request_url: "https://hook.example/x", logo_url: "https://cdn.example/l.png" })),
      as: "register",
    },
  ])
  expect(calls[0]).toMatchObject({
    calling: { send: { request_url: "{inlet}", logo_url: "{logoUrl}" } },
    settings: [{ name: "logoUrl" }],
  })
})

test("a key in a path is a secret, the same one in every example, and its value is given back nowhere", () => {
  const key = "wt7Qx02LmVb81kZp55Rs9"
  const proposed = proposeCalls(
    [
      send(`/${key}/messages`, { to: "447700900123", text: "Hello there" }),
      `curl https://x.example/v1/${key}/status`,
    ].map((text) => readExample(text)),
  )
  for (const { calling, secrets, settings } of proposed.calls) {
    expect(calling.address).toContain("/{token}/")
    expect([secrets.map(({ name }) => name), settings]).toEqual([["token"], []])
  }
  expect(JSON.stringify(proposed)).not.toContain(key)
  expect(addressOf(send("/key/abc/messages", { to: "447700900123", text: "Hello there" })).address).toBe(
    "{apiBase}/key/{key}/messages",
  )
  // Ids and words are no keys.
  const id = "0b9f3a52-6c1d-4e0f-9a77-3f2c5d1e8b64"
  expect(addressOf(send(`/accounts/${id}/messages`, { to: "447700900123", text: "Hello there" })).address).toBe(
    "{apiBase}/accounts/{accountId}/messages",
  )
})

test("the same value is asked for once, whatever it is called, and things that are done are no ids", () => {
  const key = "dk_9f8e7d6c5b4a"
  const { calls } = proposed(
    `curl https://x.example/api/device/send -H 'apikey: ${key}' -d '{"session":"harbor","to":"447700900123","text":"Hello there"}'`,
    `curl -X POST https://x.example/api/sessions/harbor/webhook -H 'X-Api-Key: ${key}' -d '{"url":"https://you.example/hook"}'`,
    `curl https://x.example/api/sessions/harbor/status?token=${key}`,
    `curl https://x.example/api/device/status -H 'apikey: {YOUR_APIKEY}'`,
  )
  expect(calls.map(({ calling }) => calling.address)).toEqual([
    "{apiBase}/device/send",
    "{apiBase}/sessions/{session}/webhook",
    "{apiBase}/sessions/{session}/status",
    "{apiBase}/device/status",
  ])
  const asked = (what: "settings" | "secrets") => [
    ...new Set(calls.flatMap((call) => call[what].map(({ name }) => name))),
  ]
  expect([asked("settings"), asked("secrets")]).toEqual([["session"], ["apikey"]])
  expect(calls[2]!.calling.send).toEqual({ token: "{apikey}" })
})

test("a number of the example is one in the call, and an id is not the text", () => {
  const { send } = one(
    `curl https://x.example/v2/send -d '{"chat_id":7700123456,"text":"Hello there","account":12345,"silent":false,"reference":7}'`,
  ).calling
  expect(send).toEqual({
    chat_id: "{to:number}",
    text: "{text}",
    account: "{account:number}",
    silent: false,
    reference: "{mark}",
  })
  const known = { receivers: ["Y29udjo3Nw=="] }
  const reply = readExample(
    `curl https://x.example/v3/reply -d '{"conversation":"Y29udjo3Nw==","content":{"type":"text","value":"Hello there"}}'`,
  )
  expect(proposeCalls([{ ...reply, as: "send" }], known).calls[0]!.calling.send).toEqual({
    conversation: "{to}",
    content: { type: "text", value: "{text}" },
  })
})

test("what only sounds alike is asked for by itself", () => {
  const { calls } = proposed(
    `curl https://x.example/v1/users/{user_id}/send -d '{"user_name":"{user_name}","to":"447700900123","text":"Hello there"}'`,
    `curl https://x.example/v1/instances/{instance}/status -H 'x-session: {session_id}' -H 'session: {session}'`,
  )
  expect(calls.map(({ settings }) => settings.map(({ name }) => name))).toEqual([
    ["userId", "userName"],
    ["instance", "sessionId"],
  ])
})
