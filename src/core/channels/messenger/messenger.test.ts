import type { Channel } from "../kind.ts"
import type { InboundCall, ProviderAnswer } from "../call.ts"
import { messenger } from "./index.ts"

const channel: Channel = {
  key: "quay",
  kind: "messenger",
  settings: { apiBase: "https://api.example", apiVersion: "v23.0", pageId: "300" },
  secrets: { pageToken: "t", appSecret: "s", verifyToken: "v" },
}
const parse = (body: unknown) =>
  messenger.parse(
    { method: "POST", address: "/in/quay", headers: {}, body: Buffer.from(JSON.stringify(body)) } satisfies InboundCall,
    channel,
  )
const page = (...messaging: object[]) => ({ object: "page", entry: [{ id: "300", time: 1, messaging }] })
const event = (more: object) => ({ sender: { id: "7" }, recipient: { id: "300" }, timestamp: 1795000000123, ...more })
const only = (more: object) => {
  const parsed = parse(page(event(more)))
  expect(parsed.messages).toHaveLength(1)
  return parsed.messages[0]!
}

test.each<[string, object, string, object]>([
  [
    "a text",
    { message: { mid: "m_1", text: "boat?", reply_to: { mid: "m_0" } } },
    "m_1",
    { event: "text", text: "boat?", replyTo: "m_0", providerId: "m_1", from: { address: "7", bot: false } },
  ],
  ["a command", { message: { mid: "m_1", text: "/book" } }, "m_1", { event: "command", command: { name: "book" } }],
  [
    "a quick reply",
    { message: { mid: "m_1", text: "Yes", quick_reply: { payload: "yes" } } },
    "m_1",
    { event: "choice", choice: { id: "yes", label: "Yes" } },
  ],
  [
    "every one of several attachments",
    {
      message: {
        mid: "m_1",
        attachments: [
          { type: "image", payload: { url: "https://x/1" } },
          { type: "video", payload: { url: "https://x/2" } },
        ],
      },
    },
    "m_1",
    {
      event: "media",
      media: [
        { kind: "image", ref: "https://x/1" },
        { kind: "video", ref: "https://x/2" },
      ],
    },
  ],
  [
    "the thumb",
    {
      message: {
        mid: "m_1",
        attachments: [{ type: "image", payload: { url: "https://x/t", sticker_id: 369239263222822 } }],
      },
    },
    "m_1",
    { media: [{ kind: "sticker" }] },
  ],
  [
    "a place",
    {
      message: {
        mid: "m_1",
        attachments: [{ type: "location", title: "Quay", payload: { coordinates: { lat: 38.7, long: -9.1 } } }],
      },
    },
    "m_1",
    { event: "location", location: { latitude: 38.7, longitude: -9.1, name: "Quay" } },
  ],
  [
    "a shared link without a payload",
    {
      message: {
        mid: "m_1",
        attachments: [{ type: "fallback", title: "Timetable", url: "https://x/t", payload: null }],
      },
    },
    "m_1",
    { event: "text", text: "Timetable https://x/t" },
  ],
  [
    "a postback",
    { postback: { mid: "m_2", title: "Book", payload: "book" } },
    "postback:m_2",
    { event: "choice", choice: { id: "book", label: "Book" } },
  ],
  [
    "a postback without an id",
    { postback: { title: "Book", payload: "book" } },
    "postback:7:1795000000123:book",
    { choice: { id: "book" } },
  ],
  [
    "a reaction",
    { reaction: { mid: "m_9", action: "react", emoji: "❤", reaction: "love" } },
    "reaction:7:1795000000123:m_9:react",
    { event: "reaction", reaction: { emoji: "❤", removed: false, to: "m_9" } },
  ],
  [
    "an edit",
    { message_edit: { mid: "m_9", text: "new", num_edit: 2 } },
    "edit:m_9:2",
    { event: "edited", text: "new", replyTo: "m_9" },
  ],
  [
    "what has no word of ours",
    { optin: { ref: "leaflet" } },
    "optin:7:1795000000123",
    { event: "unknown", providerEvent: "optin", text: "leaflet" },
  ],
])("%s", (_name, more, key, expected) => {
  expect(only(more)).toMatchObject({ eventKey: key, message: { ...expected, place: { address: "7", kind: "direct" } } })
})

test("an echo of ours proves that it arrived; one of the staff's is kept and never answered", () => {
  const echo = {
    sender: { id: "300" },
    recipient: { id: "7" },
    timestamp: 1,
    message: { mid: "m_e", is_echo: true, app_id: 1, text: "x" },
  }
  const ours = parse(page({ ...echo, message: { ...echo.message, metadata: "msg_01.0" } }))
  expect(ours).toMatchObject({ messages: [], statuses: [{ status: "sent", about: { id: "m_e", mark: "msg_01.0" } }] })
  const staff = parse(page(echo))
  expect(staff.messages).toMatchObject([
    { eventKey: "echo:m_e", own: true, by: "another application (1)", message: { place: { address: "7" } } },
  ])
  const inbox = parse(page({ ...echo, message: { ...echo.message, app_id: undefined } }))
  expect(inbox.messages[0]!.by).toBe("the page's own inbox")
})

test("a deletion keeps the mid of what it is about, has a key of its own and names the target", () => {
  const said = parse(page(event({ message: { mid: "m_1", text: "x" } }))).messages[0]!
  const gone = parse(page(event({ message: { mid: "m_1", is_deleted: true } }))).messages[0]!
  expect(gone.message).toMatchObject({ event: "deleted", replyTo: "m_1", from: { address: "7" } })
  expect(gone.message.providerId).toBeUndefined()
  expect(gone.eventKey).not.toBe(said.eventKey)
})

test.each<[string, object, object]>([
  [
    "an opened link",
    { referral: { ref: "poster-12", source: "SHORTLINK" } },
    { ref: "poster-12", source: "SHORTLINK" },
  ],
  ["the first press", { postback: { mid: "m", payload: "start", referral: { ref: "poster" } } }, { ref: "poster" }],
  [
    "an advertisement, with words",
    { message: { mid: "m", text: "hi", referral: { ref: "ad", ad_id: "9", ads_context_data: { ad_title: "Ride!" } } } },
    { ref: "ad", id: "9", title: "Ride!" },
  ],
  ["a plug-in", { optin: { ref: "ticket-7" } }, { ref: "ticket-7" }],
])("where somebody came from by %s is a field of the message", (_name, content, referral) => {
  expect(parse(page(event(content))).messages[0]!.message.referral).toEqual(referral)
})

test.each([
  ["block", [{ lockedOut: true }]],
  ["warning", [{ lockedOut: false }]],
  ["unblock", []],
])("the provider's word %s about the page's conduct", (action, alarms) => {
  const told = {
    recipient: { id: "300" },
    timestamp: 1,
    policy_enforcement: { action, reason: "Too many complaints." },
  }
  const parsed = parse(page(told))
  expect(parsed.alarms ?? []).toMatchObject(alarms)
  expect(parsed.alarms ?? []).toHaveLength(alarms.length)
})

test("watermarks cover everything up to their time, ids the messages they name", () => {
  const at = new Date(1795000000000).toISOString()
  const { statuses } = parse(
    page(
      event({ delivery: { mids: ["m_1"], watermark: 1795000000000 } }),
      event({ read: { watermark: 1795000000000 } }),
    ),
  )
  expect(statuses).toEqual([
    { status: "delivered", about: { id: "m_1" }, at },
    { status: "delivered", about: { upTo: at, place: "7" }, at },
    { status: "read", about: { upTo: at, place: "7" }, at },
  ])
})

test("what another application holds is seen and never answered; another page's is left alone", () => {
  const body = {
    object: "page",
    entry: [
      { id: "300", standby: [event({ message: { mid: "m_1", text: "x" } }), event({ postback: { title: "Go" } })] },
      { id: "4", messaging: [event({ message: { mid: "m_2", text: "y" } })] },
    ],
  }
  const parsed = parse(body)
  expect(parsed.messages.map((message) => [message.own, message.message.event])).toEqual([
    ["another application holds the conversation", "text"],
    ["another application holds the conversation", "unknown"],
  ])
  expect(parsed.notes.join()).toContain("the page 4")
})

const error = (code: number, error_subcode?: number): ProviderAnswer => ({
  status: 400,
  headers: {},
  body: JSON.stringify({ error: { message: "no", code, error_subcode } }),
})
test.each<[string, ProviderAnswer, object]>([
  [
    "taken",
    { status: 200, headers: {}, body: '{"recipient_id":"7","message_id":"m_5"}' },
    { outcome: "accepted", providerId: "m_5" },
  ],
  [
    "outside the window",
    error(10, 2018278),
    { outcome: "refused", remedy: expect.stringContaining("24 hours") as unknown },
  ],
  ["no permission", error(10), { outcome: "refused", remedy: expect.stringContaining("permission") as unknown }],
  ["nobody", error(100, 2018001), { outcome: "refused" }],
  ["gone", error(551), { outcome: "refused" }],
  ["too many", error(613), { outcome: "again", after: 30 }],
  ["a passing fault", error(1200), { outcome: "again" }],
  ["a token gone", error(190), { outcome: "lockedOut" }],
  ["blocked", error(368), { outcome: "lockedOut" }],
])("judging: %s", (_name, answer, outcome) => {
  expect(messenger.judge({} as never, answer, channel)).toMatchObject(outcome)
})
