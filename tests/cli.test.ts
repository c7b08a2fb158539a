import type { Service, Standin } from "./support/harness.ts"
import {
  endAll,
  eventually,
  freePort,
  pause,
  run,
  Stage,
  start,
  startService,
  startStandin,
  tempFolder,
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
  const passage = await wobbet("passage", message!.id, "--raw")
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
  expect(shown.out).toMatch(/theirs +●.*say tern point[\s\S]*ours .*by hand[\s\S]*state \{\}/)
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
  expect(out).toMatch(/● echo +the phrase "say \{words\}" \{"words":"hello world"\}/)
  expect(out).toContain("→ route echo, handler echo")
  expect((await wobbet("bot", "explain", "/hello x")).out).toContain("→ route greet, handler text")
  expect((await wobbet("bot", "explain", "hm")).out).toContain("→ unrouted")
})

test("checks a folder and names file, line and remedy", async () => {
  expect((await wobbet("bot", "check")).out).toMatch(/quay is valid: \d+ routes/)
  const broken = tempFolder({
    "bot.yaml": "bot: x\nroutes:\n  - name: a\n    meets: { comand: hi }\n    handler: hi\n",
    "handlers/hi.ts": "export default 1 +",
  })
  const { code, out } = await wobbet("bot", "check", broken)
  expect(code).toBe(1)
  expect(out).toMatch(/bot\.yaml:4:\d+\n {2}"comand" is not known here\.\n {2}Write one of: phrase, command/)
  expect(out).toMatch(/handlers\/hi\.ts:1:\d+\n {2}Unexpected end of file/)
})

test("tail shows messages as they come and how far they got", async () => {
  const tail = await start(["tail", "--channel", stage.key], service.env, /Waiting for messages/)
  await pause(500)
  await stage.say("say live now")
  await eventually(async () => /you said live now.*sent/.test(tail.said()), "the reply in the tail")
  expect(tail.said()).toMatch(/→ .*say live now.*answered/)
  tail.child.kill("SIGINT")
  await eventually(async () => tail.child.exitCode !== null || tail.child.signalCode !== null, "the tail to end")
})
