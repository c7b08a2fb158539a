import { createHmac } from "node:crypto"
import type { Channel } from "../kind.ts"
import type { InboundCall, ProviderAnswer } from "../call.ts"
import { wordsOf } from "../../message/words.ts"
import { whatsapp } from "./index.ts"

const channel: Channel = {
  key: "quay",
  kind: "whatsapp",
  settings: { apiBase: "https://api.example", apiVersion: "v23.0", phoneNumberId: "106540352242922" },
  secrets: { accessToken: "t", appSecret: "app-secret", verifyToken: "lighthouse" },
}
const call = (body: unknown, headers: { [name: string]: string } = {}): InboundCall => ({
  method: "POST",
  address: "/in/quay",
  headers,
  body: Buffer.from(typeof body === "string" ? body : JSON.stringify(body)),
})
const value = (more: object) => ({
  messaging_product: "whatsapp",
  metadata: { display_phone_number: "15550783881", phone_number_id: "106540352242922" },
  ...more,
})
const change = (more: object, field = "messages") => ({
  object: "whatsapp_business_account",
  entry: [{ id: "102290129340398", time: 1795, changes: [{ field, value: value(more) }] }],
})
const contacts = [{ profile: { name: "Inês" }, wa_id: "447700900123" }]
const message = (content: object) =>
  change({
    contacts,
    messages: [{ from: "447700900123", id: "wamid.A", timestamp: "1795000000", ...content }],
  })
const parse = (body: unknown) => whatsapp.parse(call(body), channel)
const only = (body: unknown) => {
  const parsed = parse(body)
  expect(parsed.messages).toHaveLength(1)
  return parsed.messages[0]!
}

describe("verifying", () => {
  // As the provider writes it: what is not ASCII, and slashes, stand escaped; a rewritten body does not match.
  const raw = '{"object":"whatsapp_business_account","text":"In\\u00eas \\/ caf\\u00e9"}'
  const sign = (body: string, key = "app-secret") => `sha256=${createHmac("sha256", key).update(body).digest("hex")}`
  test.each<[string, string, { [name: string]: string }, boolean, string]>([
    ["over the raw bytes", raw, { "x-hub-signature-256": sign(raw) }, true, ""],
    [
      "over a rewritten body",
      JSON.stringify(JSON.parse(raw)),
      { "x-hub-signature-256": sign(raw) },
      false,
      "does not match",
    ],
    ["with another secret", raw, { "x-hub-signature-256": sign(raw, "other") }, false, "appSecret"],
    ["none", raw, {}, false, "has no signature"],
    ["half of one", raw, { "x-hub-signature-256": sign(raw).slice(0, 40) }, false, "64 hexadecimal digits"],
    ["of another sort", raw, { "x-hub-signature-256": sign(raw).replace("sha256", "sha1") }, false, "sha256="],
  ])("a signature %s", (_name, body, headers, genuine, why) => {
    const verdict = whatsapp.verify(call(body, headers), channel, new Date())
    expect(verdict.genuine).toBe(genuine)
    if (!verdict.genuine) expect(verdict.why).toContain(why)
    expect(JSON.stringify(verdict)).not.toContain("app-secret")
  })

  const ask = (query: string): InboundCall => ({
    method: "GET",
    address: `/in/quay?${query}`,
    headers: {},
    body: new Uint8Array(),
  })
  test.each<[string, boolean, string]>([
    ["hub.mode=subscribe&hub.challenge=42&hub.verify_token=lighthouse", true, ""],
    [
      "hub.mode=subscribe&hub.challenge=42&hub.verify_token=lighthouse%0A",
      false,
      "the received one has 11 characters, this channel's 10",
    ],
    ["hub.mode=subscribe&hub.verify_token=lighthouse", false, "hub.challenge"],
    ["hub.mode=unsubscribe&hub.challenge=42&hub.verify_token=lighthouse", false, "hub.mode"],
  ])("the handshake %s", (query, genuine, why) => {
    expect(whatsapp.isHandshake!(ask(query), channel)).toBe(true)
    const verdict = whatsapp.verify(ask(query), channel, new Date())
    expect(verdict.genuine).toBe(genuine)
    if (!verdict.genuine) expect(verdict.why).toContain(why)
    expect(JSON.stringify(verdict)).not.toContain("lighthouse")
    if (genuine)
      expect(whatsapp.acknowledge(ask(query), parse("{}"), channel)).toMatchObject({ status: 200, body: "42" })
  })
})

describe("parsing", () => {
  test("a text, with who, where and when", () => {
    expect(only(message({ type: "text", text: { body: "boat?" }, context: { from: "1", id: "wamid.B" } }))).toEqual({
      eventKey: "wamid.A",
      message: {
        event: "text",
        text: "boat?",
        providerId: "wamid.A",
        place: { address: "447700900123", kind: "direct", title: "Inês" },
        from: { address: "447700900123", name: "Inês", bot: false },
        replyTo: "wamid.B",
        sentAt: new Date(1795000000000).toISOString(),
      },
    })
  })

  test.each<[string, object, object]>([
    [
      "a command",
      { type: "text", text: { body: "/book two seats" } },
      { event: "command", command: { name: "book", args: "two seats" } },
    ],
    [
      "a picture with a caption",
      { type: "image", image: { id: "1003", mime_type: "image/jpeg", sha256: "x", caption: "scarf" } },
      { event: "media", text: "scarf", media: [{ kind: "image", ref: "1003", mime: "image/jpeg", caption: "scarf" }] },
    ],
    [
      "a voice note",
      { type: "audio", audio: { id: "7", mime_type: "audio/ogg; codecs=opus", voice: true } },
      { media: [{ kind: "voice", ref: "7" }] },
    ],
    [
      "a document",
      { type: "document", document: { id: "8", filename: "a.pdf", mime_type: "application/pdf" } },
      { media: [{ kind: "file", name: "a.pdf" }] },
    ],
    ["a sticker", { type: "sticker", sticker: { id: "9", animated: false } }, { media: [{ kind: "sticker" }] }],
    [
      "a place",
      { type: "location", location: { latitude: 38.7, longitude: -9.1, name: "Quay", address: "1 Sea St" } },
      { event: "location", location: { latitude: 38.7, name: "Quay", address: "1 Sea St" } },
    ],
    [
      "a contact",
      {
        type: "contacts",
        contacts: [
          { name: { formatted_name: "Tom A" }, phones: [{ phone: "+44 7700 900456", wa_id: "447700900456" }] },
        ],
      },
      { event: "contact", contact: { name: "Tom A", phone: "+44 7700 900456", address: "447700900456" } },
    ],
    [
      "a button of ours",
      { type: "interactive", interactive: { type: "button_reply", button_reply: { id: "yes", title: "Yes" } } },
      { event: "choice", choice: { id: "yes", label: "Yes" }, text: "Yes" },
    ],
    [
      "a row of a list",
      {
        type: "interactive",
        interactive: { type: "list_reply", list_reply: { id: "r1", title: "One", description: "d" } },
      },
      { choice: { id: "r1", label: "One" } },
    ],
    [
      "a form",
      {
        type: "interactive",
        interactive: {
          type: "nfm_reply",
          nfm_reply: { name: "flow", body: "Sent", response_json: '{"seats":3,"day":"friday"}' },
        },
      },
      { event: "form", text: "Sent", form: { name: "flow", fields: { seats: 3, day: "friday" } } },
    ],
    [
      "a form whose answers are no JSON",
      { type: "interactive", interactive: { type: "nfm_reply", nfm_reply: { response_json: "{oops" } } },
      { event: "form", form: { fields: { response_json: "{oops" } } },
    ],
    [
      "an order",
      {
        type: "order",
        order: {
          catalog_id: "7",
          text: "For friday",
          product_items: [{ product_retailer_id: "pass-day", quantity: 2 }],
        },
      },
      {
        event: "form",
        text: "For friday",
        form: { name: "order", fields: { catalog: "7", items: [{ product_retailer_id: "pass-day", quantity: 2 }] } },
      },
    ],
    [
      "two contact cards",
      {
        type: "contacts",
        contacts: [
          { name: { formatted_name: "Ada" }, phones: [{ phone: "+447700900124" }] },
          { name: { formatted_name: "Tom" }, phones: [{ phone: "+447700900125", wa_id: "447700900125" }] },
        ],
      },
      {
        event: "contact",
        contact: { name: "Ada", phone: "+447700900124" },
        contacts: [{ name: "Ada" }, { name: "Tom", phone: "+447700900125", address: "447700900125" }],
      },
    ],
    [
      "words of somebody an advertisement brought",
      {
        type: "text",
        text: { body: "hello" },
        referral: { source_url: "https://fb.example/1", source_id: "ad1", headline: "Ride!", ref: "summer" },
      },
      { event: "text", referral: { ref: "summer", source: "https://fb.example/1", id: "ad1", title: "Ride!" } },
    ],
    [
      "words in a group, whose place is the group",
      { type: "text", text: { body: "hello" }, group_id: "Y2FwaV9ncm91cA" },
      { place: { address: "Y2FwaV9ncm91cA", kind: "group" }, from: { address: "447700900123" } },
    ],
    [
      "a template's button",
      { type: "button", button: { payload: "p", text: "Go" } },
      { choice: { id: "p", label: "Go" } },
    ],
    [
      "a reaction",
      { type: "reaction", reaction: { message_id: "wamid.B", emoji: "👍" } },
      { event: "reaction", reaction: { emoji: "👍", removed: false, to: "wamid.B" } },
    ],
    [
      "a reaction taken back",
      { type: "reaction", reaction: { message_id: "wamid.B" } },
      { reaction: { emoji: "", removed: true, to: "wamid.B" } },
    ],
    [
      "a forward",
      { type: "text", text: { body: "x" }, context: { forwarded: true } },
      { event: "text", forwarded: {} },
    ],
    [
      "an edit",
      { type: "edit", edit: { original_message_id: "wamid.B", message: { type: "text", text: { body: "new" } } } },
      { event: "edited", text: "new", replyTo: "wamid.B" },
    ],
    [
      "a message taken back",
      { type: "revoke", revoke: { original_message_id: "wamid.B" } },
      { event: "deleted", replyTo: "wamid.B" },
    ],
    [
      "what it cannot show",
      { type: "unsupported", errors: [{ code: 131051, title: "Unsupported message type" }] },
      { event: "unknown", providerEvent: "unsupported" },
    ],
    [
      "what nobody knows yet",
      { type: "hologram", hologram: { id: "1" } },
      { event: "unknown", providerEvent: "hologram" },
    ],
  ])("%s", (_name, content, expected) => {
    expect(only(message(content)).message).toMatchObject(expected)
  })

  test("the provider's words for what it could not read are a note, and nobody's text", () => {
    const parsed = parse(
      message({ type: "unsupported", errors: [{ code: 131051, title: "Unsupported message type" }] }),
    )
    expect(parsed.messages[0]!.message.text).toBeUndefined()
    expect(parsed.notes).toEqual([expect.stringContaining("Unsupported message type (code 131051)")])
  })

  test.each<[string, object, object[]]>([
    ["account_update", { event: "VERIFIED_ACCOUNT" }, []],
    [
      "account_update",
      { event: "ACCOUNT_VIOLATION", violation_info: { violation_type: "ADULT" } },
      [{ lockedOut: false, says: expect.stringContaining("ADULT") as unknown }],
    ],
    [
      "account_update",
      { event: "DISABLED_UPDATE", ban_info: { waba_ban_state: ["SCHEDULE_FOR_DISABLE"] } },
      [{ lockedOut: false, says: expect.stringContaining("SCHEDULE_FOR_DISABLE") as unknown }],
    ],
    ["account_update", { ban_info: { waba_ban_state: "DISABLE" }, event: "DISABLED_UPDATE" }, [{ lockedOut: true }]],
    ["account_update", { ban_info: { waba_ban_state: "REINSTATE" }, event: "DISABLED_UPDATE" }, []],
    ["account_update", { event: "VOLUME_BASED_PRICING_TIER_UPDATE" }, []],
    ["phone_number_quality_update", { event: "THROUGHPUT_UPGRADE" }, []],
    ["account_update", { event: "PARTNER_APP_UNINSTALLED" }, [{ lockedOut: true }]],
    ["phone_number_quality_update", { event: "FLAGGED", current_limit: "TIER_250" }, [{ lockedOut: false }]],
    ["account_review_update", { decision: "REJECTED" }, [{ lockedOut: true }]],
  ])("%s %j: what the operator must hear is an alarm", (field, value, alarms) => {
    const parsed = parse(change(value, field))
    expect(parsed.messages).toEqual([])
    expect(parsed.alarms ?? []).toMatchObject(alarms)
    expect(parsed.alarms ?? []).toHaveLength(alarms.length)
  })

  test("a form and an order of the worst shape are taken over no deeper than anybody fills one in", () => {
    const deep = "[".repeat(400_000) + "]".repeat(400_000)
    const filled = { type: "nfm_reply", nfm_reply: { response_json: `{"seats":3,"more":${deep}}` } }
    const form = only(message({ type: "interactive", interactive: filled })).message
    const many = Array.from({ length: 50_000 }, (_none, n) => ({ product_retailer_id: `pass-${n}` }))
    const order = only(message({ type: "order", order: { product_items: many } })).message
    for (const read of [form, order]) expect(JSON.stringify(read).length + wordsOf(read).length).toBeLessThan(100_000)
    expect(form.form!.fields.response_json).toMatch(/^\{"seats":3,/)
    const raw = JSON.stringify(message({ type: "order", order: { product_items: ["items"] } }))
    expect(parse(raw.replace('"items"', deep)).unreadable).toContain("nested more than 100 levels")
  })

  test("a number is brought to the form this kind keeps, a group's id is left alone", () => {
    for (const given of ["447700900123", "+447700900123", "+44 7700 900123", "+44 (7700) 900-123"])
      expect(whatsapp.addressOf!(given, channel)).toBe("447700900123")
    expect(whatsapp.addressOf!("Y2FwaV9ncm91cA", channel)).toBe("Y2FwaV9ncm91cA")
  })

  test("an answer to a group goes to the group; where templates are told of, nothing is said", () => {
    const say = (kind: "group" | "direct" | "broadcast") =>
      whatsapp.render({ part: "text", text: "hi" }, { address: "g", kind }, channel)
    expect(say("group").calls[0]!.body).toMatchObject({ json: { recipient_type: "group" } })
    expect(say("direct").calls[0]!.body).toMatchObject({ json: { recipient_type: "individual" } })
    expect(say("broadcast")).toMatchObject({ calls: [], impossible: expect.stringContaining("templates") as unknown })
  })

  test("several entries, changes, messages and statuses in one call are all read", () => {
    const text = (id: string) => ({
      from: "447700900123",
      id,
      timestamp: "1795000000",
      type: "text",
      text: { body: id },
    })
    const body = {
      object: "whatsapp_business_account",
      entry: [
        {
          id: "1",
          changes: [
            { field: "messages", value: value({ messages: [text("a"), text("b")] }) },
            { field: "odd", value: { x: 1 } },
          ],
        },
        {
          id: "1",
          changes: [
            {
              field: "messages",
              value: value({ messages: [text("c")], statuses: [{ id: "s", status: "read", timestamp: "1795000001" }] }),
            },
          ],
        },
      ],
    }
    const parsed = parse(body)
    expect(parsed.messages.map((message) => message.eventKey)).toEqual(["a", "b", "c"])
    expect(parsed.statuses).toMatchObject([{ status: "read", about: { id: "s" } }])
    expect(parsed.notes.join()).toContain("odd: an event Wobbet does not know")
  })

  test("another number's messages are left to its own channel", () => {
    const body = change({
      metadata: { phone_number_id: "9" },
      messages: [{ from: "1", id: "x", type: "text", text: { body: "x" } }],
    })
    expect(parse(body)).toMatchObject({ messages: [], notes: [expect.stringContaining("not this channel's")] })
  })

  test.each([
    ["sent", "sent"],
    ["delivered", "delivered"],
    ["read", "read"],
    ["played", "read"],
    ["failed", "failed"],
  ])("the status %s moves a message to %s", (word, reached) => {
    const errors = [{ code: 131047, title: "Re-engagement message", error_data: { details: "More than 24 hours" } }]
    const { statuses } = parse(
      change({
        statuses: [
          {
            id: "wamid.S",
            status: word,
            timestamp: "1795000001",
            biz_opaque_callback_data: "msg_1.0",
            ...(word === "failed" ? { errors } : {}),
          },
        ],
      }),
    )
    expect(statuses).toMatchObject([{ status: reached, about: { id: "wamid.S", mark: "msg_1.0" } }])
    if (word === "failed") expect(statuses[0]!.why).toBe("Re-engagement message: More than 24 hours (code 131047)")
  })

  test("staff's own words are kept and never answered; history is not even that", () => {
    const echo = only(
      change(
        {
          message_echoes: [
            { from: "15550783881", to: "447700900123", id: "wamid.E", type: "text", text: { body: "hi" } },
          ],
        },
        "smb_message_echoes",
      ),
    )
    expect(echo).toMatchObject({ by: "the business app", message: { place: { address: "447700900123" }, text: "hi" } })
    expect(parse(change({ history: [{ threads: [] }] }, "history")).messages).toEqual([])
  })

  test("a template's approval is told with its name, each time it changes", () => {
    const body = (time: number) => ({
      object: "whatsapp_business_account",
      entry: [
        {
          id: "102",
          time,
          changes: [
            {
              field: "message_template_status_update",
              value: {
                event: "APPROVED",
                message_template_id: 12345678901234567890n.toString(),
                message_template_name: "hold",
                message_template_language: "en",
                reason: "NONE",
              },
            },
          ],
        },
      ],
    })
    const told = only(body(1))
    expect(told.message).toMatchObject({
      event: "template-status",
      text: "hold (en) APPROVED",
      place: { address: "102" },
    })
    // A route may name it.
    expect(told.own).toBeUndefined()
    expect(only(body(2)).eventKey).not.toBe(told.eventKey)
  })

  test("a person with a new number is followed", () => {
    const system = { type: "system", system: { body: "changed", wa_id: "447700900999", type: "user_changed_number" } }
    expect(parse(message(system)).moves).toEqual([{ from: "447700900123", to: "447700900999" }])
  })
})

describe("judging an answer", () => {
  const judge = (answer: ProviderAnswer) => whatsapp.judge({} as never, answer, channel)
  const error = (code: number, more: object = {}, status = 400): ProviderAnswer => ({
    status,
    headers: {},
    body: JSON.stringify({ error: { message: `(#${code}) no`, type: "OAuthException", code, ...more } }),
  })
  test.each<[string, ProviderAnswer, object]>([
    [
      "taken",
      { status: 200, headers: {}, body: '{"messages":[{"id":"wamid.Z"}]}' },
      { outcome: "accepted", providerId: "wamid.Z" },
    ],
    ["no answer", { failure: "time", sent: true }, { outcome: "unclear" }],
    ["not reached", { failure: "refused", sent: false }, { outcome: "again" }],
    ["garbage", { status: 200, headers: {}, body: "<html>" }, { outcome: "unclear" }],
    ["a lost gateway", { status: 504, headers: {}, body: "" }, { outcome: "unclear" }],
    ["a token that expired", error(190, {}, 401), { outcome: "lockedOut" }],
    ["an account blocked", error(368), { outcome: "lockedOut" }],
    ["a number not registered", error(133010), { outcome: "lockedOut" }],
    [
      "outside the window",
      error(131047),
      { outcome: "refused", remedy: expect.stringContaining("template") as unknown },
    ],
    [
      "not on a test account's list",
      error(131030),
      { outcome: "refused", remedy: expect.stringContaining("test account") as unknown },
    ],
    ["no permission", error(200), { outcome: "refused", remedy: expect.stringContaining("permission") as unknown }],
    ["too many to one person", error(131056), { outcome: "again", after: 6 }],
    [
      "too many",
      { ...(error(130429, {}, 429) as { status: number; body: string }), headers: { "retry-after": "9" } },
      { outcome: "again", after: 9 },
    ],
    ["a passing fault", error(131000, {}, 500), { outcome: "again" }],
    ["maintenance", error(131057, {}, 503), { outcome: "again" }],
    [
      "details are told",
      error(132000, { error_data: { details: "body: 1 against 2" } }),
      { outcome: "refused", why: "(#132000) no: body: 1 against 2" },
    ],
  ])("%s", (_name, answer, outcome) => {
    expect(judge(answer)).toMatchObject(outcome)
  })
})
