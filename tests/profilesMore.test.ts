import type { ServerResponse } from "node:http"
import { mkdirSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Service } from "./support/harness.ts"
import { endAll, eventually, freshDatabase, pause, query, run, startService, tempFolder } from "./support/harness.ts"
import { startGateway } from "./support/gateway.ts"
import { quayBot } from "./support/quayBot.ts"

/** What profiles do beside carrying messages: register, ask, fetch, say along; and channels that only receive or send. */
let service: Service
let database: string
beforeAll(async () => {
  database = await freshDatabase()
  service = await startService({
    database,
    bot: tempFolder({
      ...quayBot,
      "bot.yaml": quayBot["bot.yaml"]!.replace(
        "routes:\n",
        "routes:\n  - { name: along, when: { phrase: along }, handler: along }\n",
      ),
      "handlers/along.ts": `import { extra, handler, text } from "wobbet"
export default handler(() => ({ replies: [extra(text("with it"), { simCard: "2", nothing: "x" })] }))`,
    }),
  })
}, 60_000)
afterAll(endAll)

const keeps = (source: string) => service.client.setProfile(source).then(({ faults }) => expect(faults).toEqual([]))
const post = (key: string, body: object, query = "?word=a-word-1") =>
  fetch(`${service.address}/in/${key}${query}`, {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify(body),
  })
const inbound = `inbound: { body: json, verify: [{ scheme: word, secret: word, query: word }], message: { id: /id, from: /from, text: /text } }`
const outbound = `outbound: { address: "{apiBase}/out", body: json, authorization: { bearer: key }, send: { to: "{to}", text: "{text}", ref: "{mark}" }, answer: { id: /id } }`
const secrets = `secrets: { word: { says: w }, key: { says: k } }`
const given = { word: "a-word-1", key: "a-key-12" }

test("a channel that only receives says so, and answers nothing; a route that answers there is a fault", async () => {
  await keeps(`profile: pager\ntitle: x\n${secrets}\n${inbound}`)
  await service.client.addChannel({
    kind: "custom",
    key: "pager",
    settings: { profile: "pager" },
    secrets: { word: given.word },
  })
  expect((await service.client.channel("pager")).cannot).toEqual([
    "it only receives: its gateway's profile has no outbound",
  ])
  expect((await run(["channel", "show", "pager"], service.env)).out).toContain("it only receives")
  expect((await post("pager", { id: "p1", from: "447700900401", text: "/hello" })).status).toBe(200)
  await eventually(async () => {
    const [message] = (await service.client.messages({ channel: "pager" })).items
    return message?.status === "handled"
  }, "the turn")
  const [message] = (await service.client.messages({ channel: "pager", direction: "in" })).items
  const { paths } = await service.client.passage(message!.id)
  expect(paths[0]!.replies).toEqual([])
  expect(JSON.stringify(paths[0]!.turns[0])).toContain("it only receives")
  await expect(service.client.send({ to: "+447700900401", channel: "pager", text: "hi" })).rejects.toThrow(
    "it only receives",
  )
  const checked = await run(["bot", "check"], service.env)
  expect(checked.code).toBe(1)
  expect(checked.out).toContain('the route "greet" answers on the channel "pager"')
  await service.client.removeChannel("pager", "drop")
  expect((await run(["bot", "check"], service.env)).code).toBe(0)
})

test("a channel that only sends refuses calls, and is right all along the line", async () => {
  const { address, came } = await startGateway()
  await keeps(`profile: horn\ntitle: x\nsecrets: { key: { says: k } }\n${outbound}`)
  await service.client.addChannel({
    kind: "custom",
    key: "horn",
    settings: { profile: "horn", apiBase: address },
    secrets: { key: given.key },
  })
  await service.client.send({ to: "+447700900402", channel: "horn", text: "fog" })
  await eventually(async () => came.length === 1, "the message")
  expect((await post("horn", {})).status).toBe(401)
  const { lines } = await service.client.checkChannel("horn")
  expect(lines.filter((line) => line.mark === "wrong")).toEqual([])
  expect(lines.map((line) => line.says).join(" ")).toContain("none is needed: this channel only sends")
})

test("extras go along from handlers, the API and the command line; one nobody knows is refused or told", async () => {
  const { address, came } = await startGateway()
  await keeps(
    `profile: along\ntitle: x\n${secrets}\n${inbound}\n${outbound.replace(/ }$/, `, extra: { simCard: { says: which SIM, send: { meta: { sim: "{value}" } } }, note: { says: a note, send: { note: "n {value}" } } } }`)}`,
  )
  await service.client.addChannel({
    kind: "custom",
    key: "along",
    settings: { profile: "along", apiBase: address },
    secrets: given,
  })
  expect((await run(["channel", "show", "along"], service.env)).out).toMatch(
    /extras +simCard \(which SIM\), note \(a note\)/,
  )
  expect(
    (
      await run(
        ["send", "+447700900403", "hi", "--channel", "along", "--set", "simCard=1", "--set", "note={key}"],
        service.env,
      )
    ).code,
  ).toBe(0)
  await eventually(async () => came.length === 1, "the message")
  expect(JSON.parse(came[0]!.body)).toMatchObject({ text: "hi", meta: { sim: "1" }, note: "n {key}" })
  const wrong = await run(["send", "+447700900403", "hi", "--channel", "along", "--set", "simcard=1"], service.env)
  expect(wrong.err).toContain('"simcard" means nothing on this channel: it takes simCard (which SIM), note (a note)')
  await post("along", { id: "a1", from: "447700900403", text: "along" })
  await eventually(async () => came.length === 2, "the answer")
  expect(JSON.parse(came[1]!.body)).toMatchObject({ text: "with it", meta: { sim: "2" } })
  const [message] = (await service.client.messages({ channel: "along", direction: "in" })).items
  expect(JSON.stringify((await service.client.passage(message!.id)).paths[0]!.turns)).toContain(
    'the extra \\"nothing\\" means nothing',
  )
})

test("a word in the body proves a call, and is nowhere in the record; without it, the body is read all the same", async () => {
  await keeps(
    `profile: inside\ntitle: x\n${secrets}\ninbound: { body: json, verify: [{ scheme: word, secret: word, field: /auth/word }], message: { id: /id, from: /from, text: /text } }`,
  )
  await service.client.addChannel({
    kind: "custom",
    key: "inside",
    settings: { profile: "inside" },
    secrets: { word: 'tide "word" é' },
  })
  const call = (word: string) =>
    post("inside", { id: `i${word.length}`, from: "447700900404", text: "say in", auth: { word } }, "")
  expect((await call('tide "word" é')).status).toBe(200)
  expect((await call("another")).status).toBe(401)
  const { items } = await service.client.passages({ channel: "inside" })
  for (const { id } of items) expect(JSON.stringify(await service.client.passage(id))).not.toMatch(/tide/)
  expect(await query(database, "SELECT id FROM intakes WHERE position('tide' in encode(body, 'escape')) > 0")).toEqual(
    [],
  )
})

test("what was said before is fetched once, in its order, and answered by nobody", async () => {
  const past = (n: number) => ({ id: `old-${n}`, from: "447700900405", text: `say ${n}` })
  const { address, came } = await startGateway(({ url }) =>
    url.startsWith("/past") ? { list: [past(1), past(2), past(3)] } : { id: "x" },
  )
  await keeps(
    `profile: past\ntitle: x\n${secrets}\n${inbound}\n${outbound}\nhistory: { address: "{apiBase}/past", each: /list }\nregister: { set: { address: "{apiBase}/hook", send: { url: "{inlet}" } } }`,
  )
  await service.client.addChannel({
    kind: "custom",
    key: "past",
    settings: { profile: "past", apiBase: address },
    secrets: given,
  })
  const connected = await run(["channel", "connect", "past"], service.env)
  expect(connected.out).toContain("3 messages said before were fetched; nothing answers them")
  await run(["channel", "connect", "past"], service.env)
  await pause(800)
  const { items } = await service.client.messages({ channel: "past", direction: "in" })
  expect(items.map((one) => [one.text, one.status])).toEqual([
    ["say 3", "own"],
    ["say 2", "own"],
    ["say 1", "own"],
  ])
  expect(came.filter(({ url }) => url === "/out")).toEqual([])
  expect(came.find(({ url }) => url === "/hook")!.headers.authorization).toBe("Bearer a-key-12")
})

test("removing a channel takes the address away where the profile says how", async () => {
  const { address, came } = await startGateway()
  await keeps(
    `profile: undone\ntitle: x\n${secrets}\n${inbound}\n${outbound}\nregister: { set: { address: "{apiBase}/hook", send: { url: "{inlet}", kinds: "{events}" } }, events: [message, state], remove: { address: "{apiBase}/hook" } }`,
  )
  await service.client.addChannel({
    kind: "custom",
    key: "undone",
    settings: { profile: "undone", apiBase: address },
    secrets: given,
  })
  await service.client.connectChannel("undone")
  expect(JSON.parse(came.find(({ method }) => method === "POST")!.body)).toEqual({
    url: `${service.address}/in/undone?word=a-word-1`,
    kinds: ["message", "state"],
  })
  await service.client.removeChannel("undone")
  expect(came.some(({ method, url }) => method === "DELETE" && url === "/hook")).toBe(true)
})

test.each<[string, (mark: string) => unknown, string, number]>([
  ["has it", (mark) => ({ found: [{ id: "g-9", ref: mark }] }), "sent", 1],
  ["does not have it", () => ({ found: [] }), "sent", 2],
])(
  "a doubt is settled by asking for one message: the gateway %s",
  async (what, answer, status, sends) => {
    const key = `doubt-${what.replaceAll(" ", "-")}`
    let sent = 0
    const { address, came } = await startGateway(({ url }, response) => {
      if (url.startsWith("/sent/")) return answer(decodeURIComponent(url.slice(6)))
      if (++sent > 1) return { id: "g-2" }
      response.socket!.destroy()
      return undefined
    })
    await keeps(
      `profile: ${key}\ntitle: x\n${secrets}\n${inbound}\n${outbound}\nfind: { address: "{apiBase}/sent/{mark}", answer: { each: /found, id: /id, mark: /ref } }`,
    )
    await service.client.addChannel({
      kind: "custom",
      key,
      settings: { profile: key, apiBase: address },
      secrets: given,
    })
    const { messages } = await service.client.send({ to: "+447700900406", channel: key, text: "is it there" })
    await eventually(
      async () => (await service.client.message(messages[0]!)).status === status,
      "the end of the doubt",
      40,
    )
    expect(came.filter(({ url }) => url === "/out")).toHaveLength(sends)
  },
  60_000,
)

test("before what waits at a gateway is lost, its operator is told, and once", async () => {
  const alerts: string[] = []
  const { address } = await startGateway(({ url, body }) => {
    if (url === "/alerts") alerts.push((JSON.parse(body) as { data: { says: string } }).data.says)
    return url.startsWith("/q") ? "null" : {}
  })
  await keeps(
    `profile: kept\ntitle: x\n${secrets}\n${inbound}\n${outbound}\nqueue: { ask: { address: "{apiBase}/q", holds: 0 }, handle: /h, remove: { address: "{apiBase}/q/{handle}" }, keeps: 1h }`,
  )
  await service.client.addChannel({
    kind: "custom",
    key: "kept",
    settings: { profile: "kept", apiBase: address, alertTo: `${address}/alerts` },
    secrets: given,
  })
  await eventually(
    async () =>
      (await query(database, "SELECT 1 FROM channels WHERE key = 'kept' AND fetched_at IS NOT NULL")).length === 1,
    "the first fetch",
  )
  await service.client.pauseChannel("kept")
  await pause(300)
  await query(database, "UPDATE channels SET fetched_at = now() - interval '40 minutes' WHERE key = 'kept'")
  await eventually(async () => alerts.length === 1, "the warning", 70)
  expect(alerts[0]).toMatch(
    /nothing has been fetched for 40 min: what waits longest at the gateway is lost in (19|20) min\. Resume the channel/,
  )
  const checked = await service.client.checkChannel("kept")
  expect(checked.lines.find((line) => line.about === "way in")).toMatchObject({
    mark: "wrong",
    says: expect.stringContaining("is lost in") as unknown,
  })
  await service.client.resumeChannel("kept")
  await eventually(
    async () =>
      (await service.client.checkChannel("kept")).lines.find((line) => line.about === "way in")?.mark === "right",
    "fetching",
  )
  expect(alerts).toHaveLength(1)
}, 120_000)

describe("a gateway that answers each new call", () => {
  const answers: [string, (response: ServerResponse) => unknown][] = [
    ["with a web page", (response) => void response.setHeader("content-type", "text/html").end("<html>Sign in</html>")],
    ["with a redirect", (response) => void response.writeHead(302, { location: "https://elsewhere.example/" }).end()],
    ["with an error", (response) => void response.writeHead(500).end('{"error":"on fire"}')],
    ["with a list where a thing belongs", () => "[]"],
    ["by hanging up", (response) => void response.socket!.destroy()],
    ["with 5 MB", (response) => void response.end(`{"a":"${"x".repeat(5_000_000)}"}`)],
  ]
  test.each(answers)("%s: connecting, checking and showing say so, and nothing breaks", async (what, answer) => {
    const key = `odd-${what.toLowerCase().replaceAll(" ", "-")}`
    const { address } = await startGateway((_call, response) => answer(response))
    await keeps(
      `profile: ${key}\ntitle: x\n${secrets}\n${inbound}\n${outbound}\nregister: { set: { address: "{apiBase}/hook", send: { url: "{inlet}" } }, read: { address: "{apiBase}/hook", answer: { address: /url } } }\nhistory: { address: "{apiBase}/past", each: /list }\ncheck: { address: "{apiBase}/me", answer: { id: /id } }`,
    )
    await service.client.addChannel({
      kind: "custom",
      key,
      settings: { profile: key, apiBase: address },
      secrets: given,
    })
    const connected = await run(["channel", "connect", key], service.env)
    expect(connected.code).toBe(1)
    expect(connected.out + connected.err).not.toMatch(/internal|undefined|\[object/i)
    const shown = await run(["channel", "show", key], service.env)
    expect(shown.code).toBe(1)
    expect(shown.out).toMatch(/could not be read|no address on record/)
    expect((await service.client.checkChannel(key)).ok).toBe(false)
  })
})

test("a profile's samples: red ones say why, green ones pass, and what nobody wrote down is written on demand", async () => {
  const folder = tempFolder()
  mkdirSync(join(folder, "samples"))
  const file = join(folder, "mine.yaml")
  writeFileSync(file, `profile: mine\ntitle: x\n${secrets}\n${inbound}\n`)
  const test = (...more: string[]) => run(["profile", "test", file, ...more], service.env)
  expect((await test()).err).toContain("There are no samples")
  writeFileSync(
    join(folder, "samples/hi.http"),
    `POST /in/x?word=w-12345 HTTP/1.1\n\n{"id":"1","from":"447700900407","text":"hi \\u001b[31m"}`,
  )
  const unknown = await test()
  expect([unknown.code, unknown.out.includes("nothing says what must come out")]).toEqual([1, true])
  expect(unknown.out).not.toContain("\u001b[31m")
  writeFileSync(
    join(folder, "samples/hi.http"),
    `POST /in/x?word=w-12345 HTTP/1.1\n\n{"id":"1","from":"447700900407","text":"hi"}`,
  )
  expect((await test("--write")).out).toContain("is written to hi.yaml")
  expect((await test()).out).toContain("1 passed, 0 failed")
  writeFileSync(join(folder, "samples/hi.yaml"), "messages: [{ text: bye }]\n")
  const red = await test()
  expect([red.code, red.out]).toEqual([1, expect.stringContaining('not "bye"') as unknown])
  writeFileSync(file, "profile: mine\n")
  expect((await test()).out).toContain("title is missing")
})

test("an example, and an OpenAPI document, become a profile by command", async () => {
  const folder = tempFolder()
  const example = join(folder, "send.txt")
  writeFileSync(
    example,
    `curl https://api.new.example/v1/messages -H "Authorization: Bearer sk_live_123456" -d to=+447700900123 -d text="Hello there"`,
  )
  const made = await run(["profile", "from-request", example, "--name", "from-example", "--keep"], service.env)
  expect({ code: made.code, err: made.err }).toEqual({ code: 0, err: "" })
  expect(made.out).toContain(
    "Next: wobbet channel add custom <key> --set profile=from-example --set apiBase=https://api.new.example/v1 --secret apiKey=env:…",
  )
  expect(made.out).not.toContain("sk_live_123456")
  expect((await service.client.profiles()).items.map((one) => one.name)).toContain("from-example")
  const more = join(folder, "me.txt")
  writeFileSync(more, "curl https://api.new.example/v1/me")
  const into = await run(["profile", "from-request", more, "--into", "from-example", "--keep"], service.env)
  expect(into.out).toContain('address: "{apiBase}/me"')
  expect(into.out).toContain("bearer: apiKey")
  const har = join(folder, "page.har")
  const entry = (method: string, url: string) => ({
    request: {
      method,
      url,
      headers: [],
      ...(method === "POST"
        ? { postData: { mimeType: "application/json", text: '{"to":"+447700900123","text":"Hello there"}' } }
        : {}),
    },
    response: { content: { text: "x".repeat(200_000) } },
  })
  writeFileSync(
    har,
    JSON.stringify({
      log: {
        entries: [
          ...Array.from({ length: 100 }, (_none, n) => entry("GET", `https://panel.example/${n}.html`)),
          entry("POST", "https://panel.example/api/send"),
        ],
      },
    }),
  )
  const many = await run(["profile", "from-request", har], service.env)
  expect(many.err).toContain("101  POST https://panel.example/api/send")
  const chosen = await run(["profile", "from-request", har, "--entry", "101"], service.env)
  expect(chosen.out).toContain('address: "{apiBase}/send"')
  const document = join(folder, "api.json")
  writeFileSync(
    document,
    JSON.stringify({
      openapi: "3.0.0",
      servers: [{ url: "https://open.example/v2" }],
      paths: {
        "/out": {
          post: {
            operationId: "send",
            requestBody: {
              content: {
                "application/json": {
                  schema: { type: "object", properties: { to: { type: "string" }, text: { type: "string" } } },
                },
              },
            },
          },
        },
      },
      webhooks: {
        came: {
          post: {
            requestBody: {
              content: {
                "application/json": {
                  schema: {
                    type: "object",
                    properties: { from: { type: "string" }, text: { type: "string" }, id: { type: "string" } },
                  },
                },
              },
            },
          },
        },
      },
    }),
  )
  expect((await run(["profile", "from-openapi", document], service.env)).out).toMatch(/send +operation +POST +\/out/)
  const open = await run(
    ["profile", "from-openapi", document, "--send", "send", "--webhook", "came", "--name", "from-open", "--keep"],
    service.env,
  )
  expect({ code: open.code, err: open.err }).toEqual({ code: 0, err: "" })
  expect(open.out).toContain("from: /from")
})
