import { createHmac } from "node:crypto"
import type { Channel } from "../kind.ts"
import type { InboundCall, ProviderAnswer } from "../call.ts"
import { slack } from "./index.ts"

const channel: Channel = {
  key: "quay",
  kind: "slack",
  settings: { apiBase: "https://api.example" },
  secrets: { botToken: "xoxb-1", signingSecret: "8f742231b10e8888abcd99yyyzzz85a5" },
  identity: { id: "UBOT", handle: "ferry", also: ["BBOT"] },
}
const call = (
  body: string,
  headers: { [name: string]: string } = { "content-type": "application/json" },
): InboundCall => ({
  method: "POST",
  address: "/in/quay",
  headers,
  body: Buffer.from(body),
})
const form = (fields: { [name: string]: string }) =>
  call(new URLSearchParams(fields).toString(), { "content-type": "application/x-www-form-urlencoded" })
const event = (inner: object, more: object = {}) =>
  call(JSON.stringify({ type: "event_callback", team_id: "T1", event_id: "Ev1", event_time: 1, event: inner, ...more }))
const parse = (inbound: InboundCall) => slack.parse(inbound, channel)
const only = (inbound: InboundCall) => {
  const parsed = parse(inbound)
  expect(parsed.messages).toHaveLength(1)
  return parsed.messages[0]!
}
const im = { type: "message", channel: "D1", channel_type: "im", user: "U1", ts: "1795000000.000100" }

describe("verifying", () => {
  const now = new Date(1795000000000)
  const signed = (body: string, time: number, secret = channel.secrets.signingSecret!) => ({
    "x-slack-request-timestamp": String(time),
    "x-slack-signature": `v0=${createHmac("sha256", secret).update(`v0:${time}:${body}`).digest("hex")}`,
  })
  test.each<[string, { [name: string]: string }, boolean, string]>([
    ["right and fresh", signed("{}", 1795000000), true, ""],
    ["299 seconds old", signed("{}", 1795000000 - 299), true, ""],
    ["7 minutes old", signed("{}", 1795000000 - 420), false, "7 minutes old"],
    ["7 minutes ahead", signed("{}", 1795000000 + 420), false, "7 minutes ahead"],
    ["of another secret", signed("{}", 1795000000, "other"), false, "does not match"],
    ["of another body", signed("{ }", 1795000000), false, "does not match"],
    ["missing", {}, false, "no signature"],
    ["without a time", { "x-slack-signature": "v0=00" }, false, "no time"],
    ["malformed", { "x-slack-signature": "v0=zz", "x-slack-request-timestamp": "1" }, false, "64 hexadecimal"],
  ])("%s", (_name, headers, genuine, why) => {
    const verdict = slack.verify(call("{}", headers), channel, now)
    expect(verdict.genuine).toBe(genuine)
    if (!verdict.genuine) expect(verdict.why).toContain(why)
    expect(JSON.stringify(verdict)).not.toContain(channel.secrets.signingSecret)
  })
})

describe("parsing events", () => {
  test("a direct message, as people read it, with the original kept in the marks", () => {
    const text =
      "see <https://ferry.example/?a=1&amp;b=2|the page> &amp; <@U2|tom> <#C9|> <!here> <!date^1^{date}|Monday> :boat:"
    const { eventKey, message } = only(event({ ...im, text }))
    expect(eventKey).toBe("D1:1795000000.000100")
    expect(message).toMatchObject({
      event: "text",
      text: "see the page & @tom #C9 @here Monday :boat:",
      place: { address: "D1", kind: "direct" },
      from: { address: "U1", bot: false },
      providerId: "1795000000.000100",
      sentAt: new Date(1795000000000).toISOString(),
    })
    expect(message.marks![0]).toMatchObject({
      kind: "link",
      offset: 4,
      length: 8,
      url: "https://ferry.example/?a=1&b=2",
      original: "<https://ferry.example/?a=1&amp;b=2|the page>",
    })
  })

  test("a mention is told of twice and has one key; what it asks stands without the mention", () => {
    const post = { channel: "C1", user: "U1", ts: "5.6", text: "<@UBOT> next boat" }
    const told = only(event({ type: "message", channel_type: "channel", ...post }))
    const again = only(event({ type: "app_mention", ...post }, { event_id: "Ev2" }))
    expect(again.eventKey).toBe(told.eventKey)
    for (const one of [told, again]) {
      expect(one.message).toMatchObject({
        text: "next boat",
        mentionsBot: true,
        place: { address: "C1", kind: "group" },
      })
    }
  })

  test.each<[string, object, object]>([
    [
      "a thread is a place of its own",
      { ...im, text: "x", thread_ts: "1.1" },
      { place: { address: "D1", topic: "1.1" } },
    ],
    ["its first post is not", { ...im, text: "x", thread_ts: im.ts }, { place: { address: "D1", kind: "direct" } }],
    [
      "a file",
      {
        ...im,
        subtype: "file_share",
        text: "",
        files: [{ id: "F1", name: "a.png", mimetype: "image/png", url_private: "https://f/1", size: 9 }],
      },
      { event: "media", media: [{ kind: "image", ref: "https://f/1", mime: "image/png", name: "a.png", size: 9 }] },
    ],
    [
      "a file of a shared channel",
      { ...im, subtype: "file_share", files: [{ id: "F1", file_access: "check_file_info" }] },
      { media: [{ kind: "file", ref: "file:F1" }] },
    ],
    [
      "another bot",
      { ...im, subtype: "bot_message", bot_id: "B2", user: undefined, username: "buoy", text: "x" },
      { from: { address: "B2", bot: true, name: "buoy" } },
    ],
    [
      "an edit",
      {
        type: "message",
        subtype: "message_changed",
        channel: "D1",
        channel_type: "im",
        ts: "9.9",
        message: { user: "U1", text: "new", ts: "5.5", edited: { user: "U1", ts: "9.0" } },
      },
      { event: "edited", text: "new", replyTo: "5.5" },
    ],
    [
      "a parent gone",
      {
        type: "message",
        subtype: "message_changed",
        channel: "D1",
        ts: "9.9",
        message: { subtype: "tombstone", ts: "5.5" },
      },
      { event: "deleted", replyTo: "5.5" },
    ],
    [
      "a deletion",
      { type: "message", subtype: "message_deleted", channel: "D1", deleted_ts: "5.5", ts: "9.9" },
      { event: "deleted", replyTo: "5.5" },
    ],
    [
      "a reaction",
      { type: "reaction_added", user: "U1", reaction: "+1", item: { type: "message", channel: "D1", ts: "5.5" } },
      { event: "reaction", reaction: { emoji: "👍", removed: false, to: "5.5" } },
    ],
    [
      "a custom reaction taken back",
      { type: "reaction_removed", user: "U1", reaction: "ferry_boat", item: { channel: "D1", ts: "5.5" } },
      { reaction: { emoji: ":ferry_boat:", removed: true } },
    ],
    [
      "somebody coming",
      { type: "member_joined_channel", user: "U2", channel: "C1", channel_type: "C" },
      { event: "joined", people: [{ address: "U2", bot: false }] },
    ],
    [
      "an unknown subtype",
      { ...im, subtype: "huddle_thread", text: "a huddle" },
      { event: "unknown", providerEvent: "huddle_thread", text: "a huddle" },
    ],
    [
      "an unknown event with a place",
      { type: "pin_added", user: "U1", channel_id: "x", item: { channel: "C1" } },
      { event: "unknown", providerEvent: "pin_added", place: { address: "C1" } },
    ],
  ])("%s", (_name, inner, expected) => {
    expect(only(event(inner)).message).toMatchObject(expected)
  })

  test.each<[string, object]>([
    ["our own bot's words", { ...im, bot_id: "BBOT", user: "UBOT", text: "x" }],
    [
      "a preview added to a message",
      {
        type: "message",
        subtype: "message_changed",
        channel: "D1",
        ts: "9.9",
        message: { user: "U1", text: "x", ts: "5.5" },
      },
    ],
    ["somebody new in the team", { type: "team_join", user: { id: "U9", name: "new" } }],
  ])("%s make no message, and are noted", (_name, inner) => {
    expect(parse(event(inner))).toMatchObject({ messages: [], notes: [expect.any(String)] })
  })

  test.each(["tokens_revoked", "app_uninstalled"])("%s locks the channel out", (type) => {
    expect(parse(event({ type })).alarms).toMatchObject([{ lockedOut: true }])
  })

  test("tokens revoked of people alone lock nothing out; the bot's own does", () => {
    const revoked = (tokens: object) => parse(event({ type: "tokens_revoked", tokens })).alarms
    expect(revoked({ oauth: ["U1", "U2"], bot: [] })).toBeUndefined()
    expect(revoked({ oauth: ["U1"], bot: ["UBOTHER"] })).toBeUndefined()
    expect(revoked({ oauth: [], bot: ["UBOT"] })).toMatchObject([{ lockedOut: true }])
  })
})

describe("commands and presses", () => {
  const command = {
    token: "x",
    team_id: "T1",
    channel_id: "C1",
    channel_name: "quay",
    user_id: "U1",
    user_name: "tom",
    command: "/Book",
    text: "two  seats &amp; a dog",
    response_url: "https://r/1",
    trigger_id: "1.2",
  }

  test("a slash command names who, where, what, and where it may be answered", () => {
    const { eventKey, message } = only(form(command))
    expect(eventKey).toBe("command:1.2")
    expect(message).toMatchObject({
      event: "command",
      command: { name: "book", args: "two  seats & a dog" },
      place: { address: "C1", kind: "group", title: "#quay" },
      from: { address: "U1", handle: "tom", bot: false },
      respondAt: "https://r/1",
    })
    expect(slack.repeats(form(command), channel)).toBe(false)
    expect(slack.repeats(event(im), channel)).toBe(true)
    const late = slack.acknowledgeLate!(form(command), parse(form(command)))
    expect(JSON.parse(late.body!)).toMatchObject({ response_type: "ephemeral" })
    expect(JSON.parse(slack.refuseSeen!(form(command))!.body!)).toMatchObject({
      text: expect.stringContaining("try it again") as unknown,
    })
  })

  const press = (actions: object[], more: object = {}) =>
    form({
      payload: JSON.stringify({
        type: "block_actions",
        user: { id: "U1", username: "tom" },
        channel: { id: "D1" },
        message: { ts: "5.5" },
        trigger_id: "9.1",
        response_url: "https://r/2",
        actions,
        ...more,
      }),
    })
  const text = { type: "plain_text", text: "Yes" }
  test.each<[string, object, object]>([
    [
      "a button",
      { type: "button", action_id: "a", value: "yes", text },
      { choice: { id: "yes", label: "Yes" }, text: "Yes" },
    ],
    [
      "one of a menu",
      { type: "static_select", action_id: "a", selected_option: { text, value: "yes" } },
      { choice: { id: "yes", label: "Yes" } },
    ],
    [
      "several at once",
      {
        type: "checkboxes",
        action_id: "a",
        selected_options: [
          { text, value: "y" },
          { text: { text: "No" }, value: "n" },
        ],
      },
      { choice: { id: "y", ids: ["y", "n"] }, text: "Yes, No" },
    ],
    [
      "a button without a value, by its name",
      { type: "button", action_id: "hold:weather", text: { text: "Hold" } },
      { choice: { id: "hold:weather", label: "Hold" }, text: "Hold" },
    ],
    ["a day", { type: "datepicker", action_id: "a", selected_date: "2026-12-01" }, { choice: { id: "2026-12-01" } }],
  ])("%s", (_name, action, expected) => {
    expect(only(press([action])).message).toMatchObject({
      event: "choice",
      replyTo: "5.5",
      place: { address: "D1" },
      ...expected,
    })
  })

  test("in a view the person stands for the channel; other interactions are kept", () => {
    const inView = only(
      press([{ type: "button", action_id: "a", value: "v" }], {
        channel: undefined,
        message: undefined,
        view: { id: "V1" },
      }),
    )
    expect(inView.message.place).toEqual({ address: "U1", kind: "direct" })
    const submitted = only(
      form({
        payload: JSON.stringify({
          type: "view_submission",
          user: { id: "U1" },
          view: {
            callback_id: "claim",
            hash: "h",
            state: {
              values: {
                b1: { colour: { type: "plain_text_input", value: "red" } },
                b2: { boat: { type: "static_select", selected_option: { value: "noon", text: { text: "Noon" } } } },
                b3: { days: { type: "checkboxes", selected_options: [{ value: "sat" }, { value: "sun" }] } },
                b4: { who: { type: "multi_users_select", selected_users: ["U2", "U3"] } },
                b5: { colour: { type: "plain_text_input", value: null } },
              },
            },
          },
          trigger_id: "3.3",
        }),
      }),
    )
    expect(submitted).toMatchObject({
      eventKey: "view_submission:3.3",
      message: {
        event: "form",
        form: {
          name: "claim",
          fields: { colour: "red", boat: "noon", days: ["sat", "sun"], who: ["U2", "U3"], "b5.colour": null },
        },
      },
    })
  })

  test("the address check gets its challenge", () => {
    const check = call('{"type":"url_verification","challenge":"abc","token":"x"}')
    expect(slack.acknowledge(check, parse(check), channel)).toMatchObject({ status: 200, body: "abc" })
  })
})

const answered = (body: object, status = 200, headers = {}): ProviderAnswer => ({
  status,
  headers,
  body: JSON.stringify(body),
})
test.each<[string, ProviderAnswer, object]>([
  ["taken", answered({ ok: true, channel: "D1", ts: "5.5" }), { outcome: "accepted", providerId: "5.5" }],
  ["taken at its own address", { status: 200, headers: {}, body: "ok" }, { outcome: "accepted" }],
  [
    "too many",
    answered({ ok: false, error: "ratelimited" }, 429, { "retry-after": "30" }),
    { outcome: "again", after: 30 },
  ],
  ["a passing fault", answered({ ok: false, error: "fatal_error" }), { outcome: "again" }],
  ["a token gone", answered({ ok: false, error: "token_revoked" }), { outcome: "lockedOut" }],
  [
    "a scope missing",
    answered({ ok: false, error: "missing_scope", needed: "chat:write" }),
    { outcome: "refused", why: expect.stringContaining("chat:write") as unknown },
  ],
  [
    "not there",
    answered({ ok: false, error: "not_in_channel" }),
    { outcome: "refused", remedy: expect.stringContaining("Invite") as unknown },
  ],
  ["an address used up", { status: 404, headers: {}, body: "used_url" }, { outcome: "refused" }],
  ["garbage", { status: 200, headers: {}, body: "<html>" }, { outcome: "unclear" }],
  ["no answer", { failure: "time", sent: true }, { outcome: "unclear" }],
])("judging: %s", (_name, answer, outcome) => {
  expect(slack.judge({ name: "chat.postMessage" } as never, answer, channel)).toMatchObject(outcome)
})

test("a doubt is looked up by the mark in a message's metadata", () => {
  const history = (messages: object[], has_more = false) => answered({ ok: true, messages, has_more })
  const mine = { ts: "7.7", metadata: { event_type: "wobbet_reply", event_payload: { call: "msg_1.0" } } }
  expect(slack.doubts!.read(history([{ ts: "8.8" }, mine]), "msg_1.0", channel)).toEqual({
    arrived: "yes",
    providerId: "7.7",
  })
  expect(slack.doubts!.read(history([{ ts: "8.8" }]), "msg_1.0", channel)).toEqual({ arrived: "no" })
  expect(slack.doubts!.read(history([], true), "msg_1.0", channel)).toEqual({ arrived: "unknown" })
  expect(slack.doubts!.read(answered({ ok: false, error: "channel_not_found" }), "msg_1.0", channel)).toEqual({
    arrived: "unknown",
  })
})
