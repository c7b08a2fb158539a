import { createHmac } from "node:crypto"
import type { Server } from "node:http"
import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import type { Service } from "./support/harness.ts"
import { atEnd, endAll, eventually, pause, run, startService, tempFolder } from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

/** Bridges nobody here has seen: what they do beside carrying messages. */
let service: Service
beforeAll(async () => {
  service = await startService({ bot: tempFolder(quayBot) })
}, 60_000)
afterAll(endAll)

const word = "a-word-of-the-bridge"

interface Bridge {
  address: string
  /** What it was given to send. */
  sent: { to: string; text: string }[]
  state: string
  /** Whether it takes the key. */
  refuses: boolean
  /** Whether it brings what was sent as if a person had said it. */
  echoes: "no" | "marked" | "unmarked"
  call: (body: object) => Promise<number>
  alerts: string[]
}

/** A bridge that speaks JSON, and a place for alerts. */
async function bridge(key: string): Promise<Bridge> {
  const made: Bridge = {
    address: "",
    sent: [],
    state: "linked",
    refuses: false,
    echoes: "no",
    alerts: [],
    call: async (body) => {
      const answer = await fetch(`${service.address}/in/${key}?word=${word}`, {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify(body),
      })
      return answer.status
    },
  }
  let n = 0
  const server: Server = createServer((call, answer) => {
    let text = ""
    call.on("data", (piece) => (text += String(piece)))
    call.on("end", () => {
      const body = (text ? JSON.parse(text) : {}) as { to?: string; text?: string; data?: { says: string } }
      answer.setHeader("content-type", "application/json")
      if (call.url === "/alerts") {
        made.alerts.push(body.data!.says)
        return void answer.end("{}")
      }
      if (call.url === "/me") return void answer.end(JSON.stringify({ id: "b-1", account: { state: made.state } }))
      if (made.refuses) {
        answer.statusCode = 401
        return void answer.end('{"error":"who are you"}')
      }
      if (made.state === "linked") made.sent.push({ to: body.to!, text: body.text! })
      answer.end(JSON.stringify({ id: `o-${++n}`, account: { state: made.state } }))
      if (made.echoes === "no" || made.state !== "linked") return
      const mark = made.echoes === "marked" ? { fromMe: true } : {}
      void made.call({ type: "message", id: `e-${n}`, from: body.to, text: body.text, ...mark })
    })
  })
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  atEnd(() => void server.close())
  made.address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  return made
}

const profile = (name: string, more: string, own = "") => `
profile: ${name}
title: a bridge
secrets:
  sharedWord: { says: "a word it repeats" }
inbound:
  body: json
  verify: [{ scheme: word, secret: sharedWord, query: word }]
  message: { only: { /type: [message] }, id: /id, from: /from, text: /text${own} }
outbound:
  address: "{apiBase}/send"
  body: json
  send: { to: "{to}", text: "{text}" }
  answer: { id: /id }
check:
  address: "{apiBase}/me"
  answer: { id: /id, state: /account/state }
${more}`

async function channelFor(key: string, source: string): Promise<Bridge> {
  const made = await bridge(key)
  expect((await service.client.setProfile(source)).faults).toEqual([])
  await service.client.addChannel({
    kind: "custom",
    key,
    settings: { profile: key, apiBase: made.address, number: "+447700900500", alertTo: `${made.address}/alerts` },
    secrets: { sharedWord: word },
  })
  return made
}

const says = (text: string, id = text, more: object = {}) => ({
  type: "message",
  id,
  from: "447700900501",
  text,
  ...more,
})
const stateOf = async (key: string) => (await service.client.channel(key)).state

describe("an account that is no longer linked", () => {
  const state = (more: string) => `state:
${more}
  good: linked
  bad: { unlinked: "its telephone is no longer linked" }
  remedy: "Link it again at {apiBase}/link."
`

  test("told in a call of its own: nothing is sent, a person is told where to link it, and it resumes by itself", async () => {
    const made = await channelFor(
      "told",
      profile("told", state("  event: { only: { /type: [account] }, state: /state, why: /why }")),
    )
    await made.call(says("say one"))
    await eventually(async () => made.sent.length === 1, "the first answer")
    made.state = "unlinked"
    await made.call({ type: "account", state: "unlinked", why: "signed out" })
    await eventually(async () => (await stateOf("told")) === "locked out", "the channel to stop")
    const shown = await service.client.channel("told")
    expect(shown.reason).toBe(
      'the gateway says the account is "unlinked": its telephone is no longer linked (signed out)',
    )
    expect(shown.remedy).toBe(`Link it again at ${made.address}/link.`)
    await eventually(async () => made.alerts.length === 1, "the alert")
    expect(made.alerts[0]).toContain(`Link it again at ${made.address}/link.`)
    await made.call(says("say two"))
    await pause(800)
    expect(made.sent).toHaveLength(1)
    // With keys that work it stays stopped for as long as the account is not well.
    const checked = await service.client.checkChannel("told")
    expect(checked).toMatchObject({ ok: false, resumed: false })
    expect(await stateOf("told")).toBe("locked out")
    made.state = "linked"
    await made.call({ type: "account", state: "linked" })
    await eventually(async () => made.sent.length === 2, "what waited to be sent", 40)
    expect(made.sent[1]!.text).toBe("you said two")
    expect(await stateOf("told")).toBe("on")
    await eventually(async () => made.alerts.length === 2, "the good news")
    expect(made.alerts[1]).toContain("works again")
    // Stopped for its keys, it is not resumed because the account is well.
    made.refuses = true
    await made.call(says("say three"))
    await eventually(async () => (await stateOf("told")) === "locked out", "the channel to stop again")
    await made.call({ type: "account", state: "linked" })
    await pause(1000)
    expect(await stateOf("told")).toBe("locked out")
    expect(made.alerts).toHaveLength(3)
  }, 60_000)

  test("told in the answer to what is sent: the reply is not lost, and goes out afterwards", async () => {
    const made = await channelFor("answered", profile("answered", state("  answer: /account/state\n  every: 10s")))
    made.state = "unlinked"
    await made.call(says("say it"))
    await eventually(async () => (await stateOf("answered")) === "locked out", "the channel to stop")
    expect(made.sent).toEqual([])
    made.state = "linked"
    // Nobody tells: it is asked, and resumes by itself.
    await eventually(async () => made.sent.length === 1, "the reply", 40)
    expect(made.sent[0]!.text).toBe("you said it")
  }, 90_000)

  test("asked now and then: the channel stops before it tries to send, and a pause by hand is left alone", async () => {
    const made = await channelFor("asked", profile("asked", state("  every: 10s")))
    made.state = "unlinked"
    await eventually(async () => (await stateOf("asked")) === "locked out", "the channel to stop", 40)
    made.state = "linked"
    await eventually(async () => (await stateOf("asked")) === "on", "the channel to resume", 40)
    await service.client.pauseChannel("asked")
    await pause(12_000)
    expect(await stateOf("asked")).toBe("paused")
  }, 120_000)
})

describe("a bridge that brings our own words", () => {
  test.each([
    ["marked as ours", "marked", ", own: { /fromMe: [true] }"],
    ["as if a person had said them", "unmarked", ""],
  ] as const)("%s: the bot does not answer itself", async (_how, echoes, own) => {
    const key = `echo-${echoes}`
    const made = await channelFor(key, profile(key, "", own))
    made.echoes = echoes
    // Whatever is said is answered: the worst there can be.
    await made.call(says("say the same again and again"))
    await eventually(async () => made.sent.length > 0, "the answer")
    await pause(2500)
    expect(made.sent).toEqual([{ to: "+447700900501", text: "you said the same again and again" }])
    const { items } = await service.client.messages({ channel: key, direction: "in", status: "own" })
    expect(items).toHaveLength(1)
    // A person who says a short thing that was just said is answered.
    await made.call(says("count", "c-1"))
    await eventually(async () => made.sent.some(({ text }) => text === "count 1"), "the count")
  })

  test("from our own number: never answered", async () => {
    const made = await channelFor("own-number", profile("own-number", ""))
    await made.call(says("say hello", "n-1", { from: "+44 7700 900500" }))
    await made.call(says("say hello", "n-2"))
    await eventually(async () => made.sent.length === 1, "the answer")
    await pause(500)
    expect(made.sent.map(({ to }) => to)).toEqual(["+447700900501"])
  })
})

test("other fields of a call reach conditions, texts and handlers", async () => {
  const bot = {
    "bot.yaml": `bot: fields-bot
routes:
  - { name: spring, when: { fields: { campaign: [spring, easter], sim: 2 } }, handler: { text: "Spring offer on {{message.fields.sim}}" } }
  - { name: others, when: { event: text }, handler: rest }
`,
    "handlers/rest.ts":
      'import { handler } from "wobbet"\nexport default handler(({ message }) => `rest ${JSON.stringify(message.fields ?? {})}`)\n',
  }
  const own = await startService({ bot: tempFolder(bot) })
  const before = service
  service = own
  try {
    const made = await channelFor("meta", profile("meta", "", ", fields: { campaign: /meta/campaign, sim: /sim }"))
    await made.call(says("one", "f-1", { meta: { campaign: "spring" }, sim: 2 }))
    await eventually(async () => made.sent.length === 1, "the first answer")
    await made.call(says("two", "f-2", { meta: { campaign: "autumn" }, sim: 2 }))
    await eventually(async () => made.sent.length === 2, "the second answer")
    await made.call(says("three", "f-3"))
    await eventually(async () => made.sent.length === 3, "the third answer")
    expect(made.sent.map(({ text }) => text)).toEqual([
      "Spring offer on 2",
      'rest {"campaign":"autumn","sim":"2"}',
      "rest {}",
    ])
    const [message] = (await own.client.messages({ channel: "meta", text: "two", direction: "in" })).items
    const { decision } = (await own.client.passage(message!.id)).paths[0]!
    expect(decision[0]!.why).toBe('fields.campaign is "autumn", not ["spring","easter"]')
  } finally {
    service = before
    await own.stop()
  }
}, 60_000)

describe("learning", () => {
  const secret = "signing-secret-of-the-hub"
  const send = (key: string, body: object) => {
    const text = JSON.stringify(body)
    return fetch(`${service.address}/in/${key}`, {
      method: "POST",
      headers: {
        "content-type": "application/json",
        "x-hub-sig": createHmac("sha256", secret).update(text).digest("hex"),
      },
      body: text,
    })
  }
  const learn = (key: string, ...more: string[]) =>
    run(
      [
        ...["channel", "learn", key, "--yes", "--minutes", "1", "--secret", `signingSecret=${secret}`],
        ...["--secret", "apiKey=k", "--set", "apiBase=http://127.0.0.1:9", "--bearer", "apiKey"],
        ...["--send-to", "{apiBase}/out", "--send", '{"to":"{to}","text":"{text}"}', ...more],
      ],
      service.env,
    )
  const waits = (key: string) =>
    eventually(async () => (await service.client.channel(key)).learning !== undefined, "the channel to wait")

  test("takes the person and not the account, and the field that says whose words they are", async () => {
    await service.client.addChannel({ kind: "custom", key: "hub", settings: { number: "+447700900500" } })
    const learning = learn("hub")
    await waits("hub")
    await send("hub", {
      event: "message.new",
      instance: { id: "inst-7", number: "447700900500", name: "Tern Point" },
      data: {
        key: { id: "3EB0C431C26A1916E07E", fromMe: false },
        peer: { number: "447700900502", name: "Rui Nunes" },
        content: { kind: "chat", body: "when is the next boat please" },
        at: 1795467000,
      },
    })
    const { code, out, err } = await learning
    expect({ code, err }).toEqual({ code: 0, err: "" })
    expect(out).toMatch(/\/data\/peer\/number +447700900502 +the sender/)
    expect(out).toMatch(/\/data\/content\/body +when is the next boat please +the text/)
    expect(out).toContain("our own words: where /data/key/fromMe is true")
    const { items } = await service.client.profiles()
    expect(items.find(({ name }) => name === "hub")!.source).toMatch(/own:\n +\/data\/key\/fromMe:\n +- true/)
  })

  test("where it is not certain, --yes writes nothing, and says what to name", async () => {
    await service.client.addChannel({ kind: "custom", key: "unsure" })
    const learning = learn("unsure")
    await waits("unsure")
    await send("unsure", {
      a: { phone: "447700900503" },
      b: { phone: "447700900504" },
      said: "is there a boat today",
      ref: "r-1",
    })
    const { code, err } = await learning
    expect([code, err]).toEqual([1, expect.stringMatching(/not certain: the sender is \/a\/phone, or \/b\/phone/)])
    expect((await service.client.profiles()).items.some(({ name }) => name === "unsure")).toBe(false)
    const named = await learn("unsure", "--field", "from=/b/phone")
    expect([named.code, named.err]).toEqual([0, ""])
  })

  test("options are checked before anybody waits, all at once; a channel that would be refused leaves no profile", async () => {
    await service.client.addChannel({ kind: "custom", key: "hasty" })
    const wrong = await run(["channel", "learn", "hasty", "--yes", "--field", "sender=/x", "--send", "{"], service.env)
    expect(wrong.code).toBe(1)
    for (const says of ["--field sender=… names no role", "--send-to is missing", "--send is not JSON"])
      expect(wrong.err).toContain(says)
    expect((await service.client.channel("hasty")).learning).toBeUndefined()
    const learning = learn("hasty", "--set", "perSecond=many")
    await waits("hasty")
    await send("hasty", { from: "447700900505", text: "hello there", id: "h-1" })
    expect((await learning).err).toContain("perSecond")
    expect((await service.client.profiles()).items.some(({ name }) => name === "hasty")).toBe(false)
  })
})

test("the whole address, with the word in it, is shown once, and again only with another word", async () => {
  const made = await channelFor("worded", profile("worded", ""))
  await service.client.changeChannel("worded", { secrets: { sharedWord: "a word & more" } })
  const show = () => run(["channel", "show", "worded", "--address"], service.env)
  const first = await show()
  expect(first.out.split("\n")[0]).toBe(`${service.address}/in/worded?word=a%20word%20%26%20more`)
  // It is the one that works.
  const answer = await fetch(first.out.split("\n")[0]!, {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify(says("say hello")),
  })
  expect(answer.status).toBe(200)
  await eventually(async () => made.sent.length === 1, "the answer")
  expect(await show()).toMatchObject({ code: 1, out: "", err: expect.stringContaining("was shown before") as unknown })
  expect((await run(["channel", "show", "worded"], service.env)).out).not.toContain("more")
  await service.client.changeChannel("worded", { secrets: { sharedWord: "another" } })
  expect((await show()).out).toContain("?word=another")
  const { token } = await service.client.makeToken("Rita", "operator")
  const refused = await fetch(`${service.address}/api/v1/channels/worded/address`, {
    method: "POST",
    headers: { authorization: `Bearer ${token}` },
  })
  expect(refused.status).toBe(403)
  const none = await run(["channel", "show", "hub", "--address"], service.env)
  expect(none.err).toContain("No secret stands in the address")
})

test("what is missing is called missing, all of it at once, and a secret nothing uses can be taken away", async () => {
  const add = (settings: object, secrets: object) =>
    service.client.addChannel({
      kind: "sms",
      key: "lacking",
      settings: { profile: "plain-json", ...settings },
      secrets,
    })
  await expect(add({}, {})).rejects.toThrow(
    /The setting is missing: .*"apiBase".*\. The secret is missing: .*"apiKey".*one of signingSecret, sharedWord is needed/,
  )
  await add(
    { apiBase: "http://127.0.0.1:9", number: "+447700900500" },
    { apiKey: "k", signingSecret: "s", sharedWord: "w" },
  )
  await service.client.changeChannel("lacking", { secrets: { sharedWord: "" } })
  expect((await service.client.channel("lacking")).secrets.sort()).toEqual(["apiKey", "signingSecret"])
  await expect(service.client.changeChannel("lacking", { secrets: { signingSecret: "" } })).rejects.toThrow(
    "one of signingSecret, sharedWord is needed",
  )
})
