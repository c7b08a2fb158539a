import fc from "fast-check"
import type { Channel } from "./kind.ts"
import type { InboundCall } from "./call.ts"
import { withDefaults } from "../gateway/settings.ts"
import { profiles } from "../gateway/shipped.ts"
import { kinds } from "./registry.ts"

/** A good call of each kind, with one known message in it; and the same beside something nobody knows. */
const good: { [kind: string]: { channel: Channel; body: string; type: string; beside?: string } } = {}
const set = (kind: string, settings: object, body: unknown, beside?: unknown, type = "application/json") => {
  const channel: Channel = { key: "quay", kind, settings: { ...settings }, secrets: {}, identity: { id: "UBOT" } }
  const text = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value))
  good[kind] = { channel, type, body: text(body), ...(beside === undefined ? {} : { beside: text(beside) }) }
}
set(
  "telegram",
  {},
  {
    update_id: 9,
    message: {
      message_id: 5,
      date: 1,
      chat: { id: 7, type: "private" },
      from: { id: 7, is_bot: false, first_name: "I" },
      text: "known",
    },
  },
)
const waMessage = { from: "447700900123", id: "wamid.A", timestamp: "1", type: "text", text: { body: "known" } }
const waValue = {
  metadata: { phone_number_id: "1" },
  contacts: [{ wa_id: "447700900123", profile: { name: "I" } }],
  statuses: [{ id: "s", status: "read", timestamp: "1" }],
}
const waBody = (messages: unknown[], changes: unknown[] = []) => ({
  object: "whatsapp_business_account",
  entry: [{ id: "1", changes: [...changes, { field: "messages", value: { ...waValue, messages } }] }],
})
set(
  "whatsapp",
  { phoneNumberId: "1" },
  waBody([waMessage]),
  waBody(
    [{ type: "hologram" }, null, 7, waMessage],
    [null, { field: "odd", value: [] }, { field: "messages", value: "x" }],
  ),
)
const msEvent = { sender: { id: "7" }, recipient: { id: "1" }, timestamp: 1, message: { mid: "m", text: "known" } }
set(
  "messenger",
  { pageId: "1" },
  { object: "page", entry: [{ id: "1", messaging: [msEvent] }] },
  {
    object: "page",
    entry: [
      null,
      { id: "1", changes: [{}], messaging: [null, "x", {}, { sender: 5, teleport: {} }, msEvent], standby: 7 },
    ],
  },
)
set(
  "slack",
  {},
  {
    type: "event_callback",
    event_id: "E",
    event: { type: "message", channel: "D1", channel_type: "im", user: "U1", text: "known", ts: "1.1" },
  },
)
set(
  "sms",
  withDefaults({ profile: "form-gateway", country: "GB" }, profiles["form-gateway"]),
  new URLSearchParams({ MessageSid: "S", From: "+447700900123", Body: "known", NumMedia: "0" }).toString(),
  new URLSearchParams({
    Odd: "x",
    MessageSid: "S",
    From: "+447700900123",
    Body: "known",
    NumMedia: "many",
    Latitude: "north",
  }).toString(),
  "application/x-www-form-urlencoded",
)

const callOf = (kind: string, body: string | Uint8Array, type = good[kind]!.type): InboundCall => ({
  method: "POST",
  address: "/in/quay",
  headers: { "content-type": type },
  body: typeof body === "string" ? Buffer.from(body) : body,
})
const parse = (kind: string, body: string | Uint8Array, type?: string) =>
  kinds[kind]!.parse(callOf(kind, body, type), good[kind]!.channel)
const texts = (kind: string, body: string) => parse(kind, body).messages.map((message) => message.message.text)

const nested = "[".repeat(20_000) + "]".repeat(20_000)
const bad: [string, (body: string) => string | Uint8Array][] = [
  ["an empty body", () => ""],
  ["half a body", (body) => body.slice(0, body.length >> 1)],
  ["deep nesting", () => `{"a":${nested},"entry":${nested},"update_id":1,"message":${nested}}`],
  ["a megabyte in one string", () => JSON.stringify({ type: "x", entry: "x".repeat(1_000_000), Body: "x" })],
  ["null", () => "null"],
  ["a list", () => "[]"],
  ["a number", () => "1e999"],
  ["a word", () => '"known"'],
  [
    "bytes that are no UTF-8",
    (body) => Buffer.concat([Buffer.from([0xff, 0xfe, 0xc3]), Buffer.from(body), Buffer.from([0xc3])]),
  ],
  ["a NUL and half a character", (body) => body.replace("known", "kn\\u0000own\\ud800")],
  ["numbers too large", (body) => body.replaceAll(/(?<=:)\d+(?=[,}])/g, "123456789012345678901234567890")],
  [
    "duplicate keys",
    (body) => body.replace("{", '{"entry":1,"event":2,"message":3,"update_id":123456789012345678,"update_id":4,'),
  ],
  [
    "entries that are empty",
    () => '{"object":"page","entry":[{},{"changes":[{}],"messaging":[{}]}],"type":"event_callback","event":{}}',
  ],
  ["a payload of nothing", () => "payload=%7B%7D"],
  ["a command of nothing", () => "command="],
]

describe.each(Object.keys(good))("%s", (kind) => {
  test.each(bad)("%s is read as far as it goes, and never throws", (_name, spoil) => {
    const parsed = parse(kind, spoil(good[kind]!.body))
    for (const message of parsed.messages) {
      expect(message.message.place.address).toEqual(expect.any(String))
      expect(JSON.stringify(message)).not.toMatch(/(?<!\\)\\(u0000|ud[89ab])/i)
    }
    // Whatever came of it is told: a message, a status, a note, or why it could not be read.
    expect(
      parsed.messages.length + parsed.statuses.length + parsed.notes.length + (parsed.unreadable ? 1 : 0),
    ).toBeGreaterThan(0)
    kinds[kind]!.acknowledge(callOf(kind, spoil(good[kind]!.body)), parsed, good[kind]!.channel)
  })

  test.each(["text/plain", "application/xml", "", "multipart/form-data; boundary=x", "application/json"])(
    "a content type of %j never throws",
    (type) => {
      expect(() => parse(kind, good[kind]!.body, type)).not.toThrow()
    },
  )

  test("what is known is never lost beside what is not", () => {
    const { body, beside } = good[kind]!
    expect(texts(kind, body)).toEqual(["known"])
    if (beside !== undefined) expect(texts(kind, beside)).toContain("known")
  })

  test("no header, signature or body makes verifying throw", () => {
    fc.assert(
      fc.property(
        fc.dictionary(fc.string(), fc.string()),
        fc.uint8Array({ maxLength: 200 }),
        fc.string(),
        (headers, body, query) => {
          for (const method of ["GET", "POST"]) {
            const verdict = kinds[kind]!.verify(
              { method, address: `/in/quay?${query}`, headers, body },
              good[kind]!.channel,
              new Date(0),
            )
            expect(verdict.genuine).toBe(false)
          }
        },
      ),
    )
  })

  test("a good call changed in any one place never throws, and other messages in it stay", () => {
    const odd = fc.oneof(fc.constant(undefined), fc.anything({ maxDepth: 2, withNullPrototype: false }))
    fc.assert(
      fc.property(fc.nat(), odd, (at, value) => {
        if (good[kind]!.type !== "application/json") {
          const fields = [...new URLSearchParams(good[kind]!.body)]
          fields[at % fields.length]![1] = String(JSON.stringify(value))
          expect(() => parse(kind, new URLSearchParams(fields).toString())).not.toThrow()
          return
        }
        const body = JSON.parse(good[kind]!.beside ?? good[kind]!.body) as object
        const places = placesIn(body)
        const { holder, key } = places[at % places.length]!
        holder[key] = value
        const text = JSON.stringify(body, (_key, inner: unknown) => (typeof inner === "bigint" ? String(inner) : inner))
        expect(() => parse(kind, text)).not.toThrow()
      }),
      { numRuns: 400 },
    )
  })
})

/** Every field of a value, with what holds it. */
function placesIn(value: unknown): { holder: { [key: string]: unknown }; key: string }[] {
  if (typeof value !== "object" || value === null) return []
  const holder = value as { [key: string]: unknown }
  return Object.keys(holder).flatMap((key) => [{ holder, key }, ...placesIn(holder[key])])
}
