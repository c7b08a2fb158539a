import fc from "fast-check"
import type { Channel } from "../kind.ts"
import type { InboundCall, OutgoingCall, ProviderAnswer } from "../call.ts"
import type { ReplyPart } from "../../message/reply.ts"
import { telegram } from "./index.ts"
import { limits } from "./limits.ts"

const channel: Channel = {
  key: "quay",
  kind: "telegram",
  settings: { apiBase: "https://api.example", receive: "webhook" },
  secrets: { token: "1:abcdef", hookSecret: "agreed-word" },
  identity: { id: "77", handle: "ferry_bot" },
}
const call = (body: unknown, headers = {}): InboundCall => ({
  method: "POST",
  address: "/in/quay",
  headers,
  body: Buffer.from(typeof body === "string" ? body : JSON.stringify(body)),
})
const parse = (body: unknown) => telegram.parse(call(body), channel)
const person = {
  id: 7100000001,
  is_bot: false,
  first_name: "Inês",
  last_name: "C",
  username: "ines",
  language_code: "pt",
}
const chat = { id: 7100000001, type: "private", first_name: "Inês" }
const group = { id: -1001234567890, type: "supergroup", title: "Quay desk" }
const base = { message_id: 5, date: 1_795_000_000, chat, from: person }
const message = (more: object) => ({ update_id: 900, message: { ...base, ...more } })
const only = (body: unknown) => {
  const parsed = parse(body)
  expect(parsed.messages).toHaveLength(1)
  return parsed.messages[0]!
}

describe("verifying", () => {
  const header = "x-telegram-bot-api-secret-token"
  test.each([
    ["the agreed word", { [header]: "agreed-word" }, true, ""],
    ["no header", {}, false, "no secret header"],
    ["another word", { [header]: "guessed" }, false, "another word"],
  ])("%s", (_name, headers, genuine, why) => {
    const verdict = telegram.verify(call({}, headers), channel, new Date())
    expect(verdict.genuine).toBe(genuine)
    if (!verdict.genuine) {
      expect(verdict.why).toContain(why)
      expect(JSON.stringify(verdict)).not.toContain("agreed-word")
    }
  })
})

describe("parsing", () => {
  test("a text, with who, where and when; every id is text", () => {
    expect(only(message({ text: "boat?" }))).toEqual({
      eventKey: "900",
      message: {
        event: "text",
        providerId: "5",
        text: "boat?",
        place: { address: "7100000001", kind: "direct", title: "Inês" },
        from: { address: "7100000001", name: "Inês C", handle: "ines", language: "pt", bot: false },
        sentAt: "2026-11-18T11:06:40.000Z",
      },
    })
  })

  test.each([
    ["/book", { name: "book" }],
    ["/Book 2 seats", { name: "book", args: "2 seats" }],
    ["/start spring-leaflet", { name: "start", args: "spring-leaflet" }],
    ["/book@Ferry_Bot now", { name: "book", args: "now" }],
    ["/book@other_bot", undefined],
    ["not /book", undefined],
    ["/", undefined],
  ])("%j as a command", (text, command) => {
    const at = text.indexOf("/book")
    const entities = at >= 0 ? [{ type: "bot_command", offset: at, length: 5 }] : []
    const { message: read } = only(message({ text, entities }))
    expect(read.command).toEqual(command)
    expect(read.event).toBe(command ? "command" : "text")
  })

  test("entities count in UTF-16 units, beyond an emoji too", () => {
    const { message: read } = only(message({ text: "⛴️👍 boat", entities: [{ type: "bold", offset: 5, length: 4 }] }))
    const [mark] = read.marks!
    expect(read.text!.slice(mark!.offset, mark!.offset + mark!.length)).toBe("boat")
  })

  test.each<[string, object, object]>([
    [
      "a photo, its largest size",
      {
        photo: [
          { file_id: "s", width: 90, height: 60 },
          { file_id: "l", width: 800, height: 600 },
          { file_id: "m", width: 320, height: 240 },
        ],
        caption: "umbrella",
        media_group_id: "g1",
      },
      {
        event: "media",
        text: "umbrella",
        album: "g1",
        media: [{ kind: "image", ref: "l", mime: "image/jpeg", caption: "umbrella" }],
      },
    ],
    [
      "an animation, once although it fills document too",
      { animation: { file_id: "a", mime_type: "video/mp4" }, document: { file_id: "a" } },
      { event: "media", media: [{ kind: "video", ref: "a", mime: "video/mp4" }] },
    ],
    [
      "a document",
      { document: { file_id: "d", file_name: "plan.pdf", file_size: 9 } },
      { media: [{ kind: "file", ref: "d", name: "plan.pdf", size: 9 }] },
    ],
    ["a voice note", { voice: { file_id: "v" } }, { media: [{ kind: "voice", ref: "v" }] }],
    ["a sticker", { sticker: { file_id: "k" } }, { media: [{ kind: "sticker", ref: "k" }] }],
    [
      "a venue, which also fills location",
      { location: { latitude: 1, longitude: 2 }, venue: { title: "Quay", address: "Pier 1", location: {} } },
      { event: "location", location: { latitude: 1, longitude: 2, name: "Quay", address: "Pier 1" } },
    ],
    [
      "a contact",
      { contact: { phone_number: "+447700900123", first_name: "Tom", user_id: 7 } },
      { event: "contact", contact: { name: "Tom", phone: "+447700900123", address: "7" } },
    ],
    [
      "people who joined",
      { chat: group, new_chat_members: [{ id: 8, first_name: "Ada" }] },
      { event: "joined", people: [{ address: "8", name: "Ada", bot: false }] },
    ],
    ["somebody who left", { chat: group, left_chat_member: { id: 8, first_name: "Ada" } }, { event: "left" }],
    [
      "a topic, whose creation is no reply",
      {
        chat: group,
        text: "x",
        is_topic_message: true,
        message_thread_id: 3,
        reply_to_message: { message_id: 3, forum_topic_created: {} },
      },
      { place: { address: "-1001234567890", kind: "group", title: "Quay desk", topic: "3" }, replyTo: undefined },
    ],
    [
      "a thread that is no topic",
      { chat: group, text: "x", message_thread_id: 3, reply_to_message: { message_id: 3, text: "before" } },
      { place: { address: "-1001234567890", kind: "group", title: "Quay desk" }, replyTo: "3", quote: "before" },
    ],
    [
      "an anonymous administrator",
      { chat: group, text: "x", from: { id: 1087968824, is_bot: true }, sender_chat: group },
      { from: { address: "-1001234567890", name: "Quay desk", bot: false, admin: true } },
    ],
    [
      "a forward",
      { text: "x", forward_origin: { type: "user", sender_user: { id: 3, first_name: "Ruth" } } },
      { forwarded: { from: "Ruth" } },
    ],
    ["content we have no word for", { dice: { value: 6 } }, { event: "unknown", providerEvent: "dice" }],
    [
      "a mention",
      { chat: group, text: "hi @ferry_bot", entities: [{ type: "mention", offset: 3, length: 10 }] },
      { mentionsBot: true },
    ],
  ])("%s", (_name, more, expected) => {
    expect({ replyTo: undefined, ...only(message(more)).message }).toMatchObject(expected)
  })

  test.each<[string, object, object]>([
    [
      "an edit",
      { edited_message: { ...base, text: "next boat", edit_date: 1_795_000_060 } },
      { event: "edited", providerId: "5", text: "next boat", sentAt: "2026-11-18T11:07:40.000Z" },
    ],
    [
      "a post in a broadcast channel",
      {
        channel_post: { message_id: 9, date: 1, chat: { id: -100777, type: "channel", title: "Notices" }, text: "fog" },
      },
      { event: "text", place: { kind: "broadcast" }, from: { address: "-100777", name: "Notices", bot: false } },
    ],
    [
      "a reaction",
      {
        message_reaction: {
          chat,
          user: person,
          message_id: 4,
          date: 1,
          old_reaction: [],
          new_reaction: [{ type: "emoji", emoji: "👍" }],
        },
      },
      { event: "reaction", reaction: { emoji: "👍", removed: false, to: "4" } },
    ],
    [
      "a reaction taken back",
      {
        message_reaction: {
          chat,
          user: person,
          message_id: 4,
          date: 1,
          old_reaction: [{ type: "emoji", emoji: "👍" }],
          new_reaction: [],
        },
      },
      { reaction: { emoji: "👍", removed: true, to: "4" } },
    ],
    [
      "the bot blocked",
      {
        my_chat_member: {
          chat,
          from: person,
          date: 1,
          old_chat_member: { status: "member" },
          new_chat_member: { status: "kicked" },
        },
      },
      { event: "left" },
    ],
    [
      "a member restricted but there",
      {
        chat_member: {
          chat: group,
          from: person,
          date: 1,
          old_chat_member: { status: "member" },
          new_chat_member: { status: "restricted", is_member: true },
        },
      },
      { event: "unknown", providerEvent: "chat_member" },
    ],
    [
      "an inline query",
      { inline_query: { id: "q", from: person, query: "tern" } },
      { event: "unknown", providerEvent: "inline_query", text: "tern" },
    ],
    [
      "an update nobody has heard of",
      { moon_phase: { chat, from: person } },
      { event: "unknown", providerEvent: "moon_phase" },
    ],
  ])("%s", (_name, update, expected) => {
    expect(only({ update_id: 900, ...update }).message).toMatchObject(expected)
  })

  test("a press is a choice with its label, and is to be told that it was seen", () => {
    const keyboard = { inline_keyboard: [[{ text: "Yes", callback_data: "yes" }]] }
    const read = only({
      update_id: 1,
      callback_query: {
        id: "555",
        from: person,
        message: { message_id: 4, date: 0, chat, reply_markup: keyboard },
        data: "yes",
      },
    })
    expect(read.message).toMatchObject({ event: "choice", choice: { id: "yes", label: "Yes" }, replyTo: "4" })
    expect(read.courtesies!.map((courtesy) => courtesy.name)).toEqual(["answerCallbackQuery"])
  })

  test("a press in an inline message has the person as its place", () => {
    const read = only({
      update_id: 1,
      callback_query: { id: "5", from: person, inline_message_id: "x", game_short_name: "tide" },
    })
    expect(read.message).toMatchObject({
      place: { address: "7100000001", kind: "direct" },
      choice: { id: "game:tide" },
    })
  })

  test("a group that was given another id says where it went", () => {
    expect(parse(message({ chat: { id: -5, type: "group" }, migrate_to_chat_id: -1005 })).moves).toEqual([
      { from: "-5", to: "-1005" },
    ])
    expect(parse(message({ chat: { id: -1005, type: "supergroup" }, migrate_from_chat_id: -5 })).moves).toEqual([
      { from: "-5", to: "-1005" },
    ])
  })

  test("the bot's own words are marked as such", () => {
    expect(only(message({ from: { id: 77, is_bot: true }, text: "x" })).own).toBe(true)
    expect(only(message({ via_bot: { id: 77 }, text: "x" })).own).toBe(true)
    expect(only(message({ text: "x" })).own).toBeUndefined()
  })

  test("an event without a place is noted, not lost", () => {
    expect(parse({ update_id: 1, poll: { id: "p" } })).toMatchObject({
      messages: [],
      notes: ["poll: an event without a place"],
    })
  })

  test.each(["", "{", "[]", "null", "7", '{"message":{}}', '{"update_id":{}}'])(
    "%j is unreadable, and says so",
    (body) => {
      expect(parse(body).unreadable).toBeDefined()
    },
  )

  test("no change to a good update makes it throw", () => {
    const good = message({
      text: "boat",
      entities: [{ type: "bold", offset: 0, length: 4 }],
      photo: [{ file_id: "l", width: 8 }],
      reply_to_message: { message_id: 3 },
    })
    const anything = fc.anything({
      maxDepth: 2,
      withNullPrototype: false,
      key: fc.constantFrom("id", "type", "text", "chat", "from", "x"),
    })
    const paths = [
      "chat",
      "from",
      "text",
      "date",
      "entities",
      "photo",
      "message_id",
      "reply_to_message",
      "forward_origin",
      "sender_chat",
      "location",
      "contact",
      "caption",
    ]
    fc.assert(
      fc.property(fc.constantFrom(...paths), anything, (path, value) => {
        const changed = { ...good, message: { ...good.message, [path]: value } }
        const body = JSON.stringify(changed, (_key, inner: unknown) =>
          typeof inner === "bigint" ? String(inner) : inner,
        )
        expect(() => parse(body)).not.toThrow()
      }),
    )
  })
})

test("a vote in a poll is a choice of the person's, by poll and option; one taken back picks nothing", () => {
  const vote = (option_ids: number[]) =>
    only({ update_id: 901, poll_answer: { poll_id: "5010203040506070809", user: person, option_ids } }).message
  expect(vote([2, 0])).toMatchObject({
    event: "choice",
    choice: { id: "5010203040506070809:2", ids: ["5010203040506070809:2", "5010203040506070809:0"] },
    place: { address: String(person.id), kind: "direct" },
    from: { address: String(person.id) },
  })
  expect(vote([])).toMatchObject({ event: "unknown", providerEvent: "poll_answer" })
})

const place = { address: "-1001234567890", kind: "group" as const }
const render = (part: ReplyPart, where: { address: string; kind: "group" | "direct"; topic?: string } = place) =>
  telegram.render(part, where, channel)
type SentBody = { [field: string]: unknown }
const bodies = (calls: OutgoingCall[]): SentBody[] =>
  calls.map((call) => ({
    method: call.name,
    ...(call.body && "json" in call.body ? (call.body.json as SentBody) : {}),
  }))

describe("rendering", () => {
  test.each([
    ["a < b & **c > d**", "a &lt; b &amp; <b>c &gt; d</b>"],
    ["*a **b***", "<i>a <b>b</b></i>"],
    ["**a `b` c**", "<b>a </b><code>b</code><b> c</b>"],
    ['[a "q"](https://x.example/?a=1&b="2")', '<a href="https://x.example/?a=1&amp;b=&quot;2&quot;">a "q"</a>'],
    ["> **said**", "<blockquote><b>said</b></blockquote>"],
    ["```js\na<b\n```", '<pre><code class="language-js">a&lt;b</code></pre>'],
  ])("%j as HTML", (text, html) => {
    expect(bodies(render({ part: "text", text }).calls)).toMatchObject([
      { method: "sendMessage", text: html, parse_mode: "HTML" },
    ])
  })

  test("places go out as described, topics with them; the address is filled in at the socket", () => {
    expect(bodies(render({ part: "text", text: "x" }, { ...place, topic: "3" }).calls)[0]).toMatchObject({
      chat_id: { place: "address", as: "number" },
      message_thread_id: 3,
    })
  })

  test("a long text is several messages; an answer refers from the first, buttons hang on the last", () => {
    const text = "A sentence of the timetable. ".repeat(400)
    const calls = bodies(render({ part: "choices", text, choices: [{ id: "a", label: "A" }] }).calls)
    expect(calls.length).toBe(Math.ceil((text.length - 1) / limits.text))
    calls.forEach((call) => expect(String(call.text).length).toBeLessThanOrEqual(limits.text))
    expect(calls.filter((call) => "reply_markup" in call)).toEqual([calls.at(-1)])
    const answer = bodies(render({ part: "text", text, replyTo: "12" }).calls)
    expect(answer.filter((one) => "reply_parameters" in one)).toEqual([answer[0]])
  })

  test("a choice's id fits into the provider's bytes, or a token stands for it", () => {
    const long = "crossing:" + "ü".repeat(40)
    const { calls, tokens } = render({
      part: "choices",
      text: "?",
      choices: [
        { id: "ok", label: "OK" },
        { id: long, label: "Long" },
        { id: "~x", label: "Tilde" },
      ],
    })
    const rows = (
      bodies(calls)[0]!.reply_markup as { inline_keyboard: { callback_data: string }[][] }
    ).inline_keyboard.flat()
    expect(rows[0]!.callback_data).toBe("ok")
    for (const { callback_data } of rows) expect(Buffer.byteLength(callback_data)).toBeLessThanOrEqual(limits.choiceId)
    expect(tokens.map((token) => token.id)).toEqual([long, "~x"])
    expect(rows.slice(1).map((row) => row.callback_data)).toEqual(tokens.map((token) => token.token))
  })

  test.each<[string, ReplyPart, object[]]>([
    [
      "a picture",
      { part: "media", kind: "image", url: "https://x.example/a.png", caption: "**Quay**" },
      [{ method: "sendPhoto", photo: "https://x.example/a.png", caption: "<b>Quay</b>" }],
    ],
    [
      "a sticker, whose words go apart",
      { part: "media", kind: "sticker", ref: "k", caption: "hi" },
      [
        { method: "sendSticker", sticker: "k" },
        { method: "sendMessage", text: "hi" },
      ],
    ],
    [
      "an album",
      { part: "media", kind: "image", ref: "a", with: [{ kind: "video", ref: "b", caption: "c" }] },
      [
        {
          method: "sendMediaGroup",
          media: [
            { type: "photo", media: "a" },
            { type: "video", media: "b", caption: "c", parse_mode: "HTML" },
          ],
        },
      ],
    ],
    [
      "sorts that do not go together",
      { part: "media", kind: "image", ref: "a", with: [{ kind: "voice", ref: "b" }] },
      [{ method: "sendPhoto" }, { method: "sendVoice" }],
    ],
    [
      "a card",
      {
        part: "cards",
        cards: [
          { title: "A<", subtitle: "*b*", picture: "https://x.example/p.png", choices: [{ id: "y", label: "Y" }] },
        ],
      },
      [
        {
          method: "sendPhoto",
          caption: "<b>A&lt;</b>\n<i>b</i>",
          reply_markup: { inline_keyboard: [[{ text: "Y", callback_data: "y" }]] },
        },
      ],
    ],
    [
      "a location with a name",
      { part: "location", latitude: 1, longitude: 2, name: "Quay" },
      [
        { method: "sendMessage", text: "Quay" },
        { method: "sendLocation", latitude: 1 },
      ],
    ],
    [
      "a contact",
      { part: "contact", name: "Tom", phone: "+447700900123" },
      [{ method: "sendContact", first_name: "Tom" }],
    ],
    ["typing", { part: "typing" }, [{ method: "sendChatAction", action: "typing" }]],
    ["a reaction", { part: "reaction", to: "5", emoji: "👍" }, [{ method: "setMessageReaction", message_id: 5 }]],
    [
      "buttons taken away",
      { part: "amend", to: "5", choices: [] },
      [{ method: "editMessageReplyMarkup", message_id: 5, reply_markup: { inline_keyboard: [] } }],
    ],
    ["words changed", { part: "amend", to: "5", text: "*new*" }, [{ method: "editMessageText", text: "<i>new</i>" }]],
    ["a message taken back", { part: "remove", to: "5" }, [{ method: "deleteMessage", message_id: 5 }]],
    [
      "a template's words",
      { part: "template", name: "t", language: "en", text: "Hi {{1}}", parameters: ["Ada"] },
      [{ method: "sendMessage", text: "Hi Ada" }],
    ],
  ])("%s", (_name, part, calls) => {
    expect(bodies(render(part).calls)).toMatchObject(calls)
  })

  test("a caption over the limit is said apart, and said to be", () => {
    const { calls, degraded } = render({ part: "media", kind: "image", ref: "a", caption: "w ".repeat(600) })
    expect(bodies(calls).map((body) => body.method)).toEqual(["sendPhoto", "sendMessage"])
    expect(degraded).toHaveLength(1)
  })

  test("data of our own is uploaded", () => {
    const [sent] = render({ part: "media", kind: "file", data: "aGk=", name: "a.txt", mime: "text/plain" }).calls
    expect(sent!.body).toMatchObject({
      form: expect.arrayContaining([
        { name: "document", data: "aGk=", filename: "a.txt", mime: "text/plain" },
      ]) as unknown,
    })
  })

  test("nothing to say is said to be impossible", () => {
    expect(render({ part: "text", text: "  \n" }).impossible).toBeDefined()
    expect(render({ part: "template", name: "t", language: "en" }).impossible).toContain("no templates")
  })

  test("whatever is said, no message is over the limit and nothing is lost", () => {
    const plain = (html: string) =>
      html
        .replace(/<[^>]+>/g, "")
        .replaceAll("&lt;", "<")
        .replaceAll("&gt;", ">")
        .replaceAll("&amp;", "&")
    fc.assert(
      fc.property(
        fc.array(fc.constantFrom("boat ", "a<b&c ", "👨‍👩‍👧‍👦", "\n\n", "word".repeat(50), ". "), {
          minLength: 1,
          maxLength: 400,
        }),
        (parts) => {
          const calls = bodies(render({ part: "text", text: parts.join("") }).calls)
          const said = calls.map((call) => plain(String(call.text)))
          said.forEach((piece) => expect(piece.length).toBeLessThanOrEqual(limits.text))
          expect(said.join("").replace(/\s/g, "")).toBe(parts.join("").replace(/\s/g, ""))
        },
      ),
      { numRuns: 50 },
    )
  })
})

describe("judging an answer", () => {
  const judge = (answer: ProviderAnswer) =>
    telegram.judge(render({ part: "text", text: "x" }).calls[0]!, answer, channel)
  const answered = (status: number, body: unknown, headers = {}): ProviderAnswer => ({
    status,
    headers,
    body: typeof body === "string" ? body : JSON.stringify(body),
  })
  const no = (code: number, description: string, parameters?: object) =>
    answered(code, { ok: false, error_code: code, description, parameters })

  test.each<[string, ProviderAnswer, object]>([
    ["taken", answered(200, { ok: true, result: { message_id: 7 } }), { outcome: "accepted", providerId: "7" }],
    [
      "an album taken",
      answered(200, { ok: true, result: [{ message_id: 7 }] }),
      { outcome: "accepted", providerId: "7" },
    ],
    ["a plain yes", answered(200, { ok: true, result: true }), { outcome: "accepted" }],
    ["not changed, which is as wished", no(400, "Bad Request: message is not modified"), { outcome: "accepted" }],
    ["too many", no(429, "Too Many Requests", { retry_after: 7 }), { outcome: "again", after: 7 }],
    ["too many, by the header", answered(429, "", { "retry-after": "3" }), { outcome: "again", after: 3 }],
    ["a fault there", no(500, "Internal Server Error"), { outcome: "again" }],
    ["a fault there without words", answered(503, "busy"), { outcome: "again" }],
    ["a gateway that lost the answer", answered(504, "<html>"), { outcome: "unclear" }],
    ["garbage", answered(200, "<html>"), { outcome: "unclear" }],
    ["no answer", { failure: "time", sent: true }, { outcome: "unclear" }],
    ["not reached", { failure: "refused", sent: false }, { outcome: "again" }],
    ["a token revoked", no(401, "Unauthorized"), { outcome: "lockedOut" }],
    ["a token malformed", no(404, "Not Found"), { outcome: "lockedOut" }],
    ["blocked", no(403, "Forbidden: bot was blocked by the user"), { outcome: "refused" }],
    ["unknown place", no(400, "Bad Request: chat not found"), { outcome: "refused" }],
    ["too long", no(400, "Bad Request: message is too long"), { outcome: "refused" }],
    [
      "a group that moved",
      no(400, "group chat was upgraded", { migrate_to_chat_id: -1005 }),
      { outcome: "moved", to: "-1005" },
    ],
  ])("%s", (_name, answer, outcome) => {
    expect(judge(answer)).toMatchObject(outcome)
  })
})

describe("the account", () => {
  const { account } = telegram
  const ok = (result: object): ProviderAnswer => ({
    status: 200,
    headers: {},
    body: JSON.stringify({ ok: true, result }),
  })
  const ours = "https://bots.example/in/quay"

  test("says who the token is", () => {
    expect(
      account.readCheck(
        ok({ id: 77, username: "ferry_bot", first_name: "Ferry", can_read_all_group_messages: false }),
        channel,
      ),
    ).toMatchObject({
      identity: { id: "77", handle: "ferry_bot", name: "Ferry", remarks: [expect.stringContaining("privacy mode")] },
    })
    expect(
      account.readCheck(
        { status: 401, headers: {}, body: '{"ok":false,"error_code":401,"description":"Unauthorized"}' },
        channel,
      ),
    ).toMatchObject({ lockedOut: true })
  })

  test("the secret is named in the call, not written into it", () => {
    expect(JSON.stringify(account.connect!(channel, ours))).toContain('{"secret":"hookSecret"}')
    expect(JSON.stringify(account.connect!(channel, ours))).not.toContain("agreed-word")
  })

  test.each([
    ["https://bots.example/in/quay", []],
    ["http://bots.example/in/quay", ["the scheme (http: against https:)"]],
    ["https://bots.example/in/quay/", ["a slash at the end"]],
    ["https://other.example:8443/in/quay", ["the host and the port"]],
    ["https://bots.example/in/other?x=1", ["the path and the query"]],
    [undefined, ["no address on record"]],
  ])("%j on record", (address, says) => {
    const differences = account.compare!(channel, address ? { address } : {}, ours)
    expect(differences).toHaveLength(says.length)
    says.forEach((words, at) => expect(differences[at]).toContain(words))
  })

  test("a polling channel wants no address on record", () => {
    const polls = { ...channel, settings: { ...channel.settings, receive: "polling" } }
    expect(account.compare!(polls, {}, ours)).toEqual([])
    expect(account.compare!(polls, { address: ours }, ours)[0]).toContain("refuses polling")
  })
})

describe("polling", () => {
  const read = (status: number, body: object) =>
    telegram.polling!({ ...channel, settings: { ...channel.settings, receive: "polling" } })!.read({
      status,
      headers: {},
      body: JSON.stringify(body),
    })

  test("gives each update apart, and the offset that confirms them", () => {
    expect(read(200, { ok: true, result: [{ update_id: 8 }, { update_id: 9 }] })).toEqual({
      updates: ['{"update_id":8}', '{"update_id":9}'],
      next: "10",
    })
    expect(read(200, { ok: true, result: [] })).toEqual({ updates: [] })
  })

  test("explains what is in the way", () => {
    expect(
      read(409, { ok: false, description: "Conflict: can't use getUpdates method while webhook is active" }),
    ).toMatchObject({ conflict: expect.stringContaining("an address is on record") as unknown })
    expect(read(409, { ok: false, description: "Conflict: terminated by other getUpdates request" })).toMatchObject({
      conflict: expect.stringContaining("another program polls") as unknown,
    })
  })
})
