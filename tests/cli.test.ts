import { readFileSync } from "node:fs"
import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import { join } from "node:path"
import type { Service, Standin } from "./support/harness.ts"
import {
  endAll,
  eventually,
  freePort,
  pause,
  placeFor,
  run,
  Stage,
  start,
  startService,
  startStandin,
  tempFolder,
  writeFiles,
} from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let service: Service
let standin: Standin
let stage: Stage

beforeAll(async () => {
  standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin)
  await stage.say("say tern point")
  await stage.answered(1)
  await stage.say("nonsense")
  await eventually(async () => (await stage.messages({ status: "unrouted" }))[0], "the unrouted message")
})
afterAll(endAll)

const wobbet = (...args: string[]) => run(args, service.env)

test.each([["tail"], ["message", "find", "x"], ["channel", "list"], ["parked", "list"], ["bot", "check"]])(
  "against no service, %s says so in a sentence, and how to start one",
  async (...args) => {
    const { code, err } = await run(args, { ...service.env, WOBBET_URL: `http://127.0.0.1:${await freePort()}` })
    expect(code).toBe(1)
    expect(err).toMatch(/No Wobbet service answers at http:.*\n.*"npm start"/)
  },
)

test("wrong use is exit code 2 and says how it is used", async () => {
  for (const args of [["nonsense"], ["passage"], ["send", "x"]]) {
    const { code, err } = await wobbet(...args)
    expect([code, err]).toEqual([2, expect.stringContaining("--help")])
  }
  expect((await wobbet("channel", "add", "telegram", "NO", "--secret", "token=1:abcdefgh")).code).toBe(2)
})

test("a channel from nothing to agreed, by the commands the page tells", async () => {
  const bot = await standin.post<{ token: string; username: string }>("bots", {
    username: "second_bot",
    name: "Second",
  })
  const added = await run(
    [
      "channel",
      "add",
      "telegram",
      "second",
      "--set",
      `apiBase=${standin.address}`,
      "--secret",
      "token=env:SECOND_TOKEN",
    ],
    { ...service.env, SECOND_TOKEN: bot.token },
  )
  expect(added.out).toContain(`Its inlet is ${service.address}/in/second`)
  expect((await wobbet("channel", "show", "second")).out).toContain("Telegram has no address on record")
  const checked = await wobbet("channel", "check", "second")
  expect(checked).toMatchObject({
    code: 1,
    out: expect.stringMatching(
      /● keys +The keys work; they are those of Second, @second_bot[^]*✕ address on record/,
    ) as unknown,
  })
  expect((await wobbet("channel", "connect", "second")).out).toContain("The two addresses agree.")
  const shown = await wobbet("channel", "show", "second")
  expect(shown).toMatchObject({
    code: 0,
    out: expect.stringContaining("secrets     token, hookSecret (sealed)") as unknown,
  })
  expect(shown.out.match(new RegExp(`${service.address}/in/second`, "g"))).toHaveLength(2)
  expect((await wobbet("channel", "change", "second", "--set", "receive=polling")).out).toContain(
    "Next: wobbet channel connect second",
  )
  expect((await wobbet("channel", "connect", "second")).out).toContain("They agree: the channel polls")
  expect((await wobbet("channel", "list")).out).toMatch(/second +telegram +on +Second @second_bot +by polling/)
  expect((await wobbet("channel", "pause", "second")).out).toContain("is paused")
  expect((await wobbet("channel", "resume", "second")).out).toContain("is resumed")
  const missing = await wobbet("channel", "show", "third")
  expect(missing).toMatchObject({ code: 1, err: expect.stringContaining('There is no channel "third"') as unknown })
  expect(added.out + shown.out).not.toContain(bot.token)
})

test("messages are found by words, and a passage tells in words what happened", async () => {
  const found = await wobbet("message", "find", "tern", "--channel", stage.key)
  expect(found.out).toMatch(/→ +●─●─●─●─●─●─○ +answered +Ines +say tern point/)
  expect(found.out).toMatch(/← +●─●─●─●─●─●─○ +sent +Ines +you said tern point/)
  const [message] = await stage.messages({ direction: "in", text: "tern" })
  const passage = await wobbet("passage", message!.id, "--raw", "--routes")
  for (const words of [
    "secret header",
    'route "echo"',
    "1 reply",
    "Telegram does not tell",
    "sendMessage → accepted (200",
    '"update_id"',
    "no command was given (wants /start or /hello)",
  ]) {
    expect(passage.out).toContain(words)
  }
  const [lost] = await stage.messages({ status: "unrouted" })
  expect((await wobbet("passage", lost!.id)).out).toMatch(
    /●─●─●─✕ ○─○─○ {2}unrouted[\s\S]*✕ routed +\d\d:\d\d:\d\d {2}no route is met/,
  )
  expect((await wobbet("message", "show", lost!.id)).out).toMatch(/unrouted\nbecause +no route is met/)
  expect(JSON.parse((await wobbet("passage", lost!.id, "--json")).out)).toMatchObject({ channel: stage.key })
})

test("a conversation is listed with the id to send to, shown, answered by hand and reset", async () => {
  const listed = await wobbet("conversation", "list", "Ines", "--channel", stage.key)
  expect(listed.out).toContain(String(stage.person.id))
  const before = (await stage.answers()).length
  const sent = await wobbet("send", String(stage.person.id), "*by hand*", "--channel", stage.key)
  expect(sent.out).toMatch(/In line: msg_\w+ in cnv_\w+/)
  expect((await stage.answered(before + 1)).at(-1)!.text).toBe("by hand")
  const shown = await wobbet("conversation", "show", String(stage.person.id))
  expect(shown.out).toMatch(/received +●.*say tern point[\s\S]*sent .*by hand[\s\S]*state \{\}/)
  const { conversation } = (await stage.messages())[0]!
  expect((await wobbet("conversation", "reset", conversation)).out).toContain("is forgotten")
})

test("what is parked is listed with its reason, retried and dropped", async () => {
  await stage.say("throw")
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the failed turn",
    30,
  )
  expect((await wobbet("parked", "list")).out).toMatch(/turn +handler failed +Ines +throw/)
  expect((await wobbet("parked", "edit", parked.id, "--text", "x")).err).toContain(
    "What a person said cannot be edited",
  )
  expect((await wobbet("parked", "drop", parked.id)).out).toContain("stays on record")
  expect(await wobbet("parked", "drop", parked.id)).toMatchObject({
    code: 1,
    err: expect.stringContaining("Somebody has decided") as unknown,
  })
  expect((await wobbet("parked", "list", "--all")).out).toContain("drop by local")
}, 60_000)

test("explains for each route why it did or did not match", async () => {
  const { out } = await wobbet("bot", "explain", "say hello world", "--channel", stage.key)
  expect(out).toMatch(/○ count +the phrase "count" begins with "count", the text with "say"/)
  expect(out).toMatch(/^→ route echo, handler echo\n {2}the phrase "say \$text\{words\}"\n {2}words hello world\n\n/)
  expect(out).toMatch(/● echo +the phrase "say \$text\{words\}"/)
  expect((await wobbet("bot", "explain", "/hello x")).out).toContain("→ route greet, handler text")
  expect((await wobbet("bot", "explain", "hm")).out).toContain("→ unrouted")
  const sail = await wobbet(
    "bot",
    "explain",
    "sail to holm iland tomorrow at half past two",
    "--at",
    "2026-05-03T23:30",
  )
  expect(sail.out).toContain("\n  day 2026-05-04T02:30\n  place Holm Island\n  says Sailing 2026-05-04T02:30\n")
  expect(sail.out).toContain('"iland" is read as "island"')
  // A time without a zone is the bot's own; one with a zone is not.
  const zoned = await wobbet("bot", "explain", "sail to holm tomorrow", "--at", "2026-05-03T23:30+00:00")
  expect(zoned.out).toContain("\n  day 2026-05-05\n")
  expect(await wobbet("bot", "explain", "hm", "--at", "someday")).toMatchObject({
    code: 2,
    err: expect.stringContaining("at") as unknown,
  })
})

test("takes a rule from a file of its own, and names the line of one that is wrong", async () => {
  const places = Array.from({ length: 5000 }, (_none, at) => `Mooring ${at},mooring ${at},m${at}`).join("\n")
  const bot = {
    "bot.yaml":
      'bot: x\nroutes:\n  - name: a\n    when: { phrase: "sail to $place" }\n    handler: { text: "To {{slots.place}}" }\n',
    "rules/place.csv": places,
  }
  expect((await wobbet("bot", "check", tempFolder(bot))).out).toContain("x is valid: 1 route")
  const check = async (files: { [path: string]: string }) =>
    (await wobbet("bot", "check", tempFolder({ ...bot, ...files }))).out
  const broken = await check({ "rules/place.csv": `${places}\nHolm,[holm` })
  expect(broken).toMatch(/✕ .*rules\/place\.csv:5001\n +the phrase "\[holm" cannot be read: "\]" is missing/)
  expect(broken).not.toContain("there is no rule")
  expect(await check({ "rules/place.yaml": "Holm: holm" })).toContain("the rule place has two files")
  expect(await check({ "rules/town.csv/inside.txt": "Holm" })).toMatch(/town\.csv:1\n +it is no file, but a folder/)
  expect(await check({ "rules/My place.csv": "Holm" })).toContain('"My place.csv" names no rule')
  expect(await check({ "bot.yaml": `rules: { place: holm }\n${bot["bot.yaml"]}` })).toContain(
    "has a file of its own too",
  )
})

test("rewrites a bot.yaml of the earlier form in place, and says what it changed", async () => {
  const before = 'bot: x # ours\nroutes:\n  - name: a\n    meets: { phrase: "to {place}" }\n    handler: { text: hi }\n'
  const folder = tempFolder({ "bot.yaml": before })
  expect(await wobbet("bot", "check", folder)).toMatchObject({
    code: 1,
    out: expect.stringContaining('Write "when". "wobbet bot check <folder> --rewrite" changes the file.') as unknown,
  })
  const { code, out } = await wobbet("bot", "check", folder, "--rewrite")
  expect([code, out]).toEqual([
    0,
    expect.stringMatching(/Changed 1 line of bot.yaml:\n +when: \{ phrase: "to \$text\{place\}" \}\n\n● x is valid/),
  ])
  expect(readFileSync(join(folder, "bot.yaml"), "utf8")).toBe(
    before.replace("meets", "when").replace("{place}", "$text{place}"),
  )
  expect((await wobbet("bot", "check", folder, "--rewrite")).out).toContain(
    "Nothing in bot.yaml is of an earlier form.",
  )
  expect((await wobbet("bot", "check", "--rewrite")).err).toContain("--rewrite needs the folder")
  expect((await wobbet("bot", "check", tempFolder(), "--rewrite")).err).toContain("There is no bot.yaml in")
})

test("checks a folder and names file, line and remedy", async () => {
  expect((await wobbet("bot", "check")).out).toMatch(/quay is valid: \d+ routes/)
  const broken = tempFolder({
    "bot.yaml": "bot: x\nroutes:\n  - name: a\n    when: { comand: hi }\n    handler: hi\n",
    "handlers/hi.ts": "export default 1 +",
  })
  const { code, out } = await wobbet("bot", "check", broken)
  expect(code).toBe(1)
  expect(out).toMatch(/bot\.yaml:4:\d+\n {2}"comand" is not known here\.\n {2}Write command\./)
  expect(out).toMatch(/handlers\/hi\.ts:1:\d+\n {2}Unexpected end of file/)
})

test("a bot folder is checked without a service, types, places of texts and slots among it", async () => {
  const away = { ...service.env, WOBBET_URL: "http://127.0.0.1:9", WOBBET_HOME: tempFolder() }
  const routes = [
    `{ name: hi, when: { phrase: "hi $text{who}" }, handler: { text: "Hello {{slots.whom}} {{contact.nmae}}" } }`,
    `{ name: typed, when: { phrase: "say $text{what}" }, handler: typed }`,
  ]
  const handler = `import { handler, text } from "wobbet"
import { upper } from "./words/upper"
export default handler(({ message, slots }) => {
  const said: number = message.text
  return { replies: [text(upper(said))], state: 7 }
})
`
  const folder = tempFolder({
    "bot.yaml": `bot: typed-bot\nroutes:\n${routes.map((route) => `  - ${route}\n`).join("")}`,
    "handlers/typed.ts": handler,
    "handlers/words/upper.ts": "export const upper = (text: string) => text.upperCase()\n",
  })
  const faulty = await run(["bot", "check", folder], away)
  expect(faulty.code).toBe(1)
  for (const told of [
    /bot\.yaml:3:\d+\n {2}\{\{slots\.whom\}\} names nothing of slots\.\n {2}Write \{\{slots\.who\}\}\./,
    /bot\.yaml:3:\d+\n {2}\{\{contact\.nmae\}\} names nothing of contact/,
    /typed\.ts:4:9\n {2}Type 'string \| undefined' is not assignable to type 'number' \(TS2322\)/,
    /typed\.ts:5:\d+\n {2}Argument of type 'number' is not assignable to parameter of type 'string' \(TS2345\)/,
    /Type 'number' is not assignable to type 'State'/,
    /upper\.ts:1:\d+\n {2}Property 'upperCase' does not exist on type 'string'/,
  ])
    expect(faulty.out).toMatch(told)
  writeFiles(folder, {
    "bot.yaml": `bot: typed-bot\nroutes:\n  - ${routes.at(-1)}\n`,
    "handlers/typed.ts": handler
      .replace("number = message.text", 'string = message.text ?? ""')
      .replace("state: 7", "state: { n: 7 }"),
    "handlers/words/upper.ts": "export const upper = (text: string) => text.toUpperCase()\n",
  })
  expect(await run(["bot", "check", folder], away)).toMatchObject({
    code: 0,
    out: expect.stringMatching(/typed-bot is valid: 1 route, release [0-9a-f]{16}\./) as unknown,
  })
}, 60_000)

test("an address is looked for on all channels, also where one has not learned its profile yet", async () => {
  await service.client.addChannel({ kind: "custom", key: "unlearned", secrets: { signingSecret: "made-up" } })
  expect(await wobbet("conversation", "show", String(stage.person.id))).toMatchObject({
    code: 0,
    out: expect.stringContaining("received") as unknown,
  })
})

/** Every control, the marks that turn directions, and what has no width. */
const unseen = [
  ...Array.from({ length: 32 }, (_none, code) => String.fromCharCode(code)),
  ...Array.from({ length: 33 }, (_none, at) => String.fromCharCode(0x7f + at)),
  ..."\u061c\u200b\u200e\u200f\u2028\u2029\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\ufeff",
].join("")
const titleOfTerminal = "\u001b]0;owned\u0007\u001b[2J\u009b31m"

test("what strangers wrote reaches no terminal raw: every control is shown as an escape, and programs get it as it was", async () => {
  const hostile = `say ${titleOfTerminal} ${unseen.replace(/[\t\n\r]/g, "")} end`
  const tail = await start(["tail", "--channel", stage.key], service.env, /Waiting for messages/)
  await pause(500)
  const person = await standin.post<{ id: number }>("people", { first_name: `Mal${titleOfTerminal}\u202eory` })
  await standin.post("start", { bot: stage.bot.username, from: person.id })
  await standin.post("say", { bot: stage.bot.username, from: person.id, text: hostile })
  await standin.post("say", { bot: stage.bot.username, from: person.id, text: `throw ${titleOfTerminal}` })
  const received = await eventually(
    async () => (await stage.messages({ direction: "in", text: "end" })).find(({ text }) => text.includes("owned")),
    "the hostile message",
  )
  await eventually(async () => tail.said().includes("owned"), "it in the tail")
  tail.child.kill("SIGINT")
  const conversation = received.conversation
  const outputs = await Promise.all([
    wobbet("message", "find", "end"),
    wobbet("message", "find", "end", "--wide"),
    wobbet("message", "show", received.id),
    wobbet("conversation", "list"),
    wobbet("conversation", "list", "--people"),
    wobbet("conversation", "show", conversation),
    wobbet("passage", received.id, "--raw"),
    wobbet("message", "find", "end", "--json"),
    wobbet("message", "show", `no${titleOfTerminal}`),
    wobbet("bot", "explain", titleOfTerminal),
  ])
  for (const text of [...outputs.map(({ out, err }) => out + err), tail.said(), service.said()])
    expect(text.replace(/[\n\t]/g, "")).not.toMatch(/[\p{Cc}\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff]/u)
  expect(outputs[0]!.out).toContain("\\x1b]0;owned\\x07")
  expect(outputs[3]!.out).toContain("Mal\\x1b]0;owned")
  const { items } = JSON.parse(outputs[7]!.out) as { items: { text: string }[] }
  expect(items.some(({ text }) => text.includes(titleOfTerminal))).toBe(true)
}, 60_000)

test("lists fit a terminal of 80 columns, cut with an ellipsis, and --wide shows all of it", async () => {
  const words = "a rather long sentence about the crossing to Holm Island, with more than fits into any list"
  await stage.say(`say ${words}`)
  await eventually(async () => (await stage.messages({ text: "rather long" })).length > 1, "the long message")
  const narrow = { ...service.env, COLUMNS: "80" }
  for (const args of [
    ["message", "find"],
    ["message", "find", "--doubtful"],
    ["conversation", "list"],
    ["conversation", "show", String(stage.person.id)],
    ["channel", "list"],
    ["parked", "list"],
    ["token", "list"],
    ["token", "sessions"],
    ["audit"],
    ["profile", "list"],
  ]) {
    const { out } = await run(args, narrow)
    const long = out.split("\n").filter((line) => [...line].length > 80)
    expect([args.join(" "), long]).toEqual([args.join(" "), []])
  }
  expect((await run(["message", "find", "rather"], narrow)).out).toMatch(/you said a [a-z ]*…/)
  expect((await run(["message", "find", "rather", "--wide"], narrow)).out).toContain(words)
})

test("errors are problem details for programs, and somebody else's server is told in a sentence", async () => {
  const refused = await wobbet("message", "show", "msg_nothing", "--json")
  expect([refused.code, refused.out]).toEqual([1, ""])
  expect(JSON.parse(refused.err)).toMatchObject({
    type: "https://wobbet.invalid/problems/not-found",
    status: 404,
    detail: 'There is no message "msg_nothing".',
    remedy: expect.any(String) as unknown,
  })
  const wrong = await wobbet("passage", "--json")
  expect([wrong.code, JSON.parse(wrong.err)]).toMatchObject([2, { title: "Wrong use" }])
  const away = { ...service.env, WOBBET_URL: `http://127.0.0.1:${await freePort()}` }
  expect(JSON.parse((await run(["channel", "list", "--json"], away)).err)).toMatchObject({
    title: "No service answers",
  })
  const other = createServer((_call, answer) => void answer.setHeader("content-type", "text/html").end("<p>Hello</p>"))
  await new Promise<void>((done) => other.listen(0, "127.0.0.1", done))
  const port = (other.address() as AddressInfo).port
  for (const args of [["channel", "list"], ["tail"]]) {
    const { code, err } = await run(args, { ...service.env, WOBBET_URL: `http://127.0.0.1:${port}` })
    expect([code, err]).toEqual([
      1,
      expect.stringMatching(/^✕ What answers at \S+ is not Wobbet: it answers 200 with text\/html\.\n/),
    ])
  }
  other.close()
})

test("tail goes on over a restart of the service, and tells what was said meanwhile", async () => {
  const place = await placeFor(quayBot)
  let own = await startService(place)
  const near = await Stage.set(own, standin)
  const tail = await start(["tail"], own.env, /Waiting for messages/)
  await near.say("say before")
  await eventually(async () => tail.said().includes("you said before"), "the first in the tail")
  await own.stop()
  await eventually(async () => tail.said().includes("The connection broke"), "the break to be told")
  own = await startService(place)
  await near.say("say after")
  await eventually(async () => tail.said().includes("The connection is back"), "the connection", 40)
  await eventually(async () => /you said after.*sent/.test(tail.said()), "what was said after", 40)
  tail.child.kill("SIGINT")
  await eventually(async () => tail.child.exitCode !== null, "the tail to end")
  expect(tail.child.exitCode).toBe(0)
  await own.stop()
}, 90_000)

test("tail shows messages as they come and how far they got", async () => {
  const tail = await start(["tail", "--channel", stage.key], service.env, /Waiting for messages/)
  await pause(500)
  await stage.say("say live now")
  await eventually(async () => /you said live now.*sent/.test(tail.said()), "the reply in the tail")
  expect(tail.said()).toMatch(/→ .*say live now.*answered/)
  tail.child.kill("SIGINT")
  await eventually(async () => tail.child.exitCode !== null || tail.child.signalCode !== null, "the tail to end")
})
