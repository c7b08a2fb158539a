import { createHash, createHmac } from "node:crypto"
import type { Channel } from "../kind.ts"
import type { InboundCall, OutgoingCall, ProviderAnswer } from "../call.ts"
import { readSecrets, readSettings } from "../settings.ts"
import { sms } from "./index.ts"
import { e164 } from "../../gateway/numbers.ts"
import { withDefaults } from "../../gateway/settings.ts"
import { profiles } from "../../gateway/shipped.ts"
import { wishIn } from "./stopWords.ts"

const channelOf = (profile: string, settings: object, secrets: { [name: string]: string }): Channel => ({
  key: "quay",
  kind: "sms",
  settings: readSettings(sms, {
    profile,
    apiBase: "https://gw.example/v1",
    number: "+447700900999",
    country: "GB",
    ...settings,
  }).value,
  secrets,
  publicBase: "https://bots.example",
})
const form = channelOf("form-gateway", { accountId: "AC1" }, { authToken: "12345" })
const json = channelOf("plain-json", {}, { apiKey: "k", signingSecret: "s" })
const oma = channelOf("oma-messaging", { user: "ferry" }, { password: "p", inboundPassword: "ip" })

const formCall = (fields: { [name: string]: string }, headers = {}): InboundCall => ({
  method: "POST",
  address: "/in/quay?x=1",
  headers: { "content-type": "application/x-www-form-urlencoded", ...headers },
  body: Buffer.from(new URLSearchParams(fields).toString()),
})
const jsonCall = (body: unknown, headers = {}, address = "/in/quay"): InboundCall => ({
  method: "POST",
  address,
  headers: { "content-type": "application/json", ...headers },
  body: Buffer.from(JSON.stringify(body)),
})
const said = {
  MessageSid: "SM1",
  AccountSid: "AC1",
  From: "+447700900123",
  To: "+447700900999",
  Body: "boat?",
  NumMedia: "0",
  SmsStatus: "received",
}

describe("verifying", () => {
  const verify = (call: InboundCall, channel: Channel) => sms.verify(call, channel, new Date())
  const over = (fields: { [name: string]: string }) =>
    "https://bots.example/in/quay?x=1" +
    Object.keys(fields)
      .sort()
      .map((name) => name + fields[name])
      .join("")
  const sign = (text: string) => createHmac("sha1", "12345").update(text).digest("base64")

  test("a form is signed over the full address and every field, sorted; whatever the header is called", () => {
    expect(verify(formCall(said, { "x-some-signature": sign(over(said)) }), form)).toMatchObject({ genuine: true })
    expect(verify(formCall(said, { "x-some-signature": sign("http" + over(said).slice(5)) }), form).genuine).toBe(false)
    expect(verify(formCall({ ...said, Body: "other" }, { "x-some-signature": sign(over(said)) }), form).genuine).toBe(
      false,
    )
    expect(verify(formCall(said), form)).toMatchObject({
      genuine: false,
      why: expect.stringContaining("no signature") as unknown,
    })
  })

  test("for a body that is no form the address carries its hash, and both count", () => {
    const body = { a: 1 }
    const hash = createHash("sha256").update(JSON.stringify(body)).digest("hex")
    const address = `/in/quay?bodySHA256=${hash}`
    const headers = { "x-some-signature": sign(`https://bots.example${address}`) }
    expect(verify(jsonCall(body, headers, address), form).genuine).toBe(true)
    expect(verify(jsonCall({ a: 2 }, headers, address), form)).toMatchObject({
      genuine: false,
      why: expect.stringContaining("hash") as unknown,
    })
  })

  test("JSON is signed over its bytes, or carries a shared word in a header or the address", () => {
    const body = JSON.stringify({ from: "1" })
    const hex = createHmac("sha256", "s").update(body).digest("hex")
    expect(verify(jsonCall({ from: "1" }, { "x-signature": hex }), json).genuine).toBe(true)
    expect(verify(jsonCall({ from: "2" }, { "x-signature": hex }), json).genuine).toBe(false)
    const worded = { ...json, secrets: { apiKey: "k", sharedWord: "tide" } }
    expect(verify(jsonCall({}, { "x-shared-word": "tide" }), worded).genuine).toBe(true)
    expect(verify(jsonCall({}, {}, "/in/quay?word=tide"), worded).genuine).toBe(true)
    expect(verify(jsonCall({}, {}, "/in/quay?word=ebb"), worded).genuine).toBe(false)
  })

  test("the open standard's gateway authorises itself", () => {
    const basic = (pair: string) => ({ authorization: `Basic ${Buffer.from(pair).toString("base64")}` })
    expect(verify(jsonCall({}, basic("ferry:ip")), oma).genuine).toBe(true)
    expect(verify(jsonCall({}, basic("ferry:other")), oma).genuine).toBe(false)
    expect(verify(jsonCall({}), oma)).toMatchObject({
      why: expect.stringContaining("no basic authorisation") as unknown,
    })
  })
})

describe("parsing", () => {
  const only = (call: InboundCall, channel: Channel) => {
    const parsed = sms.parse(call, channel)
    expect(parsed.messages).toHaveLength(1)
    return parsed.messages[0]!
  }

  test.each<[string, object, object]>([
    ["a text", {}, { event: "text", text: "boat?", place: { address: "+447700900123", kind: "direct" } }],
    [
      "pictures",
      {
        NumMedia: "2",
        MediaUrl0: "https://m/0",
        MediaContentType0: "image/jpeg",
        MediaUrl1: "https://m/1",
        MediaContentType1: "text/vcard",
      },
      {
        event: "media",
        text: "boat?",
        media: [
          { kind: "image", ref: "https://m/0" },
          { kind: "file", ref: "https://m/1" },
        ],
      },
    ],
    [
      "a prefix before the number",
      { From: "whatsapp:+447700900123", ProfileName: "Inês" },
      { place: { address: "whatsapp:+447700900123", title: "Inês" }, from: { name: "Inês" } },
    ],
    ["a button", { ButtonPayload: "yes", ButtonText: "Yes" }, { event: "choice", choice: { id: "yes", label: "Yes" } }],
    ["a row of a list", { ListId: "r", ListTitle: "Row" }, { event: "choice", choice: { id: "r", label: "Row" } }],
    [
      "a place",
      { Latitude: "38.7", Longitude: "-9.1", Body: "" },
      { event: "location", location: { latitude: 38.7, longitude: -9.1 } },
    ],
    ["an answer to a message", { OriginalRepliedMessageSid: "SM0" }, { replyTo: "SM0" }],
    ["a word the gateway has answered itself", { Body: "stop", OptOutType: "STOP" }, { wish: "stop" }],
    ["a short code", { From: "87787" }, { place: { address: "87787" } }],
  ])("a form with %s", (_name, more, expected) => {
    const read = only(formCall({ ...said, ...more }), form)
    expect(read).toMatchObject({ eventKey: "SM1", message: expected })
    expect(read.own).toBeUndefined()
  })

  test("an answer leaves the way its question came, by the channel's own where that says none", () => {
    const sent = (address: string, addressPrefix = "") => {
      const usual = { ...form, settings: { ...form.settings, addressPrefix } }
      const [call] = sms.render({ part: "text", text: "hi" }, { address, kind: "direct" }, usual).calls
      const { fields } = call!.body as { fields: { name: string; value: unknown }[] }
      return Object.fromEntries(fields.map(({ name, value }) => [name, value]))
    }
    expect(sent("whatsapp:+447700900123").From).toBe("whatsapp:+447700900999")
    expect(sent("+447700900123").From).toBe("+447700900999")
    expect(sent("+447700900123", "whatsapp:").From).toBe("whatsapp:+447700900999")
    expect(sent("sms:+447700900123", "whatsapp:").From).toBe("+447700900999")
    const came = (From: string) => only(formCall({ ...said, From }), form).message.place.address
    expect(came("whatsapp:+447700900123")).not.toBe(came("+447700900123"))
  })

  test("a number is brought to E.164 however it is written, and keeps its way", () => {
    const at = (given: string, settings: object = {}) =>
      sms.addressOf!(given, { ...form, settings: { ...form.settings, ...settings } })
    for (const given of ["447700900123", "+447700900123", "+44 7700 900123", "tel:+447700900123"])
      expect(at(given)).toBe("+447700900123")
    expect(at("07700 900123", { country: "GB" })).toBe("+447700900123")
    expect(at("447700900123", { addressPrefix: "whatsapp:" })).toBe("+447700900123")
    expect(at("whatsapp:447700900123")).toBe("whatsapp:+447700900123")
    expect([at("87787"), at("acr:Ab1-2"), at("FERRY")]).toEqual(["87787", "acr:Ab1-2", "FERRY"])
  })

  test.each([
    ["delivered", "delivered", undefined],
    ["undelivered", "failed", "the gateway's code 30003"],
    ["queued", undefined, undefined],
  ])("a status call that says %s", (word, status, why) => {
    const parsed = sms.parse(
      formCall({ MessageSid: "SM9", MessageStatus: word, From: "+447700900999", ErrorCode: "30003" }),
      form,
    )
    expect(parsed.messages).toEqual([])
    expect(parsed.statuses).toEqual(status ? [{ status, about: { id: "SM9" }, ...(why ? { why } : {}) }] : [])
  })

  test("JSON by the names its settings give, and without an id every call is something new", () => {
    const nested = { ...json, settings: { ...json.settings, fromField: "/data/sender", textField: "/data/words/0" } }
    const body = { data: { sender: "07700 900123", words: ["boat?"] } }
    expect(only(jsonCall(body), nested)).toMatchObject({
      eventKey: "",
      message: { text: "boat?", place: { address: "+447700900123" } },
    })
    expect(sms.parse(jsonCall({ id: "a", status: "delivered" }), json).statuses).toMatchObject([
      { status: "delivered" },
    ])
    expect(only(jsonCall({ id: "a", from: "447700900123", text: "x", status: "received" }), json).message.text).toBe(
      "x",
    )
  })

  test("the open standard's notification, and its delivery report with one or several", () => {
    const inbound = {
      inboundSMSMessageNotification: {
        inboundSMSMessage: {
          messageId: "m1",
          senderAddress: "tel:+447700900123",
          destinationAddress: "tel:+447700900999",
          message: "boat?",
          dateTime: "2026-11-23T08:00:00Z",
        },
      },
    }
    expect(only(jsonCall(inbound), oma)).toMatchObject({
      eventKey: "m1",
      message: { text: "boat?", place: { address: "+447700900123" }, sentAt: "2026-11-23T08:00:00.000Z" },
    })
    const report = (deliveryInfo: unknown) => ({
      deliveryInfoNotification: { callbackData: "msg_1.0", link: [{ rel: "r", href: "https://gw/1" }], deliveryInfo },
    })
    const one = { address: "tel:+447700900123", deliveryStatus: "DeliveredToTerminal" }
    const about = { id: "https://gw/1", mark: "msg_1.0" }
    expect(sms.parse(jsonCall(report(one)), oma).statuses).toEqual([{ status: "delivered", about }])
    expect(
      sms
        .parse(jsonCall(report([one, { ...one, deliveryStatus: "DeliveryImpossible" }])), oma)
        .statuses.map((told) => told.status),
    ).toEqual(["delivered", "failed"])
    expect(sms.parse(jsonCall(report({ ...one, deliveryStatus: "DeliveryUncertain" })), oma)).toMatchObject({
      statuses: [],
      notes: [expect.stringContaining("DeliveryUncertain")],
    })
  })

  test("the sister notification, of messages of any sort, tells of a message too; an anonymous sender stays one", () => {
    const inboundMessage = {
      messageId: "m2",
      senderAddress: "acr:pseudonym-123",
      destinationAddress: "tel:+447700900999",
      inboundSMSTextMessage: { message: "boat?" },
      dateTime: "2026-11-23T08:00:00Z",
    }
    const read = only(jsonCall({ inboundMessageNotification: { inboundMessage } }), oma)
    expect(read).toMatchObject({ eventKey: "m2", message: { text: "boat?", place: { address: "acr:pseudonym-123" } } })
    expect(read.own).toBeUndefined()
  })

  test("the gateway's word that its subscription has ended is heard by the operator", () => {
    const ended = { subscriptionCancellationNotification: { callbackData: "1", reason: { text: "expired" } } }
    expect(sms.parse(jsonCall(ended), oma)).toMatchObject({
      messages: [],
      alarms: [{ lockedOut: false, says: expect.stringContaining("expired") as unknown }],
    })
  })

  test.each([
    ["+44 7700 900123", "GB", "+447700900123"],
    ["07700 900123", "GB", "+447700900123"],
    ["447700900123", undefined, "+447700900123"],
    ["tel:+12025550143", undefined, "+12025550143"],
    ["whatsapp:+447700900123", undefined, "+447700900123"],
    ["(202) 555-0143", "US", "+12025550143"],
    ["FERRYNEWS", "GB", undefined],
    ["", "GB", undefined],
  ])("%j in %s is %s", (given, country, number) => {
    expect(e164(given, country)).toBe(number)
  })

  test.each([
    ["STOP", "stop"],
    [" stop. ", "stop"],
    ["Unsubscribe", "stop"],
    ["OPTOUT", "stop"],
    ["Start", "start"],
    ["yes", "maybe start"],
    ["help", "help"],
    ["INFO", "help"],
    ["stop the boat", undefined],
    ["constructor", undefined],
  ])("%j wishes %s", (text, wish) => {
    expect(wishIn(text)).toBe(wish)
  })
})

describe("sending", () => {
  const calls = (channel: Channel) =>
    sms.render({ part: "text", text: "Next boat **14:20**" }, { address: "+447700900123", kind: "direct" }, channel)
      .calls
  test("a form with basic authorisation and where to report", () => {
    const [call] = calls(form) as [OutgoingCall]
    expect(call).toMatchObject({
      address: [
        { setting: "apiBase" },
        { setting: "accountPath" },
        "/",
        { setting: "accountId" },
        { setting: "sendPath" },
      ],
      headers: { authorization: { basic: [{ setting: "accountId" }, { secret: "authToken" }] } },
      body: {
        fields: [
          { name: "To", value: { place: "address", as: "text" } },
          { name: "From", value: "+447700900999" },
          { name: "Body", value: "Next boat 14:20" },
          { name: "StatusCallback", value: "https://bots.example/in/quay" },
        ],
      },
    })
    const prefixed = calls({ ...form, settings: { ...form.settings, addressPrefix: "whatsapp:" } })[0]!.body
    expect(prefixed).toMatchObject({
      fields: [
        { value: { place: "address", as: "text", prefix: "whatsapp:" } },
        { value: "whatsapp:+447700900999" },
        {},
        {},
      ],
    })
  })

  test("JSON with a bearer key, names and numbers as the gateway wants them", () => {
    const other = { ...json, settings: { ...json.settings, toName: "number", numberForm: "digits" } }
    expect(calls(other)[0]).toMatchObject({
      headers: { authorization: ["Bearer ", { secret: "apiKey" }] },
      body: { json: { number: { place: "address", as: "digits" }, text: "Next boat 14:20", from: "447700900999" } },
    })
  })

  test("the open standard's request, which a gateway that knows its correlator sends once", () => {
    expect(calls(oma)[0]).toMatchObject({
      address: [{ setting: "apiBase" }, "/smsmessaging/v1/outbound/", "tel%3A%2B447700900999", "/requests"],
      body: {
        json: {
          outboundSMSMessageRequest: {
            address: [{ place: "address", as: "text", prefix: "tel:" }],
            clientCorrelator: { mark: "call" },
          },
        },
      },
    })
  })

  test.each<[string, ProviderAnswer, object]>([
    [
      "taken",
      { status: 201, headers: {}, body: '{"sid":"SM7","status":"queued"}' },
      { outcome: "accepted", providerId: "SM7" },
    ],
    [
      "a number that is none",
      { status: 400, headers: {}, body: '{"code":21211,"message":"Invalid To"}' },
      { outcome: "refused", why: "Invalid To (code 21211)" },
    ],
    [
      "a key gone",
      { status: 401, headers: {}, body: '{"code":20003,"message":"Authenticate"}' },
      { outcome: "lockedOut" },
    ],
    [
      "too many",
      { status: 429, headers: { "retry-after": "4" }, body: '{"code":20429,"message":"Too many"}' },
      { outcome: "again", after: 4 },
    ],
    ["a fault there", { status: 503, headers: {}, body: "busy" }, { outcome: "again" }],
    [
      "words in a list",
      { status: 400, headers: {}, body: '{"code":1,"message":[{"text":"No such number"},{"text":"Check it"}]}' },
      { outcome: "refused", why: "No such number; Check it (code 1)" },
    ],
    [
      "words elsewhere",
      { status: 422, headers: {}, body: '{"errors":{"to":"is landline"}}' },
      { outcome: "refused", why: 'answer 422: {"errors":{"to":"is landline"}}' },
    ],
    [
      "no JSON at all",
      { status: 400, headers: {}, body: "bad number" },
      { why: "The gateway answered 400: bad number" },
    ],
    ["garbage", { status: 200, headers: {}, body: "<html>" }, { outcome: "unclear" }],
  ])("judging: %s", (_name, answer, outcome) => {
    expect(sms.judge({} as never, answer, form)).toMatchObject(outcome)
  })
})

describe("a form gateway whose fields have other names", () => {
  const renamed = channelOf(
    "form-gateway",
    {
      accountId: "42",
      idField: "ref",
      fromField: "sender",
      textField: "words",
      countField: "files",
      statusField: "state",
      hashField: "digest",
      toName: "recipient",
      fromName: "origin",
      textName: "message",
      mediaName: "file",
      reportName: "reports",
      accountPath: "/box",
      sendPath: "/out",
      whoPath: "/self",
      answerId: "/ref",
      signatureHeader: "x-harbour-proof",
    },
    { authToken: "12345" },
  )

  test("is verified, read, answered and asked by those names alone", () => {
    const fields = { ref: "m-1", sender: "+447700900123", words: "boat?", files: "0" }
    const signed = `https://bots.example/in/quay?x=1${Object.keys(fields)
      .sort()
      .map((name) => name + fields[name as "ref"])
      .join("")}`
    const proof = createHmac("sha1", "12345").update(signed).digest("base64")
    const call = formCall(fields, { "x-harbour-proof": proof })
    expect(sms.verify(call, renamed, new Date())).toMatchObject({ genuine: true })
    expect(sms.parse(call, renamed).messages).toMatchObject([
      { message: { providerId: "m-1", text: "boat?", from: { address: "+447700900123" } } },
    ])
    expect(sms.parse(formCall({ ref: "o-1", state: "delivered" }), renamed).statuses).toMatchObject([
      { about: { id: "o-1" }, status: "delivered" },
    ])
    expect(sms.parse(formCall({ MessageSid: "x", From: "+447700900123", Body: "boat?" }), renamed).messages).toEqual([])
    const { calls } = sms.render({ part: "text", text: "14:20" }, { address: "+447700900123", kind: "direct" }, renamed)
    const written = JSON.stringify(calls)
    for (const name of ["recipient", "origin", "message", "reports"]) expect(written).toContain(`"name":"${name}"`)
    expect(written).not.toMatch(/Accounts|StatusCallback|"To"|"Body"/)
    expect(JSON.stringify(sms.account.check(renamed))).not.toContain("Accounts")
    expect(sms.judge(calls[0]!, { status: 201, headers: {}, body: '{"ref":"o-1"}' }, renamed)).toMatchObject({
      outcome: "accepted",
      providerId: "o-1",
    })
  })
})

test("a channel that was made before its profile had these settings works as it did", () => {
  const { settings } = form
  const { fromField: _from, sendPath: _path, idField: _id, ...before } = settings
  const later = { ...form, settings: withDefaults(before, profiles["form-gateway"]) }
  expect(later.settings).toEqual(settings)
  expect(sms.parse(formCall(said), later)).toEqual(sms.parse(formCall(said), form))
  // What somebody has set to nothing stays so.
  expect(withDefaults({ ...settings, addressPrefix: "" }, profiles["form-gateway"])).toEqual(settings)
})

describe("profiles", () => {
  test("three ship; a channel is told what its profile wants", () => {
    expect(Object.keys(profiles)).toEqual(["form-gateway", "plain-json", "oma-messaging"])
    expect(readSettings(sms, { apiBase: "https://x", number: "+447700900999" }).fault).toMatchObject({
      field: "accountId",
    })
    expect(
      readSettings(sms, { apiBase: "https://x", number: "+447700900999", accountId: "1", colour: "red" }).fault,
    ).toMatchObject({ field: "colour" })
    expect(readSecrets(sms, { apiKey: "k" }, { profile: "plain-json" }).fault?.says).toContain("signingSecret")
    expect(readSecrets(sms, { apiKey: "k", sharedWord: "w" }, { profile: "plain-json" }).fault).toBeUndefined()
  })
})
