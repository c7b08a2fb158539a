import { createHash, createHmac } from "node:crypto"
import { custom } from "../channels/custom/index.ts"
import type { Channel } from "../channels/kind.ts"
import type { InboundCall } from "../channels/call.ts"
import { readSecrets, readSettings } from "../channels/settings.ts"
import type { Profile } from "./profile.ts"
import { readProfile } from "./readProfile.ts"
import { readXml, writeXml } from "./xml.ts"

const now = new Date("2026-11-23T12:00:00Z")
const seconds = now.getTime() / 1000

function profile(source: string): Profile {
  const read = readProfile(source)
  if ("faults" in read) throw new Error(JSON.stringify(read.faults))
  return read.profile
}

/** Sorted hash with an echo, XML both ways, answered inside the call. */
const lighthouse = profile(`
profile: lighthouse
title: the lighthouse's gateway
addresses: names
secrets: { sharedWord: { says: the agreed word } }
inbound:
  body: xml
  handshake: { echo: echostr }
  verify: [{ scheme: sorted-hash, secret: sharedWord, query: signature, of: [timestamp, nonce], clock: { query: timestamp, within: 300 } }]
  answer: { status: 200, type: text/plain, text: "" }
  message:
    id: /call/Id
    from: /call/From
    text: /call/Text
    time: /call/At
    only: { /call/Kind: [words] }
inline:
  within: 5
  body: xml
  send: { call: { To: "{to}", From: "{in:/call/To}", At: "{now}", Text: "{text}" } }
`)

const harbour = (settings: Profile, more: Partial<Channel> = {}): Channel => ({
  key: "harbour",
  kind: "custom",
  settings: { profile: settings.profile, apiBase: "https://gate.example/" },
  secrets: { sharedWord: "tern" },
  publicBase: "https://bot.example",
  profile: settings,
  ...more,
})

const utf8 = (text: string) => Buffer.from(text, "utf8")

function hashed(word: string, time = String(seconds), nonce = "n7"): string {
  return createHash("sha1").update([word, time, nonce].sort().join("")).digest("hex")
}

function call(body: string, query = "", headers: InboundCall["headers"] = {}, method = "POST"): InboundCall {
  return { method, address: `/in/harbour${query}`, headers, body: utf8(body) }
}

const signedQuery = (word = "tern", time = String(seconds)) =>
  `?signature=${hashed(word, time)}&timestamp=${time}&nonce=n7`

describe("a handshake with a sorted hash", () => {
  const channel = harbour(lighthouse)
  const greeting = (word: string, time?: string) =>
    call("", `${signedQuery(word, time)}&echostr=held%20back`, {}, "GET")

  test("is answered with its echo", () => {
    expect(custom.isHandshake!(greeting("tern"), channel)).toBe(true)
    expect(custom.verify(greeting("tern"), channel, now)).toMatchObject({ genuine: true })
    const parsed = custom.parse(greeting("tern"), channel)
    expect(parsed).toMatchObject({ messages: [], notes: [expect.stringContaining("handshake")] })
    expect(custom.acknowledge(greeting("tern"), parsed, channel)).toMatchObject({ status: 200, body: "held back" })
  })

  test("is refused with another word, an old time, or nothing to prove it", () => {
    expect(custom.verify(greeting("gull"), channel, now)).toMatchObject({
      genuine: false,
      why: expect.stringContaining("sharedWord") as unknown,
    })
    const old = greeting("tern", String(seconds - 3600))
    expect(custom.verify(old, channel, now)).toMatchObject({
      genuine: false,
      near: expect.stringContaining("60 minutes") as unknown,
    })
    expect(custom.verify(call("", "?echostr=x", {}, "GET"), channel, now)).toMatchObject({
      genuine: false,
      why: expect.stringContaining("signature, timestamp, nonce") as unknown,
    })
  })

  test("a person's GET is none", () => {
    expect(custom.isHandshake!(call("", "", {}, "GET"), channel)).toBe(false)
  })
})

describe("XML", () => {
  const channel = harbour(lighthouse)
  const sent = (inner: string) => call(`<?xml version="1.0"?><call>${inner}</call>`, signedQuery())
  const said = "<Id>007</Id><From>ines</From><To>tern-point</To><At>1763899200</At><Kind>words</Kind>"

  test("is read by the names of its elements, ids as text", () => {
    const { messages } = custom.parse(sent(`${said}<Text><![CDATA[Next <boat> & back?]]></Text>`), channel)
    expect(messages).toEqual([
      {
        eventKey: "007",
        message: {
          event: "text",
          text: "Next <boat> & back?",
          providerId: "007",
          place: { address: "ines", kind: "direct", title: "ines" },
          from: { address: "ines", bot: false },
          sentAt: "2025-11-23T12:00:00.000Z",
        },
      },
    ])
  })

  test("of another sort is kept and noted", () => {
    const { messages, notes } = custom.parse(sent(said.replace("words", "weather")), channel)
    expect(messages).toEqual([])
    expect(notes).toEqual([expect.stringContaining("of a sort the profile does not name")])
  })

  test.each(["<call><From>", "no xml", '<!DOCTYPE x [<!ENTITY a "b">]><call>&a;</call>', ""])(
    "that is broken or a trap is unreadable: %s",
    (body) => {
      expect(custom.parse(call(body), channel).unreadable).toEqual(expect.any(String))
    },
  )

  test("has its characters written as numbers, attributes and lists, and no number but text", () => {
    expect(readXml('<a no="7"><b>H&#246;fn &#x26; &amp;lt;</b><c> 007 </c><d/><d>2</d></a>')).toEqual({
      a: { "@no": "7", b: "Höfn & &lt;", c: "007", d: ["", "2"] },
    })
    expect(() => readXml("<__proto__><x>1</x></__proto__>")).toThrow()
  })

  test("holds nothing but text in what is written", () => {
    const tree = { call: { Text: `<a> & "b" ]]> 'c'`, "@id": "1", Item: ["x", "y"] } }
    expect(readXml(writeXml(tree))).toEqual(tree)
  })

  test("an answer inside the call is a tree with what is filled in when it is given", () => {
    const { calls } = custom.render(
      { part: "text", text: "At **14:20** & later" },
      { address: "ines", kind: "direct" },
      channel,
    )
    expect(calls).toHaveLength(1)
    expect(calls[0]).toMatchObject({
      address: [],
      inline: {
        within: 5,
        late: "park",
        type: "application/xml; charset=utf-8",
        body: {
          xml: {
            call: {
              To: { place: "address" },
              From: { in: "/call/To" },
              At: { now: "seconds" },
              Text: "At 14:20 & later",
            },
          },
        },
      },
    })
  })

  test("a reply of several texts goes as one, for one answer is all there is", () => {
    const parts = custom.joined!(
      [
        { part: "text", text: "One" },
        { part: "text", text: "two" },
        { part: "choices", text: "three?", choices: [{ id: "y", label: "Yes" }] },
      ],
      channel,
    )
    expect(parts).toEqual([{ part: "choices", text: "One\n\ntwo\n\nthree?", choices: [{ id: "y", label: "Yes" }] }])
  })
})

describe("a signature over a template", () => {
  const channel = harbour(
    profile(`
profile: buoy
title: t
secrets: { sharedWord: { says: w }, apiKey: { says: k } }
settings: { instance: { says: which } }
inbound:
  body: json
  verify:
    - scheme: template
      secret: sharedWord
      header: x-buoy-signature
      over: "{method}:{path}:{header:x-buoy-time}.{body}"
      algorithm: sha512
      encoding: base64
      clock: { header: x-buoy-time, within: 300 }
  repeats: true
  message:
    each: /messages
    id: /id
    from: /sender/number
    text: /body
    place: /chat/id
    groups: "@g"
    placeName: /chat/name
    own: { /fromMe: [true] }
    media: { address: /file/url, mime: /file/type }
outbound:
  address: "{apiBase}/box{instance}/send/{apiKey}"
  headers: { x-request: "box {instance}" }
  body: json
  numberForm: digits
  send: { chat: "{to}@c.buoy", message: "{text}" }
  answer: { id: /sent/id, code: /error/code, says: /error/text }
  codes: { refused: [17] }
`),
    { settings: { profile: "buoy", apiBase: "https://gate.example/", instance: "7" } },
  )
  const sign = (body: string, time: number) =>
    createHmac("sha512", "tern").update(`POST:/in/harbour:${time}.${body}`).digest("base64")
  const sent = (body: string, time = seconds) =>
    call(body, "", { "x-buoy-time": String(time), "x-buoy-signature": sign(body, time) })

  test("is right, forged, or right and old", () => {
    expect(custom.verify(sent("{}"), channel, now)).toMatchObject({ genuine: true })
    const forged = { ...sent("{}"), body: utf8("{ }") }
    expect(custom.verify(forged, channel, now)).toMatchObject({ genuine: false })
    expect(custom.verify(sent("{}", seconds - 420), channel, now)).toMatchObject({
      genuine: false,
      near: "It would match if the clocks agreed: yours is 7 minutes ahead of the call's.",
    })
  })

  test("people, groups, our own words and pictures are told apart", () => {
    const { messages } = custom.parse(
      sent(
        JSON.stringify({
          messages: [
            { id: "1", sender: { number: "447700900123" }, body: "hi", chat: { id: "447700900123@c.buoy" } },
            { id: "2", sender: { number: "447700900123" }, body: "all", chat: { id: "99@g.buoy", name: "Crew" } },
            { id: "3", sender: { number: "447700900999" }, body: "mine", fromMe: true },
            {
              id: "4",
              sender: { number: "447700900123" },
              file: { url: "https://x.example/a.jpg", type: "image/jpeg" },
            },
          ],
        }),
      ),
      channel,
    )
    expect(messages.map(({ message, own }) => [message.place.address, message.place.kind, message.event, own])).toEqual(
      [
        ["+447700900123", "direct", "text", undefined],
        ["99@g.buoy", "group", "text", undefined],
        ["+447700900999", "direct", "text", true],
        ["+447700900123", "direct", "media", undefined],
      ],
    )
    expect(messages[3]!.message.media).toEqual([{ kind: "image", ref: "https://x.example/a.jpg", mime: "image/jpeg" }])
  })

  test("is answered by a call with the key in its address", () => {
    const { calls } = custom.render(
      { part: "text", text: "hello" },
      { address: "+447700900123", kind: "direct" },
      channel,
    )
    expect(calls[0]).toMatchObject({
      address: [{ setting: "apiBase" }, "/box", { setting: "instance" }, "/send/", { secret: "apiKey" }],
      headers: { "x-request": ["box ", { setting: "instance" }] },
      body: { json: { chat: { join: [{ place: "address", as: "digits" }, "@c.buoy"] }, message: "hello" } },
      words: "hello",
    })
  })

  test.each([
    [200, '{"sent":{"id":"m1"}}', { outcome: "accepted", providerId: "m1" }],
    [200, '{"error":{"code":17,"text":"no such chat"}}', { outcome: "refused", why: "no such chat (code 17)" }],
    [401, '{"error":{"text":"bad key"}}', { outcome: "lockedOut" }],
    [503, "{}", { outcome: "again" }],
    [200, "<html>", { outcome: "unclear" }],
  ])("an answer %s %s is judged as the profile says", (status, body, outcome) => {
    const { calls } = custom.render({ part: "text", text: "x" }, { address: "1", kind: "direct" }, channel)
    expect(custom.judge(calls[0]!, { status, headers: {}, body }, channel)).toMatchObject(outcome)
  })
})

describe("what an answer refuses", () => {
  const channel = harbour(
    profile(`
profile: slip
title: t
secrets: { sharedWord: { says: w } }
inbound:
  body: json
  verify: [{ scheme: word, secret: sharedWord, query: word }]
  message: { id: /id, from: /from, text: /text }
outbound:
  address: "{apiBase}/out"
  body: multipart
  send: { to: "{to}", chat: "{to:number}", line: "{line:number}", text: "{text}" }
  answer: { id: /id, refused: { /ok: [false], /error: [true], /status: [failed] } }
settings: { line: { says: a line } }
`),
    { settings: { line: "12" } },
  )
  const { calls } = custom.render({ part: "text", text: "x" }, { address: "1", kind: "direct" }, channel)

  test("numbers and parts are described as such", () => {
    expect(calls[0]!.body).toEqual({
      form: [
        { name: "to", value: { place: "address", as: "text" } },
        { name: "chat", value: { "number of": { place: "address", as: "text" } } },
        { name: "line", value: 12 },
        { name: "text", value: "x" },
      ],
    })
  })

  test.each<[string, object]>([
    ['{"ok":true,"id":"m1","error":null}', { outcome: "accepted", providerId: "m1" }],
    ['{"ok":true,"error":"0"}', { outcome: "accepted" }],
    ["{}", { outcome: "accepted" }],
    ['{"ok":false,"why":"no such chat"}', { outcome: "refused", why: "no such chat" }],
    ['{"ok":0}', { outcome: "refused" }],
    ['{"error":{"text":"no such chat"}}', { outcome: "refused", why: "no such chat" }],
    ['{"error":"no such chat"}', { outcome: "refused", why: "no such chat" }],
    ['{"status":"FAILED"}', { outcome: "refused" }],
    ["<html>", { outcome: "unclear" }],
  ])("%s", (body, outcome) => {
    expect(custom.judge(calls[0]!, { status: 200, headers: {}, body }, channel)).toMatchObject(outcome)
  })
})

describe("a queue", () => {
  const channel = harbour(
    profile(`
profile: pier
title: t
secrets: { apiKey: { says: k, required: true } }
inbound:
  body: json
  message: { id: /id, from: /from, text: /text, only: { /type: [message] } }
queue:
  ask: { address: "{apiBase}/queue/{apiKey}", holds: 5 }
  handle: /receipt
  content: /content
  remove: { address: "{apiBase}/queue/{apiKey}/{handle}" }
outbound: { address: "{apiBase}/out", body: json, send: { to: "{to}", text: "{text}" } }
`),
    { secrets: { apiKey: "k" } },
  )
  const polling = custom.polling!(channel)!
  const read = (status: number, body: string) => polling.read({ status, headers: {}, body })

  test("is asked, and what came is removed by its handle once it is kept", () => {
    expect(polling.ask(channel, undefined, 20)).toMatchObject({
      method: "GET",
      address: [{ setting: "apiBase" }, "/queue/", { secret: "apiKey" }],
      timeout: 15_000,
    })
    expect(
      read(200, '{"receipt":"r/1","content":{"type":"message","id":"1","from":"+447700900123","text":"hi"}}'),
    ).toMatchObject({
      updates: ['{"type":"message","id":"1","from":"+447700900123","text":"hi"}'],
      empty: false,
      confirm: [{ method: "DELETE", address: [{ setting: "apiBase" }, "/queue/", { secret: "apiKey" }, "/", "r%2F1"] }],
    })
  })

  test.each([
    [200, "null"],
    [200, ""],
    [204, ""],
  ])("has nothing: %s %j", (status, body) => {
    expect(read(status, body)).toEqual({ updates: [], empty: true })
  })

  test("an unknown kind of notification is kept and removed, and nothing breaks", () => {
    const odd = read(200, '{"receipt":"2","content":{"type":"hologram"}}')
    expect(odd).toMatchObject({ updates: ['{"type":"hologram"}'], confirm: [{ name: "remove" }] })
    const parsed = custom.parse(call('{"type":"hologram"}'), channel)
    expect(parsed).toMatchObject({ messages: [], notes: [expect.any(String)] })
    expect(read(200, "<html>")).toMatchObject({ updates: [expect.stringContaining("unreadable")] })
  })

  test.each([
    [401, "lockedOut"],
    [429, "again"],
    [500, "again"],
  ])("an answer %s is a fault: %s", (status, outcome) => {
    expect(read(status, "{}")).toMatchObject({ fault: { outcome } })
  })

  test("a channel with an ordinary profile does not ask", () => {
    expect(custom.polling!(harbour(lighthouse))).toBeUndefined()
  })
})

test("what a profile's addresses name must be set, and a secret that is required must be there", () => {
  expect(readSettings(custom, { profile: "plain-json" }).fault).toMatchObject({ field: "apiBase" })
  expect(readSettings(custom, { profile: "plain-json", apiBase: "https://x.example" }).fault).toMatchObject({
    field: "number",
  })
  const set = { profile: "plain-json", apiBase: "https://x.example", number: "+447700900100" }
  expect(readSettings(custom, set).fault).toBeUndefined()
  expect(readSecrets(custom, { sharedWord: "w" }, set).fault).toMatchObject({ field: "apiKey" })
  expect(readSecrets(custom, { apiKey: "k" }, set).fault?.says).toContain("signingSecret, sharedWord")
})

test("a channel without a profile refuses everything, and says what to do", () => {
  const bare: Channel = { key: "new", kind: "custom", settings: {}, secrets: {} }
  expect(custom.verify(call("{}"), bare, now)).toMatchObject({
    genuine: false,
    remedy: expect.stringContaining("wobbet channel learn new") as unknown,
  })
})
