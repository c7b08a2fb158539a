import { readFileSync } from "node:fs"
import { join } from "node:path"
import fc from "fast-check"
import type { Channel, Rendered } from "../src/core/channels/kind.ts"
import type { OutgoingCall } from "../src/core/channels/call.ts"
import { withDefaults } from "../src/core/gateway/settings.ts"
import { profiles } from "../src/core/gateway/shipped.ts"
import { kinds } from "../src/core/channels/registry.ts"
import { numberedLines } from "../src/core/channels/options.ts"
import { readMarkup } from "../src/core/message/markup.ts"
import type { Card, Option, ReplyPart } from "../src/core/message/reply.ts"
import { replyFault } from "../src/core/message/reply.ts"
import { optionMeant } from "../src/core/routing/optionMeant.ts"
import * as messengerCheck from "../src/standins/messenger/check.ts"
import type { World as MessengerWorld } from "../src/standins/messenger/world.ts"
import type { Body, Shown } from "../src/standins/shared/standin.ts"
import { Refusal, Stage } from "../src/standins/shared/standin.ts"
import * as slackCheck from "../src/standins/slack/check.ts"
import { deliver } from "../src/standins/sms/server.ts"
import type { World as SmsWorld } from "../src/standins/sms/server.ts"
import { methods } from "../src/standins/telegram/methods.ts"
import { World as TelegramWorld } from "../src/standins/telegram/world.ts"
import * as whatsappCheck from "../src/standins/whatsapp/check.ts"
import type { World as WhatsAppWorld } from "../src/standins/whatsapp/world.ts"

/** One kind: how its channel is set, and what its strict stand-in shows of a call, or the refusal it throws. */
interface Scene {
  channel: Channel
  address: string
  show: (call: OutgoingCall, body: Body) => { text: string; buttons: { id: string; label: string }[] }
}

const person = "447700900123"
const stage = new Stage()
for (const id of [person, `+${person}`]) stage.people.set(id, { id, name: "Inês" })
const channelOf = (kind: string, settings: object = {}): Channel => ({
  key: "quay",
  kind,
  settings: { ...settings },
  secrets: {},
  publicBase: "https://bots.example",
})
const seen = (shown: Pick<Shown, "text"> & Partial<Shown>) => ({ text: shown.text, buttons: shown.buttons ?? [] })

function telegramScene(): Scene {
  const world = new TelegramWorld()
  const bot = world.addBot("strict_bot", "Strict")
  const chat = world.privateChat(world.addPerson({ first_name: "Ada" }))
  chat.bots.add(bot.username)
  const standing = world.say(chat, { from: { id: bot.id, is_bot: true }, text: "before" })
  return {
    channel: channelOf("telegram"),
    address: String(chat.id),
    show(call, body) {
      if (body.message_id !== undefined) body.message_id = standing.message_id
      const result = methods[call.name]!(world, bot, body)
      return { text: textIn(result), buttons: buttonsIn(result) }
    },
  }
}

/** Everything a person reads in what Telegram's stand-in gives back. */
function textIn(value: unknown): string {
  if (Array.isArray(value)) return value.map(textIn).join("\n")
  if (typeof value !== "object" || value === null) return ""
  const message = value as { [field: string]: unknown }
  const contact = message.contact as { first_name?: string; phone_number?: string } | undefined
  const links = ([message.entities, message.caption_entities].flat() as ({ url?: string } | undefined)[])
    .map((one) => one?.url)
    .filter(Boolean)
  return [message.text, message.caption, contact?.first_name, contact?.phone_number, ...links]
    .filter(Boolean)
    .join("\n")
}

function buttonsIn(value: unknown): { id: string; label: string }[] {
  const rows = (value as { reply_markup?: { inline_keyboard: { text: string; callback_data?: string }[][] } })
    .reply_markup
  return (rows?.inline_keyboard.flat() ?? []).map((one) => ({ id: one.callback_data ?? "", label: one.text }))
}

const whatsappWorld = {
  media: new Map([["kept", { mime: "image/png", content: Buffer.alloc(1) }]]),
  heard: new Map([[person, Date.now() + 1e9]]),
  templates: new Map([["hold", { name: "hold", language: "en", status: "APPROVED", parameters: 1, id: 1 }]]),
} as unknown as WhatsAppWorld
const messengerWorld = {
  attachments: new Map([["kept", {}]]),
  heard: new Map([[person, Date.now() + 1e9]]),
} as unknown as MessengerWorld
const refuse = (status: number, code: number, message: string) => new Refusal(status, `${code} ${message}`)

function smsScene(profile: string, settings: object): Scene {
  return {
    channel: channelOf(
      "sms",
      withDefaults({ profile, number: "+447700900999", apiBase: "https://gw.example", ...settings }, profiles[profile]),
    ),
    address: `+${person}`,
    show(_call, body) {
      const oma = body.outboundSMSMessageRequest as { outboundSMSTextMessage: { message: string } } | undefined
      const text = String(oma?.outboundSMSTextMessage.message ?? body.Body ?? body.text ?? "")
      const picture = body.MediaUrl as string | undefined
      const world = { number: "+447700900999" } as SmsWorld
      deliver(stage, world, { to: `+${person}`, from: world.number, text, ...(picture ? { picture } : {}) }, refuse)
      return { text, buttons: [] }
    },
  }
}

const scenes: { [name: string]: Scene } = {
  telegram: telegramScene(),
  whatsapp: {
    channel: channelOf("whatsapp", { phoneNumberId: "1" }),
    address: person,
    show(call, body) {
      if (body.status === "read") return { text: "", buttons: [] }
      whatsappCheck.checkMessage(body, stage, whatsappWorld)
      const shown = seen(whatsappCheck.shownOf(body))
      return { ...shown, text: call.name === "messages list" ? "" : shown.text }
    },
  },
  messenger: {
    channel: channelOf("messenger", { pageId: "1" }),
    address: person,
    show(_call, body) {
      messengerCheck.checkMessage(body, stage, messengerWorld)
      if (body.sender_action) return { text: "", buttons: [] }
      const shown = seen(messengerCheck.shownOf(body.message as Body))
      return {
        ...shown,
        buttons: shown.buttons.map((button) => ({ ...button, id: button.id.replace(/^(quick|post):/, "") })),
      }
    },
  },
  slack: {
    channel: channelOf("slack"),
    address: "U1",
    show(call, body) {
      if (call.name === "reactions.add" || call.name === "chat.delete") return { text: "", buttons: [] }
      if (call.name === "files.completeUploadExternal") return { text: String(body.initial_comment ?? ""), buttons: [] }
      slackCheck.checkPost(body, (error) => new Refusal(200, error))
      const shown = seen(slackCheck.shownOf(body))
      return {
        ...shown,
        buttons: shown.buttons.map((button) => ({ ...button, id: button.id.slice(button.id.indexOf(" ") + 1) })),
      }
    },
  },
  sms: smsScene("form-gateway", { accountId: "AC1" }),
  "sms by plain-json": smsScene("plain-json", { toName: "to", textName: "text", fromName: "from", numberForm: "plus" }),
  "sms by oma-messaging": smsScene("oma-messaging", { user: "AC1" }),
}

/** What the engine fills in at the socket. */
function filled(value: unknown, scene: Scene): unknown {
  if (Array.isArray(value)) return value.map((one) => filled(one, scene))
  if (typeof value !== "object" || value === null) return value
  const named = value as {
    place?: string
    as?: string
    prefix?: string
    mark?: string
    upload?: number
    secret?: string
  }
  if (named.place === "address")
    return named.as === "number" ? Number(scene.address) : `${named.prefix ?? ""}${scene.address}`
  if (named.mark === "call") return `msg_${"0".repeat(26)}.0`
  if (typeof named.upload === "number") return "kept"
  return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, filled(one, scene)]))
}

function bodyOf(call: OutgoingCall, scene: Scene): Body {
  const { body } = call
  if (!body) return {}
  if ("json" in body) return filled(body.json, scene) as Body
  const parts = "fields" in body ? body.fields : "form" in body ? body.form : []
  return Object.fromEntries(
    parts.map((part) => [part.name, "data" in part ? `upload-${part.filename}` : unJson(filled(part.value, scene))]),
  )
}

const unJson = (value: unknown) =>
  typeof value === "string" && /^[[{]/.test(value) ? (JSON.parse(value) as unknown) : value

interface Said {
  rendered: Rendered
  text: string
  texts: string[]
  buttons: { id: string; label: string }[]
}

/** Renders a part and gives every call to the stand-in. */
function say(name: string, part: ReplyPart, offered = 0): Said {
  const scene = scenes[name]!
  expect(replyFault([part])).toBeUndefined()
  const rendered = kinds[scene.channel.kind]!.render(
    part,
    { address: scene.address, kind: "direct" },
    scene.channel,
    offered,
  )
  const shown = rendered.calls.map((call) => scene.show(call, bodyOf(call, scene)))
  const texts = shown.map((one) => one.text)
  return { rendered, texts, text: texts.join("\n"), buttons: shown.flatMap((one) => one.buttons) }
}

const words = (n: number, unit = "boat ") => unit.repeat(Math.ceil(n / unit.length)).slice(0, n)
const options = (n: number, label = (at: number) => `Option ${at + 1}`): Option[] =>
  Array.from({ length: n }, (_none, at) => ({ id: `pick:${at}`, label: label(at) }))
const card = (more: Partial<Card> = {}): Card => ({ title: "Holm Island", ...more })

/** Every part, at, below and above each limit of any kind. */
const table: [string, ReplyPart][] = [
  ...[1, 1600, 1601, 2000, 2001, 4000, 4001, 4096, 4097, 9000].map((n): [string, ReplyPart] => [
    `a text of ${n}`,
    { part: "text", text: words(n - 1) + "x" },
  ]),
  ["a text of 5000 without a blank", { part: "text", text: "x".repeat(5000) }],
  ["a text of marks", { part: "text", text: words(4090, "**a** _b_ `c` <&> ") + "end" }],
  ["a text with a long link", { part: "text", text: `[see](https://ferry.example/${"a".repeat(1500)})` }],
  ...[1, 3, 4, 10, 11, 13, 14, 25, 26, 100].map((n): [string, ReplyPart] => [
    `${n} options`,
    { part: "choices", text: "Which?", choices: options(n) },
  ]),
  ...[20, 21, 24, 25, 64, 65, 72, 73, 75, 76, 150].map((n): [string, ReplyPart] => [
    `labels of ${n}`,
    {
      part: "choices",
      text: "Which?",
      choices: options(3, (at) => `${at}${words(n - 1, "label ").replace(/.$/, "x")}`),
    },
  ]),
  ...[640, 641, 1024, 1025, 2000, 2001, 3000, 3001, 4096, 4097].map((n): [string, ReplyPart] => [
    `a question of ${n}`,
    { part: "choices", text: words(n - 1) + "?", choices: options(2) },
  ]),
  ...[64, 65, 150, 151, 200, 201, 256, 257, 1000, 1001, 2000].map((n): [string, ReplyPart] => [
    `ids of ${n}`,
    {
      part: "choices",
      text: "Which?",
      choices: [
        { id: "i".repeat(n), label: "A" },
        { id: "b", label: "B" },
      ],
    },
  ]),
  [
    "a link alone",
    { part: "choices", text: "Read", choices: [{ id: "l", label: "Timetable", url: "https://ferry.example/t" }] },
  ],
  [
    "links among options",
    {
      part: "choices",
      text: "Read",
      choices: [...options(2), { id: "l", label: "Timetable", url: "https://ferry.example/t" }],
    },
  ],
  ["the same label twice", { part: "choices", text: "Which?", choices: options(2, () => "Same") }],
  ...(["image", "audio", "voice", "video", "file", "sticker"] as const).flatMap((kind): [string, ReplyPart][] => [
    [`${kind} from an address`, { part: "media", kind, url: "https://ferry.example/a.bin", caption: "The **quay**" }],
    [
      `${kind} of our own`,
      { part: "media", kind, data: "aGk=", mime: "image/png", name: "a.png", caption: "The quay" },
    ],
  ]),
  ...[1024, 1025, 3001].map((n): [string, ReplyPart] => [
    `a caption of ${n}`,
    { part: "media", kind: "image", url: "https://ferry.example/a.png", caption: words(n - 1) + "x" },
  ]),
  ["a bare picture", { part: "media", kind: "image", url: "https://ferry.example/a.png" }],
  [
    "several pictures",
    {
      part: "media",
      kind: "image",
      url: "https://ferry.example/a.png",
      with: [{ kind: "image", url: "https://ferry.example/b.png" }],
    },
  ],
  ["a card of a title", { part: "cards", cards: [card()] }],
  [
    "a card with all",
    {
      part: "cards",
      cards: [card({ subtitle: "*Hourly*", picture: "https://ferry.example/h.png", choices: options(2) })],
    },
  ],
  ...[80, 81].flatMap((n): [string, ReplyPart][] => [
    [`a title of ${n}`, { part: "cards", cards: [card({ title: words(n - 1) + "x", choices: options(1) })] }],
    [`a subtitle of ${n}`, { part: "cards", cards: [card({ subtitle: words(n - 1) + "x" })] }],
  ]),
  ["a card with 3 buttons", { part: "cards", cards: [card({ choices: options(3) })] }],
  ["a card with 4 buttons", { part: "cards", cards: [card({ choices: options(4) })] }],
  ...[10, 11].map((n): [string, ReplyPart] => [
    `${n} cards`,
    { part: "cards", cards: Array.from({ length: n }, (_none, at) => card({ title: `Card ${at}`, subtitle: "s" })) },
  ]),
  ["a location", { part: "location", latitude: 38.7, longitude: -9.1, name: "Quay" }],
  ["a contact", { part: "contact", name: "Tom Aldous", phone: "+447700900456" }],
  ["a template", { part: "template", name: "hold", language: "en", parameters: ["10:00"], text: "Held until {{1}}" }],
  ["a reaction", { part: "reaction", to: "1", emoji: "👍" }],
  ["an odd reaction", { part: "reaction", to: "1", emoji: "🫎" }],
  ["typing", { part: "typing", to: "wamid.1" }],
  ["words changed", { part: "amend", to: "1", text: "New words" }],
  ["words and buttons changed", { part: "amend", to: "1", text: "New words", choices: options(2) }],
  ["taken back", { part: "remove", to: "1" }],
]

/** What a person should read of a part: its words, and the words of what can be chosen. */
function readable(part: ReplyPart): string[] {
  const marked = (text: string) => readMarkup(text).text
  switch (part.part) {
    case "text":
      return [marked(part.text)]
    case "choices":
      return [marked(part.text), ...part.choices.flatMap((choice) => [choice.label, choice.url ?? ""])]
    case "media":
      return [part, ...(part.with ?? [])].map((one) => (one.caption ? marked(one.caption) : ""))
    case "cards":
      return part.cards.flatMap((card) => [
        card.title,
        marked(card.subtitle ?? ""),
        ...(card.choices ?? []).map((pick) => pick.label),
      ])
    case "contact":
      return [part.name, part.phone]
    case "amend":
      return [marked(part.text ?? ""), ...(part.choices ?? []).map((choice) => choice.label)]
    default:
      return []
  }
}

/** Letters alone: marks, numbers of lines and blanks at the seams may differ. */
const bare = (text: string) => text.replace(/[\s*_`~>•\d.]/g, "")

function expectWhole(name: string, part: ReplyPart, said: Said): void {
  const there = bare([said.text, ...said.buttons.map((button) => button.label)].join(" "))
  // Telegram's stand-in shows buttons with addresses by their words; the address is the button's own.
  for (const wanted of readable(part)) {
    if (name === "telegram" && /^https:/.test(wanted)) continue
    expect(there).toContain(bare(wanted))
  }
  for (const text of said.texts) expect(text.isWellFormed()).toBe(true)
}

describe.each(Object.keys(scenes))("on %s", (name) => {
  test.each(table)("%s is taken by the strict stand-in, and nothing of it is lost", (_what, part) => {
    const said = say(name, part)
    expect(said.rendered.impossible).toBe(impossible(name, part) ? expect.any(String) : undefined)
    if (!said.rendered.impossible && !said.rendered.leftOut) expectWhole(name, part, said)
  })

  test.each([2, 3, 4, 11, 26])("each of %i options comes back as itself: pressed, by number, by label", (n) => {
    const choices = options(n, (at) => `Boat ${at + 1}`)
    const { rendered, buttons } = say(name, { part: "choices", text: "Which?", choices })
    for (const button of buttons) {
      const id = rendered.tokens.find((token) => token.token === button.id)?.id ?? button.id
      expect(choices.find((choice) => choice.label === button.label)!.id).toBe(id)
    }
    choices.forEach((choice, at) => {
      expect(optionMeant(` ${at + 1}.`, choices)).toBe(choice)
      expect(optionMeant(choice.label.toUpperCase(), choices)).toBe(choice)
    })
  })

  test("numbers go on over several parts of one reply", () => {
    const { text, buttons } = say(
      name,
      { part: "choices", text: "And?", choices: options(30, (at) => `Number ${at} ${"x".repeat(80)}`) },
      2,
    )
    if (buttons.length === 0) expect(text).toContain("3. Number 0")
  })

  test("whatever is said, the strict stand-in takes it, nothing is lost and no character is broken", () => {
    fc.assert(
      fc.property(replyPart, (part) => {
        const said = say(name, part)
        if (said.rendered.impossible) return
        expectWhole(name, part, said)
        const families = (text: string) => text.split(family).length - 1
        const wanted = readable(part).reduce((sum, text) => sum + families(text), 0)
        const shown = families([said.text, ...said.buttons.map((button) => button.label)].join("\n"))
        expect(shown).toBeGreaterThanOrEqual(wanted)
      }),
      { numRuns: 120 },
    )
  })
})

/** Media without an address and without a caption: a gateway has nowhere to fetch it from. */
function impossible(name: string, part: ReplyPart): boolean {
  return name.startsWith("sms") && part.part === "media" && part.data !== undefined && part.caption === undefined
}

const family = "👨‍👩‍👧‍👦"
const token = fc.constantFrom(
  "boat",
  "quay",
  family,
  "**bold**",
  "_soft_",
  "a<b&c>",
  "naïve",
  "渡し船",
  "`code`",
  "x@y",
  "—",
  "end.",
)
const sentence = fc.array(token, { minLength: 1, maxLength: 30 }).map((all) => all.join(" "))
const longText = fc
  .tuple(sentence, fc.integer({ min: 1, max: 60 }))
  .map(([text, times]) => `${text} `.repeat(times).trim())
const label = fc
  .tuple(fc.constantFrom("Boat", "Quay", family, "A rather long label that says much"), fc.nat(999))
  .map(([text, n]) => `${text} ${n}`)
const someOptions = fc
  .uniqueArray(label, { minLength: 1, maxLength: 30 })
  .map((labels) => labels.map((label, at): Option => ({ id: `${at}:${label}`, label: label })))
const replyPart: fc.Arbitrary<ReplyPart> = fc.oneof(
  fc.record({ part: fc.constant("text" as const), text: longText }),
  fc.record({ part: fc.constant("choices" as const), text: longText, choices: someOptions }),
  fc.record({
    part: fc.constant("cards" as const),
    cards: fc.array(
      fc.record(
        {
          title: sentence.map((text) => text.replace(/[*_`<>&]/g, "")),
          subtitle: sentence,
          picture: fc.constant("https://ferry.example/p.png"),
          choices: someOptions,
        },
        { requiredKeys: ["title"] },
      ),
      { minLength: 1, maxLength: 12 },
    ),
  }),
  fc.record({
    part: fc.constant("media" as const),
    kind: fc.constantFrom("image", "video", "file", "audio", "voice", "sticker"),
    url: fc.constant("https://ferry.example/m.bin"),
    caption: longText,
  }),
  fc.record({ part: fc.constant("contact" as const), name: label, phone: fc.constant("+447700900456") }),
)

test("numbered lines count options and not links", () => {
  const lines = numberedLines(
    [...options(1), { id: "l", label: "Map", url: "https://m.example" }, ...options(1, () => "Last")],
    4,
  )
  expect(lines.text).toBe("5. Option 1\nMap: https://m.example\n6. Last")
})

test("the table in the docs says what the kinds tell of themselves", () => {
  const table = readFileSync(join(import.meta.dirname, "../docs/parts.md"), "utf8")
  for (const { abilities } of Object.values(kinds)) {
    for (const [part, { as }] of Object.entries(abilities.parts)) {
      const row = table.split("\n").find((line) => line.startsWith(`| \`${part}\` `))
      expect(row).toContain(as)
    }
  }
})
