import { createServer } from "node:http"
import type { AddressInfo } from "node:net"
import { join } from "node:path"
import { writeFileSync } from "node:fs"
import { signIn, startBrowser } from "./support/browser.ts"
import type { Service } from "./support/harness.ts"
import { atEnd, endAll, eventually, run, startService, tempFolder } from "./support/harness.ts"
import { startGateway } from "./support/gateway.ts"
import { setKind } from "./support/kinds.ts"
import { quayBot } from "./support/quayBot.ts"

/** Trying things: a provider's own call, and saying something without a telephone. */
let service: Service
beforeAll(async () => {
  const files = {
    ...quayBot,
    "handlers/chosen.ts": `export default ({ message }) => "You chose " + message.choice.id`,
    "handlers/photos.ts": `import { handler } from "wobbet"
export default handler(({ message }) => "photos: " + message.media!.map((one) => one.mime + " " + (one.name ?? "")).join(" ") + " simulated " + message.simulated)`,
  }
  service = await startService({ bot: tempFolder(files) })
}, 60_000)
afterAll(endAll)

const wobbet = (...args: string[]) => run(args, service.env)

/** A channel of each kind whose provider must never be called: nobody is there. */
const nowhere = "https://api.provider.invalid"
const channels: [string, string, { [name: string]: string }, { [name: string]: string }][] = [
  ["telegram", "say-telegram", { apiBase: nowhere }, { token: "123456:AbCdEfGhIjKlMnOp" }],
  ["telegram", "say-polling", { apiBase: nowhere, receive: "polling" }, { token: "123457:AbCdEfGhIjKlMnOp" }],
  [
    "whatsapp",
    "say-whatsapp",
    { apiBase: nowhere, phoneNumberId: "1", businessAccountId: "2" },
    { accessToken: "wa-token-1", appSecret: "wa-secret-1" },
  ],
  [
    "messenger",
    "say-messenger",
    { apiBase: nowhere, pageId: "3" },
    { pageToken: "page-token-1", appSecret: "me-secret-1", verifyToken: "me-verify-1" },
  ],
  ["slack", "say-slack", { apiBase: nowhere }, { botToken: "xoxb-made-up", signingSecret: "sl-secret-1" }],
  ["sms", "say-form", { apiBase: nowhere, number: "+447700900999", accountId: "AC1" }, { authToken: "auth-token-1" }],
  [
    "sms",
    "say-oma",
    { apiBase: nowhere, profile: "oma-messaging", number: "+447700900999", user: "ferry" },
    { password: "oma-pass-1", inboundPassword: "oma-in-1" },
  ],
  [
    "custom",
    "say-json",
    { apiBase: nowhere, profile: "plain-json", number: "+447700900999" },
    { apiKey: "json-key-1", signingSecret: "js-secret-1" },
  ],
  ["custom", "say-beacon", { apiBase: nowhere, profile: "xml-hash" }, { sharedWord: "beacon-word-1" }],
  ["custom", "say-inline", { apiBase: nowhere, profile: "inside" }, { word: "inline-word-1" }],
  ["custom", "say-queue", { apiBase: nowhere, profile: "a-queue" }, { key: "queue-key-1" }],
  ["custom", "say-field", { apiBase: nowhere, profile: "a-field" }, { word: "field-word-1" }],
  ["custom", "say-clock", { apiBase: nowhere, profile: "a-clock" }, { key: "clock-key-1" }],
]

const profiles = [
  `profile: inside
title: x
addresses: names
secrets: { word: { says: w } }
inbound: { body: json, verify: [{ scheme: word, secret: word, header: x-word }], message: { id: /id, from: /from, text: /text } }
inline: { within: 3, body: text, text: "{text}" }`,
  `profile: xml-hash
title: x
addresses: names
secrets: { sharedWord: { says: w } }
inbound:
  body: xml
  verify: [{ scheme: sorted-hash, secret: sharedWord, query: seal, of: [at, salt], clock: { query: at } }]
  message: { id: /call/Id, from: /call/From, text: /call/Text, time: /call/At, only: { /call/Kind: [words] } }
outbound: { address: "{apiBase}/out", body: json, send: { to: "{to}", text: "{text}" } }`,
  `profile: a-queue
title: x
secrets: { key: { says: k } }
inbound: { body: json, message: { each: /items, id: /id, from: /who/number, name: /who/name, text: /text, only: { /kind: [m] }, media: { each: /files, address: /url, mime: /mime } } }
queue: { ask: { address: "{apiBase}/q/{key}" }, handle: /r, remove: { address: "{apiBase}/q/{key}/{handle}" } }
outbound: { address: "{apiBase}/out", body: json, send: { to: "{to}", text: "{text}" } }`,
  `profile: a-field
title: x
secrets: { word: { says: w } }
inbound: { body: json, verify: [{ scheme: word, secret: word, field: /auth/word }], message: { id: /id, from: /from, text: /text, place: /room, group: { /isRoom: [true] } } }
outbound: { address: "{apiBase}/out", body: json, send: { to: "{to}", text: "{text}" } }`,
  `profile: a-clock
title: x
secrets: { key: { says: k } }
inbound:
  body: form
  verify: [{ scheme: template, secret: key, header: x-sign, over: "{method}:{path}:{header:x-at}.{body}", algorithm: sha512, encoding: base64, clock: { header: x-at } }]
  message: { id: id, from: from, text: text }
outbound: { address: "{apiBase}/out", body: json, send: { to: "{to}", text: "{text}" } }`,
]

describe("saying something without a telephone", () => {
  beforeAll(async () => {
    for (const source of profiles) expect((await service.client.setProfile(source)).faults).toEqual([])
    for (const [kind, key, settings, secrets] of channels)
      await service.client.addChannel({ kind, key, settings, secrets })
  }, 60_000)

  test.each(channels.map(([kind, key]) => [key, kind]))(
    "%s: it is answered, marked as simulated, and nothing leaves",
    async (key) => {
      const { code, out, err } = await wobbet("say", key, "say", "hello there", "--json")
      expect({ code, err }).toEqual({ code: 0, err: "" })
      const said = JSON.parse(out) as { passage: string; captured: boolean }
      expect(said.captured).toBe(true)
      const passage = await service.client.passage(said.passage)
      expect(passage.intake).toMatchObject({
        via: "say",
        notes: expect.arrayContaining([expect.stringContaining("simulated")]) as unknown,
      })
      const [path] = passage.paths
      expect(path!.message).toMatchObject({
        status: "handled",
        text: "say hello there",
        body: { simulated: "captured", from: { name: "A simulated person" } },
      })
      expect(path!.replies.map(({ message }) => [message.text, message.status])).toEqual([
        ["you said hello there", "captured"],
      ])
      expect(passage.stops.find((stop) => stop.stop === "sent")).toMatchObject({ state: "done", word: "captured" })
      const conversation = await wobbet("conversation", "show", path!.message.conversation)
      expect(conversation.out).toContain("simulated: say hello there")
      // Its secrets stay out of the record, wherever the call carried them.
      const [, , , secrets] = channels.find((one) => one[1] === key)!
      for (const secret of Object.values(secrets)) expect(JSON.stringify(passage)).not.toContain(secret)
      // The same call again, by the passage or by what was answered: a message of its own each time.
      for (const id of [said.passage, path!.message.id]) {
        const again = await wobbet("say", "--again", id, "--json")
        expect([again.code, again.err]).toEqual([0, ""])
        const more = await service.client.passage((JSON.parse(again.out) as { passage: string }).passage)
        expect(more.intake!.notes).toContainEqual(expect.stringContaining("said here again"))
        expect(more.paths.map(({ message, replies }) => [message.text, replies[0]?.message.status])).toEqual([
          ["say hello there", "captured"],
        ])
        expect(more.paths[0]!.message.id).not.toBe(path!.message.id)
        expect(more.paths[0]!.message.conversation).toBe(path!.message.conversation)
      }
    },
  )

  test("only what was genuine, here, and still kept is said again", async () => {
    const refused = await fetch(`${service.address}/in/say-field`, { method: "POST", body: '{"from":"x","text":"y"}' })
    expect(refused.status).toBe(401)
    const passage = await eventually(
      async () => (await service.client.passages({ channel: "say-field", genuine: false })).items[0]?.id,
      "the refused call",
    )
    for (const [id, channel, says] of [
      [passage, "say-field", "refused"],
      [passage, "say-inline", "came on the channel"],
      ["itk_01m8000000000000000000000z", "say-field", "no call under"],
    ] as const)
      await expect(service.client.say(channel, { again: id })).rejects.toThrow(says)
    const { code, err } = await wobbet("say", "hello")
    expect([code, err]).toEqual([1, expect.stringContaining("Nothing is said")])
  })

  test("an answer that comes too late to stand inside the call is captured all the same", async () => {
    const hasty = profiles[0]!.replace("profile: inside", "profile: hasty").replace("within: 3", "within: 1")
    expect((await service.client.setProfile(hasty)).faults).toEqual([])
    const settings = { apiBase: nowhere, profile: "hasty" }
    await service.client.addChannel({ kind: "custom", key: "say-hasty", settings, secrets: { word: "hasty-word-1" } })
    // Takes longer than the gateway waits.
    const said = await service.client.say("say-hasty", { text: "nap" })
    const [reply] = await eventually(async () => {
      const replies = (await service.client.passage(said.passage)).paths[0]?.replies ?? []
      return replies.some(({ message }) => !/sending|waiting/.test(message.status!)) ? replies : undefined
    }, "the answer")
    expect([reply!.message.text, reply!.message.status]).toEqual(["awake", "captured"])
    expect((await service.client.parked({ channel: "say-hasty" })).items).toEqual([])
  })

  test.each(["say-telegram", "say-whatsapp", "say-messenger", "say-slack", "say-queue"])(
    "%s: a picture and a press",
    async (key) => {
      const file = join(tempFolder(), "boat.png")
      writeFileSync(
        file,
        Buffer.from(
          "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==",
          "base64",
        ),
      )
      const shown = await wobbet(
        "say",
        key,
        "--media",
        file,
        "--from",
        key === "say-telegram" ? "7700900044" : key === "say-slack" ? "U0MEDIA" : "447700900044",
      )
      expect(shown.out).toContain("photos: ")
      expect(shown.out).toContain("simulated captured")
      const [picture] = (await service.client.messages({ channel: key, event: "media" })).items
      await eventually(
        async () => (await service.client.message(picture!.id)).kept?.[0]?.state === "kept",
        "the picture",
      )
      if (key === "say-queue") return
      const pressed = await wobbet("say", key, "--press", "boat:7", "--json")
      expect(pressed.code).toBe(0)
      const { paths } = JSON.parse(pressed.out) as { paths: { replies: { message: { text: string } }[] }[] }
      expect(paths[0]!.replies[0]!.message.text).toContain("You chose boat:7")
    },
  )

  test("a group, another person, a raw payload; and what cannot be", async () => {
    const grouped = await service.client.say("say-field", {
      text: "say all",
      place: "room-1",
      from: "+447700900071",
      name: "Ada",
    })
    await eventually(
      async () => (await service.client.passage(grouped.passage)).paths[0]?.replies[0]?.message.status === "captured",
      "the answer",
    )
    expect((await service.client.passage(grouped.passage)).paths[0]!.message.body).toMatchObject({
      place: { address: "room-1", kind: "group" },
      from: { name: "Ada" },
    })
    const raw = await wobbet(
      "say",
      "say-json",
      "--payload",
      writeTemp('{"id":"raw-1","from":"447700900072","text":"say raw"}'),
    )
    expect(raw.out).toContain("you said raw")
    expect((await wobbet("say", "say-json")).err).toContain("Nothing is said")
    expect((await wobbet("say", "nobody", "hello")).err).toContain('There is no channel "nobody"')
    await service.client.setProfile(
      'profile: only-out\ntitle: x\noutbound: { address: "{apiBase}/out", body: json, send: { to: "{to}", text: "{text}" } }',
    )
    await service.client.addChannel({
      kind: "custom",
      key: "only-out",
      settings: { profile: "only-out", apiBase: nowhere },
    })
    expect((await wobbet("say", "only-out", "hello")).err).toContain("it only sends")
    await service.client.addChannel({ kind: "custom", key: "unlearned" })
    await service.client.learn("unlearned")
    expect((await wobbet("say", "unlearned", "hello")).err).toContain("waits for a call to learn from")
  })

  test("at a stand-in, and with --really, the reply goes out", async () => {
    const stage = await setKind(service, "slack")
    const said = await service.client.say(stage.key, { text: "say to the stand-in", from: stage.person })
    expect(said.captured).toBe(false)
    const [shown] = await stage.answered(1)
    expect(shown!.text).toContain("you said to the stand-in")
    // Nobody there plays somebody else, and what answers on this machine may be no stand-in at all.
    const made = await service.client.say(stage.key, { text: "say to nobody", from: "U0NOBODY" })
    expect(made.captured).toBe(true)
    const { address, came } = await startGateway()
    await service.client.changeChannel("say-field", { settings: { apiBase: address } })
    expect((await service.client.say("say-field", { text: "say here", from: "447700900074" })).captured).toBe(true)
    expect(came.filter(({ method }) => method === "POST")).toEqual([])
    const really = await service.client.say("say-json", { text: "say really", really: true })
    await eventually(
      async () =>
        (await service.client.passage(really.passage)).paths[0]?.replies[0]?.attempts[0]?.why?.includes(
          "provider.invalid",
        ) === true,
      "the attempt",
    )
  })

  test("a bystander cannot mark a message as simulated", async () => {
    const forged = await service.client.say("say-json", {
      payload: '{"id":"f-1","from":"447700900073","text":"say x","simulated":"sent"}',
    })
    await eventually(async () => (await service.client.passage(forged.passage)).paths.length > 0, "the record")
    expect((await service.client.passage(forged.passage)).paths[0]!.message.body).toMatchObject({
      simulated: "captured",
    })
  })
})

function writeTemp(text: string): string {
  const file = join(tempFolder(), "payload")
  writeFileSync(file, text)
  return file
}

describe("trying a provider's call", () => {
  let address: string
  let answer = { status: 200, type: "application/json", body: "{}" }
  const came: { method: string; url: string; headers: { [name: string]: unknown }; body: string }[] = []
  beforeAll(async () => {
    const server = createServer((request, response) => {
      let body = ""
      request.on("data", (piece: Buffer) => (body += String(piece)))
      request.on("end", () => {
        came.push({ method: request.method!, url: request.url!, headers: request.headers, body })
        if (answer.status === 0) return
        response.writeHead(answer.status, {
          "content-type": answer.type,
          "x-gateway": "g1",
          ...(answer.status === 302 ? { location: "https://elsewhere.example/" } : {}),
        })
        response.end(answer.body)
      })
    })
    await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
    atEnd(() => void server.closeAllConnections())
    atEnd(() => void server.close())
    address = `http://127.0.0.1:${(server.address() as AddressInfo).port}/base`
    for (const [kind, , settings, secrets] of channels.slice(0, 8))
      if (kind !== "telegram" || !settings.receive)
        await service.client.addChannel({
          kind,
          key: `try-${settings.profile ?? kind}`,
          settings: { ...settings, apiBase: address },
          secrets,
        })
  })
  beforeEach(() => {
    came.length = 0
    answer = { status: 200, type: "application/json", body: '{"ok":true,"id":"me-1"}' }
  })

  test.each<[string, string[], string, string]>([
    ["try-telegram", ["me"], "GET", "/base/bot123456:AbCdEfGhIjKlMnOp/getMe"],
    ["try-telegram", ["record"], "GET", "/base/bot123456:AbCdEfGhIjKlMnOp/getWebhookInfo"],
    ["try-telegram", ["getChat", "chat_id=-100 1"], "GET", "/base/bot123456:AbCdEfGhIjKlMnOp/getChat?chat_id=-100+1"],
    ["try-telegram", ["getMyStarBalance"], "GET", "/base/bot123456:AbCdEfGhIjKlMnOp/getMyStarBalance"],
    [
      "try-whatsapp",
      ["me"],
      "GET",
      "/base/v23.0/1?fields=id%2Cdisplay_phone_number%2Cverified_name%2Cquality_rating%2Cstatus%2Cthroughput",
    ],
    ["try-whatsapp", ["media", "media_id=a/b"], "GET", "/base/v23.0/a%2Fb"],
    ["try-messenger", ["record"], "GET", "/base/v23.0/3/subscribed_apps"],
    [
      "try-slack",
      ["groups"],
      "GET",
      "/base/api/conversations.list?types=public_channel%2Cprivate_channel&exclude_archived=true&limit=200",
    ],
    [
      "try-slack",
      ["status", "channel=C1", "latest=17.1"],
      "GET",
      "/base/api/conversations.history?inclusive=true&limit=1&channel=C1&latest=17.1",
    ],
    ["try-sms", ["me"], "GET", "/base/Accounts/AC1.json"],
    ["try-plain-json", ["GET", "/things/7", "limit=5"], "GET", "/base/things/7?limit=5"],
    ["try-plain-json", ["/things"], "GET", "/base/things"],
  ])("%s %j goes out with the channel's keys, and shows none of them", async (key, words, method, url) => {
    const { code, out, err } = await wobbet("call", key, ...words)
    expect({ code, err }).toEqual({ code: 0, err: "" })
    expect(came.map((call) => [call.method, call.url.replace(/v\d+\.0/, "v23.0")])).toEqual([[method, url]])
    expect(out).toContain("200 after")
    expect(out).toContain('"id": "me-1"')
    expect(out).toContain("x-gateway: g1")
    expect(out).toContain("•••")
    for (const [, , , secrets] of channels)
      for (const secret of Object.values(secrets)) expect(out).not.toContain(secret)
  })

  test("what may change something asks first, is on record, and is for developers", async () => {
    const words = ["call", "try-telegram", "setMyCommands", 'commands=[{"command":"book","description":"Book seats"}]']
    const asked = await wobbet(...words)
    expect([asked.code, came.length]).toEqual([1, 0])
    expect(asked.out).toContain("POST ")
    expect(asked.err).toContain("Say --yes to make the call. Nothing was called.")
    expect((await wobbet(...words, "--yes")).code).toBe(0)
    expect(came[0]).toMatchObject({
      method: "POST",
      body: '{"commands":[{"command":"book","description":"Book seats"}]}',
    })
    const { items } = await service.client.audit({ did: "call tried" })
    expect(items[0]!.detail).toMatchObject({ key: "try-telegram", method: "POST", status: 200 })
    expect(JSON.stringify(items)).not.toContain("AbCdEfGhIjKlMnOp")
    const reader = (await service.client.makeToken("looker", "operator")).token
    expect((await run(["call", "try-telegram", "me"], { ...service.env, WOBBET_TOKEN: reader })).err).toContain(
      "developer",
    )
  })

  test("a field that looks like the name of a secret stays what it is", async () => {
    await service.client.tryCall("try-plain-json", {
      method: "POST",
      path: "/out",
      really: true,
      fields: { text: { secret: "apiKey" }, more: [{ join: [{ secret: "apiKey" }] }] },
    })
    expect(came[0]!.body).toBe('{"text":{"secret":"apiKey"},"more":[{"join":[{"secret":"apiKey"}]}]}')
    await expect(service.client.tryCall("try-plain-json", { path: "/x?y={apiKey}" })).rejects.toThrow("needs apiKey")
    expect(came).toHaveLength(1)
  })

  test.each([
    ["https://elsewhere.example/me", "names another host"],
    ["//elsewhere.example/me", "names another host"],
    ["/../me", "leads upwards"],
    ["/%2e%2E/me", "leads upwards"],
    ["/me#x", "a #"],
    ["/a b", "a space"],
    ["\\\\elsewhere", "a backslash"],
    [`/${"x".repeat(2001)}`, "length must be less"],
  ])("the path %s is refused", async (path, says) => {
    await expect(service.client.tryCall("try-plain-json", { path })).rejects.toThrow(says)
    expect(came).toHaveLength(0)
  })

  test.each<[string, Partial<{ status: number; type: string; body: string }>, string]>([
    [
      "HTML",
      { type: "text/html", body: "<html><script>alert(1)</script>\u001b[31m" },
      "<script>alert(1)</script>\\x1b[31m",
    ],
    ["a redirect", { status: 302, body: "" }, "302 after"],
    ["an error", { status: 500, body: '{"error":"on fire"}' }, '"error": "on fire"'],
    ["its own key", { body: '{"you":"json-key-1"}' }, '"you": "•••"'],
    ["much", { type: "text/plain", body: "x".repeat(300_000) }, "(the first 100000 of 300000 characters)"],
  ])("an answer that is %s is shown as it came", async (_what, given, says) => {
    answer = { ...answer, ...given }
    const { out } = await wobbet("call", "try-plain-json", "GET", "/odd")
    expect(out).toContain(says)
    expect(out).not.toContain("\u001b[31m")
    expect(came).toHaveLength(1)
  })

  test("the page does the same: it shows a request that may change something before it is made, and says something", async () => {
    const { page, faults } = await startBrowser()
    await signIn(page, service.address, service.token)
    await page.goto(`${service.address}/channels/try-telegram/try`)
    await page.getByRole("button", { name: "Call it" }).click()
    await page.getByText('"id": "me-1"').waitFor()
    expect(came.map(({ url }) => url)).toEqual(["/base/bot123456:AbCdEfGhIjKlMnOp/getMe"])
    expect(await page.content()).not.toContain("AbCdEfGhIjKlMnOp")
    await page.getByLabel("The call").selectOption("sendMessage")
    await page.getByLabel("Value of text").fill("hello")
    await page.getByRole("button", { name: "Show the request" }).click()
    await page.getByText('"text": "hello"').waitFor()
    expect(came).toHaveLength(1)
    answer = { status: 400, type: "application/json", body: '{"description":"no chat \u202egpj"}' }
    await page.getByRole("button", { name: "it may change something" }).click()
    await page.getByText("✕ 400").waitFor()
    // What turns the direction of writing around is shown, not done.
    expect(await page.content()).not.toContain("\u202e")
    expect(came[1]).toMatchObject({ method: "POST", url: "/base/bot123456:AbCdEfGhIjKlMnOp/sendMessage" })

    await page.goto(`${service.address}/channels/say-telegram/try`)
    await page.getByLabel("What a made-up person says").fill("say from the page")
    await page.getByRole("button", { name: "Say it" }).click()
    await page.getByText("The reply is captured.").waitFor()
    await page.getByRole("link", { name: "Its passage" }).click()
    await page.getByText("you said from the page").first().waitFor()
    await page.goto(`${service.address}/conversations`)
    await page.getByText("you said from the page").first().click()
    const ledger = page.getByLabel("Ledger")
    await ledger.getByText("simulated", { exact: true }).first().waitFor()
    expect(faults).toEqual([])
  }, 60_000)

  test("what is not known is said, with what there is", async () => {
    expect((await wobbet("call", "try-telegram", "groups")).err).toContain("has no call that lists groups")
    expect((await wobbet("call", "try-slack", "record")).err).toContain("in the app's own pages")
    expect((await wobbet("call", "try-plain-json", "dance")).err).toContain("has no call")
    expect((await wobbet("call", "try-plain-json", "GET")).err).toContain("followed by no path")
    expect((await wobbet("call", "try-plain-json", "/x", "y")).err).toContain("not field=value")
    expect((await wobbet("call", "try-whatsapp", "media")).err).toContain("needs media_id")
    expect((await wobbet("call", "try-slack")).out).toMatch(/auth\.test +me +GET +who the token belongs to/)
  })
})
