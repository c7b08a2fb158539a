import { createHmac } from "node:crypto"
import type { IncomingMessage, ServerResponse } from "node:http"
import { createServer } from "node:http"
import type { KindStage } from "./support/kinds.ts"
import { setKind } from "./support/kinds.ts"
import type { Service, ServiceProcess } from "./support/harness.ts"
import {
  endAll,
  eventually,
  freePort,
  pause,
  run,
  start,
  startProcess,
  startService,
  tempFolder,
} from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"
import { Client } from "../src/client/client.ts"
import type { CheckLine } from "../src/client/types.ts"
import type { WhatsAppStandin } from "../src/standins/whatsapp/server.ts"
import type { SmsStandin } from "../src/standins/sms/server.ts"
import type { SlackStandin } from "../src/standins/slack/server.ts"

let service: Service
const stages: KindStage[] = []
const endings: (() => unknown)[] = []

beforeAll(async () => {
  service = await startService({ bot: tempFolder(quayBot) })
})

afterAll(async () => {
  for (const stage of stages) await stage.stop()
  for (const end of endings) await end()
  await endAll()
})

async function on(kind: string): Promise<KindStage> {
  const stage = await setKind(service, kind)
  stages.push(stage)
  return stage
}

/** Something that listens on loopback in place of the service. */
async function instead(answer: (request: IncomingMessage, response: ServerResponse) => void): Promise<string> {
  const server = createServer(answer)
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  endings.push(() => server.close())
  return `http://127.0.0.1:${(server.address() as { port: number }).port}`
}

/** A proxy before the service, which changes the path. */
const proxy = (change: (path: string) => string) =>
  instead((request, response) => {
    const headers = request.headers as { [name: string]: string }
    void fetch(service.address + change(request.url!), { headers: { ...headers, host: "127.0.0.1" } }).then(
      async (answer) => {
        response.writeHead(answer.status, Object.fromEntries(answer.headers))
        response.end(await answer.text())
      },
    )
  })

const wrong = async (key: string): Promise<CheckLine & { after: string[] }> => {
  const { ok, lines } = await service.client.checkChannel(key)
  expect(ok).toBe(false)
  const at = lines.findIndex((line) => line.mark === "wrong")
  // What stands before it is right, what comes after it is left.
  expect(lines.slice(0, at).every((line) => line.mark === "right" || line.mark === "open")).toBe(true)
  return { ...lines[at]!, after: lines.slice(at + 1).map((line) => line.mark) }
}

describe("is it connected? A channel that is broken in one of many ways says which", () => {
  let whatsapp: KindStage
  let slack: KindStage
  const set = (stage: KindStage, settings: object) => service.client.changeChannel(stage.key, { settings })
  const world = () => (whatsapp.standin as unknown as WhatsAppStandin).world
  const said = new Set<string>()

  beforeAll(async () => {
    whatsapp = await on("whatsapp")
    slack = await on("slack")
    await whatsapp.says("say first")
    // What the provider tells of the answer has come, too: nothing more is under way while the address is another.
    await eventually(
      async () => (await whatsapp.messages({ direction: "out", status: "read" })).items[0],
      "the answer to be read",
    )
  })

  const cases: [string, CheckLine["about"], string, () => Promise<[KindStage, () => Promise<unknown>]>][] = [
    [
      "a key that is refused",
      "keys",
      "WhatsApp no longer lets this channel in",
      async () => {
        const { token } = world()
        world().token = "renewed"
        return [whatsapp, async () => void (world().token = token)]
      },
    ],
    [
      "a provider that is not there",
      "keys",
      "could not be reached",
      async () => {
        const { apiBase } = (await service.client.channel(whatsapp.key)).settings
        const { token: accessToken, appSecret } = world()
        const secrets = { accessToken, appSecret }
        const move = (to: unknown) => service.client.changeChannel(whatsapp.key, { settings: { apiBase: to }, secrets })
        await move(`http://127.0.0.1:${await freePort()}`)
        return [whatsapp, () => move(apiBase)]
      },
    ],
    [
      "a permission that is missing",
      "permissions",
      "the keys lack whatsapp_business_messaging",
      async () => {
        const kept = world().permissions.splice(0)
        world().permissions.push("whatsapp_business_management")
        return [whatsapp, async () => void world().permissions.splice(0, 9, ...kept)]
      },
    ],
    [
      "a scope that is missing",
      "permissions",
      "the keys lack chat:write",
      async () => {
        const { scopes } = (slack.standin as unknown as SlackStandin).world
        const kept = scopes.splice(0)
        scopes.push("im:history")
        return [slack, async () => void scopes.splice(0, 99, ...kept)]
      },
    ],
    [
      "no subscription at all",
      "address on record",
      "No app is subscribed",
      async () => {
        const { hook } = world()
        world().hook = undefined
        return [whatsapp, async () => void (world().hook = hook)]
      },
    ],
    [
      "another address on record",
      "address on record",
      "WhatsApp has http://elsewhere.example/in/x on record",
      async () => {
        const { hook } = world()
        world().hook = { url: "http://elsewhere.example/in/x", verifyToken: "x" }
        return [whatsapp, async () => void (world().hook = hook)]
      },
    ],
    [
      "a name that does not exist",
      "way in",
      "the name quay.invalid is not known",
      () => publicly("http://quay.invalid"),
    ],
    [
      "an address where nobody listens",
      "way in",
      "nothing listens at 127.0.0.1",
      async () => publicly(`http://127.0.0.1:${await freePort()}`),
    ],
    [
      "an address where something else answers",
      "way in",
      "something else answers at",
      async () =>
        publicly(
          await instead((_request, response) => response.setHeader("server", "a shop").end("<title>Shop</title>")),
        ),
    ],
    [
      "a way that changes the path",
      "way in",
      "leads to this service, but not to this inlet",
      async () => publicly(await proxy((path) => `/hooks${path}`)),
    ],
    [
      "a redirection",
      "way in",
      "is redirected to https://else.example/",
      async () =>
        publicly(
          await instead((_request, response) => response.writeHead(301, { location: "https://else.example/" }).end()),
        ),
    ],
    [
      "a plain port that is called with https",
      "way in",
      "does not speak https",
      async () => publicly(service.address.replace("http:", "https:")),
    ],
    [
      "another Wobbet",
      "way in",
      "another Wobbet service answers",
      async () => publicly(await instead((_request, response) => response.setHeader("x-wobbet-proof", "00").end())),
    ],
    [
      "calls that are all refused",
      "calls",
      "was refused: the signature does not match the body under this channel's appSecret. It would match with a line end behind our appSecret",
      async () => {
        const body = '{"object":"whatsapp_business_account","entry":[]}'
        const signature = createHmac("sha256", `${world().appSecret}\n`).update(body).digest("hex")
        const call = () =>
          fetch(`${service.address}/in/${whatsapp.key}`, {
            method: "POST",
            headers: { "x-hub-signature-256": `sha256=${signature}` },
            body,
          })
        // One alone may be anybody's guess.
        await call()
        await eventually(async () => (await service.client.channel(whatsapp.key)).lastRefused, "the refused call")
        const { ok, lines } = await service.client.checkChannel(whatsapp.key)
        expect([ok, lines.find((line) => line.about === "calls")]).toMatchObject([
          true,
          {
            mark: "open",
            says: expect.stringMatching(/^the last genuine call came .*; one call was refused since: /) as unknown,
            passage: expect.stringMatching(/^itk_/) as unknown,
          },
        ])
        for (let n = 0; n < 2; n++) await call()
        return [whatsapp, async () => (await whatsapp.says("say again"), await whatsapp.answered(2))]
      },
    ],
    [
      "a number that may not send",
      "account",
      "WhatsApp says the number is BANNED",
      async () => {
        world().state = "BANNED"
        return [whatsapp, async () => void (world().state = "CONNECTED")]
      },
    ],
    [
      "a channel that is paused",
      "account",
      "the channel is paused",
      async () => {
        await service.client.pauseChannel(whatsapp.key)
        return [whatsapp, () => service.client.resumeChannel(whatsapp.key)]
      },
    ],
  ]

  /** The channel as it is, but reached under another public address; the record at the provider agrees with it. */
  async function publicly(publicUrl: string): Promise<[KindStage, () => Promise<unknown>]> {
    const hook = world().hook!
    await set(whatsapp, { publicUrl })
    world().hook = { ...hook, url: `${publicUrl}/in/${whatsapp.key}` }
    return [
      whatsapp,
      async () => {
        world().hook = hook
        await set(whatsapp, { publicUrl: null })
      },
    ]
  }

  test.each(cases)("%s", async (_what, about, says, breakIt) => {
    const [stage, fix] = await breakIt()
    try {
      const line = await wrong(stage.key)
      expect(line).toMatchObject({
        about,
        says: expect.stringContaining(says) as unknown,
        remedy: expect.stringMatching(/\w{3}/) as unknown,
      })
      expect(line.after.every((mark) => mark === "left")).toBe(true)
      // No two of them say the same.
      expect(said).not.toContain(line.says)
      said.add(line.says)
    } finally {
      await fix()
    }
  })

  test.each([
    ["bot", { bot: "nobody" }, 'there is no bot "nobody" on the lane "live"'],
    ["lane", { lane: "nowhere" }, 'there is no bot on the lane "nowhere"'],
  ])(
    "a %s that nobody has loaded: said in check, show and change, and an empty setting brings back the usual",
    async (name, settings, says) => {
      const changed = await run(
        ["channel", "change", whatsapp.key, "--set", `${name}=${Object.values(settings)[0]}`],
        service.env,
      )
      expect(changed.out).toMatch(/Nobody answers \S+: no bot .*is known on the lane/)
      expect((await run(["channel", "show", whatsapp.key], service.env)).out).toContain("Nobody answers")
      expect(await wrong(whatsapp.key)).toMatchObject({ about: "bot", says: expect.stringContaining(says) as unknown })
      await whatsapp.says(`say is anybody there about the ${name}`)
      const found = async (text: string) =>
        (await service.client.messages({ channel: whatsapp.key, text, direction: "in" })).items[0]
      const alone = await eventually(async () => {
        const message = await found(`about the ${name}`)
        return message?.status === "unrouted" ? message : undefined
      }, "the message nobody answers")
      expect(alone.reason).toContain("no bot is published")
      const back = await run(["channel", "change", whatsapp.key, "--set", `${name}=`], service.env)
      expect(back.out).not.toContain("Nobody answers")
      expect(await service.client.channel(whatsapp.key)).toMatchObject({
        lane: "live",
        release: expect.any(String) as unknown,
      })
      await whatsapp.says(`say ${name} again`)
      await eventually(async () => (await found(`${name} again`))?.status === "handled", "the answer")
    },
  )

  test("and one that is not broken is right to the end, in the terminal too", async () => {
    const { code, out } = await run(["channel", "check", whatsapp.key], service.env)
    const [stops, byHand] = out.split("To be entered at the provider, by hand:")
    expect({ code, marks: stops!.match(/^[●✕○·] \w+/gm) }).toEqual({
      code: 0,
      marks: ["● keys", "● permissions", "● address", "● way", "● calls", "● account", "● bot"],
    })
    expect(byHand).toContain("Phone")
  })
})

describe("a signed call, sent again as something in between may have changed it", () => {
  const secret = "replay-secret"
  const word = "form-secret"
  beforeAll(async () => {
    await service.client.addChannel({
      kind: "sms",
      key: "replay",
      settings: { apiBase: "http://127.0.0.1:9", number: "+447700900999", accountId: "AC1", signatureHeader: "x-sig" },
      secrets: { authToken: word },
    })
    await service.client.addChannel({
      kind: "slack",
      key: "replay-desk",
      settings: { apiBase: "http://127.0.0.1:9" },
      secrets: { botToken: "xoxb-1", signingSecret: secret },
    })
  })

  const fields = "BodyhiFrom+447700900123MessageSidSM9"
  const formOf = (address: string) =>
    createHmac("sha1", word)
      .update(address + fields)
      .digest("base64")
  const slackOf = (body: string, time: number, key = secret) => ({
    "x-slack-request-timestamp": String(time),
    "x-slack-signature": `v0=${createHmac("sha256", key).update(`v0:${time}:${body}`).digest("hex")}`,
  })
  const now = () => Math.floor(Date.now() / 1000)
  const event = '{"type":"event_callback","event":{"text":"Höfn"}}'

  test.each<[string, string, () => { headers: { [name: string]: string }; body: string }, string]>([
    [
      "the scheme",
      "replay",
      () => form(service.address.replace("http:", "https:") + "/in/replay"),
      "https instead of http",
    ],
    ["a slash", "replay", () => form(`${service.address}/in/replay/`), "with a slash at the end"],
    ["the port", "replay", () => form("http://127.0.0.1/in/replay"), "without the port"],
    [
      "the secret",
      "replay-desk",
      () => ({ headers: slackOf(event, now(), word), body: event }),
      "under the authToken of the channel replay",
    ],
    [
      "the clock",
      "replay-desk",
      () => ({ headers: slackOf(event, now() - 420), body: event }),
      "yours is 7 minutes ahead",
    ],
    ["line ends", "replay-desk", () => ({ headers: slackOf("a\nb", now()), body: "a\r\nb" }), "line ends of Unix"],
    [
      "the encoding",
      "replay-desk",
      () => ({ headers: slackOf(event.replace("ö", "\\u00f6"), now()), body: event }),
      "characters outside ASCII escaped",
    ],
  ])("%s: the caller sees an empty 401, the operator the cause", async (_what, key, make, says) => {
    const before = (await service.client.passages({ channel: key, genuine: false, limit: 1 })).items[0]?.id ?? ""
    const { headers, body } = make()
    const answer = await fetch(`${service.address}/in/${key}`, { method: "POST", headers, body })
    expect([answer.status, await answer.text()]).toEqual([401, ""])
    const [last] = await eventually(async () => {
      const { items } = await service.client.passages({ channel: key, genuine: false, limit: 1 })
      return items[0] && items[0].id > before ? items : undefined
    }, "the refused call")
    const passage = await service.client.passage(last!.id)
    expect(passage.intake!.verdict).toMatchObject({ near: expect.stringContaining(says) as unknown })
    expect(passage.stops[1]).toMatchObject({
      stop: "verified",
      state: "stopped",
      why: expect.stringContaining(says) as unknown,
    })
    for (const one of [secret, word]) expect(JSON.stringify(passage)).not.toContain(one)
  })

  test("the terminal says it too", async () => {
    const [last] = (await service.client.passages({ channel: "replay", genuine: false, limit: 1 })).items
    expect((await run(["passage", last!.id], service.env)).out).toMatch(/A near miss: It would match for the address/)
  })

  function form(address: string) {
    return {
      headers: { "content-type": "application/x-www-form-urlencoded", "x-sig": formOf(address) },
      body: "Body=hi&From=%2B447700900123&MessageSid=SM9",
    }
  }

  test("a flood of forged calls is counted, and only some are kept", async () => {
    await service.client.addChannel({ kind: "telegram", key: "flooded", secrets: { token: "123456:AbCdEfGhIjKlMnOp" } })
    for (let round = 0; round < 20; round++)
      await Promise.all(
        Array.from({ length: 20 }, () =>
          fetch(`${service.address}/in/flooded`, {
            method: "POST",
            headers: { "x-telegram-bot-api-secret-token": "guess" },
            body: "{}",
          }),
        ),
      )
    await new Promise((resolve) => setTimeout(resolve, 1500))
    const { items } = await service.client.passages({ channel: "flooded", genuine: false, limit: 200 })
    expect(items.length).toBeGreaterThan(40)
    expect(items.length).toBeLessThan(80)
  })
})

describe("without a public address", () => {
  let near: ServiceProcess
  let stage: KindStage
  let token: string
  const bring = (more: string[] = []) =>
    start(
      ["bring", "--from", service.address, "--channel", stage.key, ...more],
      { ...near.env, WOBBET_BRING_TOKEN: token },
      /Fetching the calls/,
    )
  const far = () => service.client.channel(stage.key)

  beforeAll(async () => {
    near = await startProcess({ bot: tempFolder(quayBot) })
    stage = await on("sms by plain-json")
    const { world } = stage.standin as unknown as SmsStandin
    // What is counted here are the calls that bring texts.
    world.reporting = false
    const { publicUrl, apiBase, number, profile } = (await far()).settings
    await near.client.addChannel({
      kind: "sms",
      key: stage.key,
      settings: { publicUrl, apiBase, number, profile },
      secrets: { apiKey: world.key, signingSecret: world.secret },
    })
    token = (await service.client.makeToken("laptop", "bring", stage.key)).token
  })

  test("calls are brought from the service that is reached, and answered here", async () => {
    const bringing = await bring()
    await eventually(async () => (await far()).bringing, "the far side to know")
    await stage.says("count")
    expect((await stage.answered(1)).map((one) => one.text)).toEqual(["count 1"])
    expect((await near.client.messages({ channel: stage.key })).items).toHaveLength(2)
    expect((await service.client.messages({ channel: stage.key })).items).toEqual([])
    const shown = await run(["channel", "show", stage.key], service.env)
    expect(shown.out).toMatch(/brought to laptop[^]*its calls wait for laptop, who has taken \d/)
    const kept = (await service.client.passages({ channel: stage.key })).items[0]!
    expect((await service.client.passage(kept.id)).intake!.notes).toContainEqual(
      expect.stringContaining("kept for laptop"),
    )
    await bringing.stop("SIGKILL")
  })

  test("cut, and with the near side down for a while, they are kept in their order; none is lost, none is doubled", async () => {
    for (let n = 2; n <= 4; n++) await stage.says("count")
    await eventually(async () => (await far()).bringing!.waiting === 3, "three calls to wait")
    const bringing = await bring()
    await stage.answered(4)
    await near.stop("SIGKILL")
    for (let n = 5; n <= 7; n++) await stage.says("count")
    near = await startProcess({
      bot: tempFolder(quayBot),
      home: near.home,
      database: near.env.DATABASE_URL!,
      port: Number(near.env.WOBBET_PORT),
    })
    const texts = (await stage.answered(7)).map((one) => one.text)
    expect(texts).toEqual([1, 2, 3, 4, 5, 6, 7].map((n) => `count ${n}`))
    await bringing.stop("SIGKILL")
    // Given out, taken, and never confirmed: it comes again, and is known.
    const again = await bring()
    await stage.says("count")
    await stage.answered(8)
    await pause(800)
    expect(stage.seen().map((one) => one.text)).toEqual([1, 2, 3, 4, 5, 6, 7, 8].map((n) => `count ${n}`))
    expect(again.said()).not.toContain("✕")
    await again.stop("SIGINT")
  })

  test("once it has ended, the far side answers itself again", async () => {
    await eventually(async () => (await far()).bringing === undefined, "the far side to know")
    await stage.says("count")
    expect((await stage.answered(9)).at(-1)!.text).toBe("count 1")
  })

  test("what was never given out is answered there, when nobody fetches any more", async () => {
    const client = new Client(service.address, token)
    await client.fetchCalls(stage.key, 0)
    await stage.says("count")
    await eventually(async () => (await far()).bringing?.waiting === 1, "the call to wait")
    expect(await client.stopFetching(stage.key)).toEqual({ handled: 1 })
    expect((await stage.answered(10)).at(-1)!.text).toBe("count 2")
    const { items } = await service.client.messages({ channel: stage.key, direction: "in" })
    const calls = await Promise.all(items.map(async (item) => (await service.client.passage(item.id)).intake!))
    expect(calls.flatMap((call) => call.notes)).toEqual([expect.stringContaining("went before it took this one")])
  })

  test("the token opens nothing but this channel's calls", async () => {
    const limited = new Client(service.address, token)
    await expect(limited.channels()).rejects.toThrow("valid only for fetching the calls of")
    await expect(limited.fetchCalls("replay", 0)).rejects.toThrow("valid only for fetching the calls of")
    await expect(
      limited.giveCall(stage.key, { id: "itk_1", method: "POST", address: "/", headers: {}, body: "", receivedAt: "" }),
    ).rejects.toThrow()
    await expect(limited.live(new AbortController().signal).next()).rejects.toThrow("may not read")
    const other = await run(
      ["bring", "--from", service.address, "--channel", "replay", "--to", stage.key, "--token", token],
      near.env,
    )
    expect(other).toMatchObject({
      code: 1,
      err: expect.stringContaining("valid only for fetching the calls of") as unknown,
    })
  })
})
